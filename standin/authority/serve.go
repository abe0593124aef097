package authority

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/statement"
)

// Scenario is how a stand-in authority begins and where it listens.
type Scenario struct {
	Dir       string               `json:"dir"`
	Name      string               `json:"name"`
	Address   string               `json:"address"`
	Socket    string               `json:"socket"` // for steering
	Standings []authority.Standing `json:"standings"`
	Taken     []string             `json:"taken"`
	ClockBy   time.Duration        `json:"clock_by"`
	Crews     []Seed               `json:"crews"`
	Signs     []Signed             `json:"signs"` // what it has signed before
}

// Signed is a grant or a debug token that an authority has signed before.
type Signed struct {
	Kind      statement.Kind      `json:"kind"`
	Statement statement.Statement `json:"statement"`
}

// Addresses are where an authority is reached.
type Addresses struct {
	Authority string `json:"authority"`
	Socket    string `json:"socket"`
	Root      []byte `json:"root"` // certificate in DER by which its TLS is trusted
	// Checker is how devices check what it has signed.
	Checker statement.Authority `json:"checker"`
	// Signed are what it has signed before, in the order of the scenario.
	Signed []string `json:"signed"`
}

// Methods of the steering socket.
const (
	MethodMode  = "mode"       // sets the mode by {mode}, and answers with the one that is set; "" sets none
	MethodClock = "clock.move" // moves the clock by {by}
	MethodOut   = "sign-out"   // signs an account out everywhere, by {account}
)

// Steer holds the parameters of all methods.
type Steer struct {
	Mode    Mode   `json:"mode,omitempty"`
	By      string `json:"by,omitempty"`
	Account string `json:"account,omitempty"`
}

// ErrMode is the error for a mode that does not exist.
var ErrMode = errors.New("there is no such mode: use well, slow, busy, down, dead or nonsense")

// Serve runs an authority until ctx ends. It calls started once it answers.
func Serve(ctx context.Context, sc Scenario, started func(Addresses) error) error {
	moved := &clock.Moved{}
	moved.Move(sc.ClockBy)
	a, err := Start(ctx, Config{Dir: sc.Dir, Address: sc.Address, Name: sc.Name, Standings: sc.Standings, Taken: sc.Taken, Crews: sc.Crews, Clock: moved})
	if err != nil {
		return err
	}
	end, err := a.steered(sc.Socket)
	if err != nil {
		return errors.Join(err, a.Close())
	}
	defer end()
	at := Addresses{Authority: a.URL(), Socket: sc.Socket, Root: a.ca.root.Raw, Checker: a.Checker()}
	for _, s := range sc.Signs {
		s.Statement.Kind = s.Kind
		text, err := a.Signs(s.Statement)
		if err != nil {
			return errors.Join(err, a.Close())
		}
		at.Signed = append(at.Signed, text)
	}
	if err := started(at); err != nil {
		return errors.Join(err, a.Close())
	}
	<-ctx.Done()
	return a.Close()
}

// steered answers on a socket.
func (a *Authority) steered(socket string) (end func(), err error) {
	os.Remove(socket) //nolint:errcheck // a leftover of one that was killed
	l, err := net.Listen("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("authority: steering socket: %w", err)
	}
	return rpc.Serve(l, a.steer), nil
}

func (a *Authority) steer(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
	p, err := rpc.Decode[Steer](params)
	if err != nil {
		return nil, err
	}
	switch method {
	case MethodMode:
		for _, m := range Modes {
			if p.Mode == m {
				a.Set(m)
			}
		}
		if p.Mode != "" && a.Mode() != p.Mode {
			return nil, ErrMode
		}
		return Steer{Mode: a.Mode()}, nil
	case MethodClock:
		d, err := time.ParseDuration(p.By)
		if err != nil {
			return nil, err
		}
		return a.cfg.Clock.Move(d).UTC(), nil
	case MethodOut:
		return nil, a.SignOutEverywhere(p.Account)
	}
	return rpc.NoMethod(ctx, c, method, params)
}
