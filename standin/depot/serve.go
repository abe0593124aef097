package depot

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"earlybench.invalid/earlybench/core/depot"
	"earlybench.invalid/earlybench/core/rpc"
)

// Scenario is what a stand-in depot offers and where it listens.
type Scenario struct {
	Dir       string `json:"dir"`
	Name      string `json:"name"`
	Publisher string `json:"publisher"`
	Address   string `json:"address"`
	Socket    string `json:"socket"` // for steering
	Mode      Mode   `json:"mode"`
	Rate      int64  `json:"rate"` // bytes a second when it is slow
	Packs     []Pack `json:"packs"`
	Sets      []Set  `json:"sets"`
}

// Licence is a licence's name and text.
type Licence struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Pack is a support pack with generated content.
type Pack struct {
	depot.Pack
	Bytes   int64    `json:"bytes"`
	Digest  string   `json:"digest,omitempty"` // SHA-256 of its file, where that is known; "" has it computed, which takes seconds
	Licence *Licence `json:"licence"`
}

// Set is a driver set.
type Set struct {
	Offer   depot.Offer `json:"offer"`
	File    []byte      `json:"file"`
	Licence *Licence    `json:"licence"`
}

// Addresses are where a depot is reached.
type Addresses struct {
	Depot  string `json:"depot"`
	Socket string `json:"socket"`
}

// MethodMode sets the mode, by {mode}, and answers with the one that is set; "" sets none.
const MethodMode = "mode"

// Steer holds the parameters of MethodMode.
type Steer struct {
	Mode Mode `json:"mode"`
}

// Serve runs a depot until ctx ends. It calls started once it answers.
func Serve(ctx context.Context, sc Scenario, started func(Addresses) error) error {
	keys, err := ReadKeys(sc.Dir, sc.Publisher)
	if err != nil {
		return err
	}
	goods, err := sc.goods()
	if err != nil {
		return err
	}
	d, err := Start(ctx, Config{Address: sc.Address, Name: sc.Name, Mode: sc.Mode, Rate: sc.Rate, TLS: keys.TLS, Signer: keys.Signer, Key: keys.Key, Made: time.Now().UTC(), Goods: goods})
	if err != nil {
		return err
	}
	end, err := d.steered(sc.Socket)
	if err != nil {
		return errors.Join(err, d.Close())
	}
	if err := started(Addresses{Depot: d.Address(), Socket: sc.Socket}); err != nil {
		end()
		return errors.Join(err, d.Close())
	}
	<-ctx.Done()
	end()
	return d.Close()
}

// goods are what the scenario offers.
func (sc *Scenario) goods() ([]Goods, error) {
	var out []Goods
	for _, p := range sc.Packs {
		g, err := Generate(p.Pack, p.Bytes)
		if err != nil {
			return nil, err
		}
		sum := p.Digest
		if sum == "" {
			if sum, err = g.Digest(); err != nil {
				return nil, err
			}
		}
		g.digest = func() (string, error) { return sum, nil }
		goods := Goods{Offer: p.Offer(sum, g.Size()), File: g}
		goods.licensed(p.Licence)
		out = append(out, goods)
	}
	for _, s := range sc.Sets {
		goods := Goods{Offer: s.Offer, File: Bytes(s.File)}
		goods.licensed(s.Licence)
		out = append(out, goods)
	}
	return out, nil
}

func (g *Goods) licensed(l *Licence) {
	if l != nil {
		g.Offer.Licence, g.Licence = &depot.Licence{Name: l.Name}, l.Text
	}
}

// steered answers on a socket.
func (d *Depot) steered(socket string) (end func(), err error) {
	os.Remove(socket) //nolint:errcheck // a leftover of one that was killed
	l, err := net.Listen("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("depot: steering socket: %w", err)
	}
	return rpc.Serve(l, d.steer), nil
}

func (d *Depot) steer(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
	if method != MethodMode {
		return rpc.NoMethod(ctx, c, method, params)
	}
	p, err := rpc.Decode[Steer](params)
	if err != nil {
		return nil, err
	}
	for _, m := range Modes {
		if p.Mode == m {
			d.Set(m)
		}
	}
	if p.Mode != "" && d.Mode() != p.Mode {
		return nil, ErrMode
	}
	return Steer{Mode: d.Mode()}, nil
}
