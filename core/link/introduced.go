package link

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/rpc"
)

// This file holds the device's side of an introduction (docs/formats/introduction.md).

// Begin holds the parameters of introduction.begin.
type Begin struct {
	Version    int    `json:"version"`
	Name       string `json:"name"`
	Commitment []byte `json:"commitment"`
}

// Begun is the answer to introduction.begin.
type Begun struct {
	Nonce  []byte                   `json:"nonce"`
	Device introduction.Description `json:"device"`
	Waits  int                      `json:"waits"` // for the person, in seconds
}

// Reveal holds the parameters of introduction.reveal.
type Reveal struct {
	Nonce []byte `json:"nonce"`
}

// paused holds the data of an error with the code CodePaused.
type paused struct {
	Seconds int `json:"seconds"`
}

// Introduced is an introduction on the device's side. Its methods are called in order.
type Introduced interface {
	// Device is what the device says of itself.
	Device() introduction.Description
	// Waits is for how long it waits for the person.
	Waits() time.Duration
	// Show shows the words.
	Show(words introduction.Words)
	// Offer asks the owner, as [Device.Ask] does.
	Offer(ctx context.Context, report func(device.Admittance))
	// Over is closed when the owner ends it on the device.
	Over() <-chan struct{}
	// End ends it, in whatever state it is; failed says that the owner was not asked.
	End(failed bool)
}

// ErrNotIntroduced is the error of a device that takes no visitors without a cable.
var ErrNotIntroduced = errors.New("this device cannot be introduced now")

// met is an introduction that was begun on a channel.
type met struct {
	Introduced
	visitor    device.Visitor
	commitment []byte
	nonce      []byte
	revealed   bool
	asked      bool
	ended      chan struct{}
	once       sync.Once
}

func (m *met) end(failed bool) {
	m.once.Do(func() {
		close(m.ended)
		m.End(failed)
	})
}

// untilAsked ends the introduction, and the channel, if the owner stops it or the time is over
// before the words were typed.
func (v *visited) untilAsked(m *met, conn *rpc.Conn) {
	late := time.NewTimer(m.Waits())
	defer late.Stop()
	select {
	case <-m.ended:
		return
	case <-m.Over():
	case <-late.C:
	}
	v.mu.Lock()
	asked := m.asked
	m.asked = true // it is too late from now on
	v.mu.Unlock()
	if !asked {
		m.end(true)
		conn.Close()
	}
}

// endIntroduction ends the introduction of the channel, if there is one.
func (v *visited) endIntroduction(failed bool) {
	v.mu.Lock()
	m := v.met
	v.mu.Unlock()
	if m != nil {
		m.end(failed)
	}
}

// broken ends the introduction because of a message that is not in order.
func (v *visited) broken(code int, text string) error {
	v.endIntroduction(true)
	return rpc.Errorf(code, "%s", text)
}

func (v *visited) begin(conn *rpc.Conn, params json.RawMessage) (any, error) {
	p, err := rpc.Decode[Begin](params)
	if err != nil {
		return nil, err
	}
	switch {
	case p.Version != introduction.Version:
		return nil, rpc.Errorf(rpc.CodeInvalidParams, "this device knows version %d of the introduction", introduction.Version)
	case len(p.Name) > introduction.MostText || len(p.Commitment) != introduction.NonceSize:
		return nil, rpc.Errorf(rpc.CodeInvalidParams, "the name or the commitment is too long or too short")
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.met != nil {
		return nil, rpc.Errorf(rpc.CodeFailed, "a session allows one introduction")
	}
	who := device.Visitor{Key: v.key, Number: v.number, Name: p.Name}
	in, err := v.body.Introduce(who)
	if err != nil {
		return nil, notIntroduced(err)
	}
	m := &met{Introduced: in, visitor: who, commitment: p.Commitment, nonce: make([]byte, introduction.NonceSize), ended: make(chan struct{})}
	_, _ = rand.Read(m.nonce) // it never fails
	v.met = m
	v.running.Go(func() { v.untilAsked(m, conn) })
	return Begun{Nonce: m.nonce, Device: in.Device(), Waits: int(in.Waits().Seconds())}, nil
}

// notIntroduced turns the reason why there is no introduction into an answer.
func notIntroduced(err error) error {
	if p, ok := errors.AsType[*introduction.PausedError](err); ok {
		e := rpc.Errorf(rpc.CodePaused, "%s", err)
		e.Data, _ = json.Marshal(paused{int((p.For + time.Second - 1) / time.Second)})
		return e
	}
	if errors.Is(err, introduction.ErrBusy) {
		return rpc.Errorf(rpc.CodeBusy, "%s", err)
	}
	return rpc.Errorf(rpc.CodeClosed, "%s", err)
}

func (v *visited) reveal(params json.RawMessage) error {
	p, err := rpc.Decode[Reveal](params)
	v.mu.Lock()
	m := v.met
	ready := m != nil && !m.revealed
	if ready {
		m.revealed = true
	}
	v.mu.Unlock()
	switch {
	case !ready:
		return v.broken(rpc.CodeFailed, "introduction.reveal is not the next message")
	case err != nil:
		return v.broken(rpc.CodeInvalidParams, err.Error())
	case introduction.Reveal(m.commitment, p.Nonce) != nil:
		return v.broken(rpc.CodeCommitment, introduction.ErrCommitment.Error())
	}
	m.Show(introduction.Exchange{BenchNonce: p.Nonce, DeviceNonce: m.nonce, SessionID: v.id, DeviceKey: v.own, BenchKey: v.key,
		Bench: m.visitor.Name, Device: m.Device()}.Words())
	return nil
}

func (v *visited) typed(ctx context.Context, conn *rpc.Conn) (any, error) {
	v.mu.Lock()
	m := v.met
	ready := m != nil && m.revealed && !m.asked
	if ready {
		m.asked = true
	}
	v.mu.Unlock()
	if !ready {
		return nil, v.broken(rpc.CodeFailed, "introduction.typed is not the next message, or is too late")
	}
	last, err := v.question(ctx, conn, m.Offer)
	a, _ := last.(device.Admittance)
	m.end(err != nil || a.State != device.Admitted && a.State != device.AdmitRefused)
	return last, err
}
