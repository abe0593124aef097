package demo

import (
	"context"
	"crypto/rand"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"earlybench.invalid/earlybench/client"
	core "earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin/authority"
)

// standings are those of the demo's authority.
var standings = []core.Standing{
	{Name: "starter", Places: 5, GrantDays: 21, CertificateDays: 60, Lacks: []string{"background positions"}, Costs: "Free of charge",
		Alone: "The bench renews what ends, ahead of time."},
	{Name: "full", Places: 60, GrantDays: 150, CertificateDays: 365, Lacks: []string{}, Costs: "40 crowns a year", Days: 365,
		Alone: "The bench renews what ends, ahead of time. It becomes starter if a year is not paid; devices beyond five then leave the register."},
}

// crewPassword is that of the account that the demo's crew has at the stand-in authority.
const crewPassword = "fog-and-fell"

// startAuthority starts the stand-in authority.
func (d *demo) startAuthority() (at authority.Addresses, err error) {
	sc := authority.Scenario{Dir: filepath.Join(d.cfg.State, "standins", "authority"), Name: "Fell Authority", Address: fmt.Sprintf("127.0.0.1:%d", d.ports[6]),
		Socket: state.Socket(d.cfg.State, "authority"), Standings: standings, Taken: []string{"fellgate/rota", "fellgate/pager"}, ClockBy: d.clockBy(),
		Crews: []authority.Seed{{Account: "rowan", Name: "Rowan Thwaite", Password: crewPassword, Crew: "fellgate", Number: crewNumber, Standing: "full", Serials: map[string]string{"OH W 3127": "WO"}}}}
	if !d.cfg.Few {
		if sc.Signs, err = signedBefore(time.Now().Add(d.clockBy())); err != nil {
			return at, err
		}
	}
	if d.authority, err = spawn(d.cfg.Err, sc, &at, "standin", "serve-authority"); err != nil {
		return at, fmt.Errorf("start the stand-in authority: %w", err)
	}
	return at, nil
}

// holders are the devices that hold what signedBefore returns, in that order.
var holders = []string{"kestle-6", "whimbrel-2"}

// held are the statements that devices hold at first, by name.
func held(signed []string) map[string]string {
	out := map[string]string{}
	for i, text := range signed {
		out[holders[i]] = text
	}
	return out
}

// signedBefore is what the authority has signed before the demo begins: the debug token of another
// developer on kestle-6, and on whimbrel-2 the grant for an identity whose key was on the computer
// before this one; it ended yesterday.
func signedBefore(now time.Time) ([]authority.Signed, error) {
	token := statement.Statement{Subject: "harbour/linnet", App: "harbour/tides", Devices: []string{"K 2 10063"}, Debug: true, Features: []string{},
		Made: now.AddDate(0, 0, -16).Unix(), Begins: now.AddDate(0, 0, -16).Unix(), Ends: now.AddDate(0, 0, 5).Unix(), ID: rand.Text()}
	grant := statement.Statement{Subject: "fellgate/rowan", App: statement.Any, Devices: []string{"OH W 3127"}, Debug: true, Features: []string{},
		Made: now.AddDate(0, 0, -151).Unix(), Begins: now.AddDate(0, 0, -151).Unix(), Ends: now.AddDate(0, 0, -1).Unix(), ID: rand.Text()}
	out := []authority.Signed{{Kind: statement.DebugToken, Statement: token}, {Kind: statement.Grant, Statement: grant}}
	for i := range out {
		key, err := developer.New()
		if err != nil {
			return nil, err
		}
		out[i].Statement.Confirmation.Thumbprint = key.Public().Thumbprint()
	}
	return out, nil
}

// addAuthority adds the stand-in authority to the bench, as its owner would.
func (d *demo) addAuthority(ctx context.Context, address string) error {
	known, err := d.client.Authorities(ctx)
	if err != nil {
		return fmt.Errorf("ask for the authorities: %w", err)
	}
	if slices.ContainsFunc(known, func(k client.Authority) bool { return k.URL == address }) {
		return nil
	}
	found, err := d.client.LookAtAuthority(ctx, address)
	if err != nil {
		return fmt.Errorf("look at the authority: %w", err)
	}
	for _, k := range known { // it has another port than last time
		if k.Root == found.Root {
			if err := d.client.DropAuthority(ctx, k.Name); err != nil {
				return err
			}
		}
	}
	if _, err := d.client.AddAuthority(ctx, client.NewAuthority{URL: address, Accept: found.Accept}); err != nil {
		return fmt.Errorf("add the authority: %w", err)
	}
	return nil
}
