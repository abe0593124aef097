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
		Alone: "What ends is asked for again by the bench, ahead of time."},
	{Name: "full", Places: 60, GrantDays: 150, CertificateDays: 365, Lacks: []string{}, Costs: "40 crowns a year", Days: 365,
		Alone: "What ends is asked for again by the bench, ahead of time. It becomes starter if a year is not paid; devices beyond five then leave the register."},
}

// crewPassword is that of the account that the demo's crew has at the stand-in authority.
const crewPassword = "fog-and-fell"

// startAuthority starts the stand-in authority.
func (d *demo) startAuthority() (at authority.Addresses, err error) {
	sc := authority.Scenario{Dir: filepath.Join(d.cfg.State, "standins", "authority"), Name: "Fell Authority", Address: fmt.Sprintf("127.0.0.1:%d", d.ports[6]),
		Socket: state.Socket(d.cfg.State, "authority"), Standings: standings, Taken: []string{"fellgate/rota", "fellgate/pager"}, ClockBy: d.clockBy(),
		Crews: []authority.Seed{{Account: "rowan", Name: "Rowan Thwaite", Password: crewPassword, Crew: "fellgate", Number: crewNumber, Standing: "full", Serials: map[string]string{"OH W 3127": "WO"}}}}
	if others, err := othersToken(time.Now().Add(d.clockBy())); err == nil && !d.cfg.Few {
		sc.Signs = []authority.Signed{others}
	} else if err != nil {
		return at, err
	}
	if d.authority, err = spawn(d.cfg.Err, sc, &at, "standin", "serve-authority"); err != nil {
		return at, fmt.Errorf("start the stand-in authority: %w", err)
	}
	return at, nil
}

// othersToken is the debug token of another developer that is on kestle-6 at first.
func othersToken(now time.Time) (authority.Signed, error) {
	key, err := developer.New()
	if err != nil {
		return authority.Signed{}, err
	}
	return authority.Signed{Kind: statement.DebugToken, Statement: statement.Statement{Subject: "harbour/linnet", Confirmation: statement.Confirmation{Thumbprint: key.Public().Thumbprint()},
		App: "harbour/tides", Devices: []string{"K 2 10063"}, Debug: true, Features: []string{}, Made: now.AddDate(0, 0, -16).Unix(), Begins: now.AddDate(0, 0, -16).Unix(),
		Ends: now.AddDate(0, 0, 5).Unix(), ID: rand.Text()}}, nil
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
