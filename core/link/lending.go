package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/core/rpc"
)

// This file holds both sides of letting others in on a device for a loan (docs/formats/lending.md).

// Lender is a [Device] on which a bench that its owner has admitted may let others in for a time.
type Lender interface {
	// Add lets a key in, on behalf of the bench with the key by.
	Add(by string, a device.Added) error
	// Drop ends that.
	Drop(by, key string)
	// Added returns what a bench has let in, after it has dropped what that has done in another epoch.
	Added(by string, epoch uint64) []device.Added
	// Lent returns the state of a key as one admitted for a loan, even if the owner has admitted it.
	Lent(key string) device.Admittance
	// Used notes what a key that was let in has done, or was refused.
	Used(key, what, about string, done bool)
	// Uses returns what the keys that a bench has let in have done, from the one after a number on, and a
	// channel that is closed when there is more.
	Uses(by string, after uint64) (all []device.Use, more <-chan struct{})
}

// lends are the methods of a bench that lends the device.
var lends = map[string]bool{MethodAdmitAdd: true, MethodAdmitDrop: true, MethodAdmitAdded: true, MethodAdmitUses: true}

// What the rights of a loan include. Whatever is named in neither is for a bench alone that the device's owner
// has admitted himself.
var (
	looks = map[string]bool{MethodDescribe: true, MethodFactsFollow: true, MethodApps: true, MethodStatements: true, MethodLogFollow: true, MethodAdmitWithdraw: true, channelScreen: true}
	uses  = map[string]bool{MethodAppOffer: true, MethodAppSwitch: true, MethodAppStart: true, MethodAppStop: true, MethodAppRemove: true, MethodPut: true, MethodDrop: true, MethodStatus: true,
		MethodFind: true, "session": true, channelPort: true}
)

// permits reports whether rights include a method or a kind of channel.
func permits(r device.Rights, what string) bool {
	switch r {
	case device.RightsAll:
		return true
	case device.RightsUse:
		return looks[what] || uses[what]
	case device.RightsLook:
		return looks[what]
	}
	return false
}

func notLent(r device.Rights, what string) string {
	return fmt.Sprintf("the right of this loan is %s, which does not include %s", r, what)
}

// mayCall reports whether a method may be called, and has it noted where it is one of a loan.
func (s *served) mayCall(r device.Rights, method string, params json.RawMessage) bool {
	may := permits(r, method)
	if r != device.RightsAll {
		ref, err := rpc.Decode[AppRef](params)
		if err != nil {
			ref = AppRef{}
		}
		s.used(method, ref.ID, may)
	}
	return may
}

// mayOpen is mayCall for a channel.
func (s *served) mayOpen(r device.Rights, kind string) bool {
	may := permits(r, kind)
	if r != device.RightsAll {
		s.used(kind, "", may)
	}
	return may
}

func (s *served) used(what, about string, done bool) {
	if of, ok := s.body.(Lender); ok {
		of.Used(s.key, what, about, done)
	}
}

// screen is the screen as a loan has it: without the right to use the device it is only seen.
func (s *served) screen(r device.Rights) rfb.Source {
	if r == device.RightsLook {
		return seen{s.body.Screen()}
	}
	return s.body.Screen()
}

// seen is a screen that takes no input.
type seen struct{ rfb.Source }

func (seen) Pointer(int, int, uint8) {}
func (seen) Key(uint32, bool)        {}

// endsEvery is how often it is looked whether a loan has ended: its sessions are cut within a second.
const endsEvery = 250 * time.Millisecond

// endsWithLoan ends the link of a key that was let in for a loan when that ends.
func (s *served) endsWithLoan(end func()) {
	if _, ok := s.body.(Lender); !ok {
		return
	}
	t := time.NewTicker(endsEvery)
	defer t.Stop()
	for lent := false; ; {
		a := s.admission()
		admitted := a.State == device.Admitted
		if lent && !admitted {
			end()
			return
		}
		lent = lent || admitted && a.Rights != device.RightsAll
		select {
		case <-s.ctx.Done():
			return
		case <-t.C:
		}
	}
}

// ref names a key.
type ref struct {
	Key string `json:"key"`
}

// since holds the parameters of admit.added and admit.uses.
type since struct {
	Epoch uint64 `json:"epoch,omitempty"`
	After uint64 `json:"after,omitempty"`
}

// lending answers the methods of a bench that lends the device.
func (s *served) lending(ctx context.Context, conn *rpc.Conn, method string, params json.RawMessage) (any, error) {
	of, ok := s.body.(Lender)
	if !ok {
		return rpc.NoMethod(ctx, conn, method, params)
	}
	switch method {
	case MethodAdmitAdd:
		a, err := rpc.Decode[device.Added](params)
		if err != nil {
			return nil, err
		}
		return nil, s.add(of, a)
	case MethodAdmitDrop:
		r, err := rpc.Decode[ref](params)
		if err != nil {
			return nil, err
		}
		of.Drop(s.key, r.Key)
		return nil, nil
	}
	from, err := rpc.Decode[since](params)
	switch {
	case err != nil:
		return nil, err
	case method == MethodAdmitAdded:
		return append([]device.Added{}, of.Added(s.key, from.Epoch)...), nil
	}
	for after := from.After; ; {
		all, more := of.Uses(s.key, after)
		for _, u := range all {
			after = u.Seq
			if err := conn.Notify(MethodAdmitUsed, u); err != nil {
				return nil, err
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-more:
		}
	}
}

// add checks what a bench lets in. One that the owner has admitted keeps that, and has the rights of the loan over the streams
// of the bench that lends.
func (s *served) add(of Lender, a device.Added) error {
	switch {
	case a.Rights != device.RightsLook && a.Rights != device.RightsUse:
		return rpc.Errorf(rpc.CodeInvalidParams, "%.40q is not a right of a loan", a.Rights)
	case a.Seconds < 1 || time.Duration(a.Seconds) > device.LongestLoan/time.Second:
		return rpc.Errorf(rpc.CodeInvalidParams, "%d seconds is not a valid length for a loan", a.Seconds)
	case a.Key == s.key || len(a.Key) > 100:
		return rpc.Errorf(rpc.CodeInvalidParams, "that key was not admitted for a loan")
	}
	return of.Add(s.key, a)
}

// another serves another link over a channel.
func (s *served) another(n ssh.NewChannel) {
	c, requests, err := n.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	serve(s.ctx, Conn(c), s.signer, s.body, true) //nolint:errcheck // whoever has set it up sees the end
}

// Lending is letting others in.
func (s *Session) Lending() (device.Lending, error) { return lending{s}, nil }

type lending struct{ *Session }

func (l lending) Add(ctx context.Context, a device.Added) error {
	return l.call(ctx, MethodAdmitAdd, a, nil)
}

func (l lending) Drop(ctx context.Context, key string) error {
	return l.call(ctx, MethodAdmitDrop, ref{key}, nil)
}

func (l lending) List(ctx context.Context, epoch uint64) ([]device.Added, error) {
	var all []device.Added
	err := l.call(ctx, MethodAdmitAdded, since{Epoch: epoch}, &all)
	return all, err
}

// Uses uses a channel of its own.
func (l lending) Uses(ctx context.Context, after uint64, take func(device.Use)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	told := make(chan device.Use)
	return l.follow(ctx, MethodAdmitUses, since{After: after}, func(method string, params json.RawMessage) {
		u, err := rpc.Decode[device.Use](params)
		if method != MethodAdmitUsed || err != nil {
			return
		}
		select {
		case told <- u:
		case <-ctx.Done():
		}
	}, func(ended <-chan error) error {
		defer cancel()
		for {
			select {
			case u := <-told:
				take(u)
			case err := <-ended:
				return err
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
	})
}

// Open begins another stream to the device.
func (l lending) Open(ctx context.Context) (io.ReadWriteCloser, error) {
	ch, err := l.open(ctx, channelStream, nil)
	if refused, ok := errors.AsType[*ssh.OpenChannelError](err); ok {
		return nil, fmt.Errorf("the device does not start another stream: %s", refused.Message)
	}
	if err != nil {
		return nil, err
	}
	return l.stream(ch), nil
}

// stream is a channel as a stream whose end here does not wait for the device to confirm it.
func (s *Session) stream(ch ssh.Channel) io.ReadWriteCloser {
	r, w := io.Pipe()
	s.run(func() {
		_, err := io.Copy(w, ch)
		w.CloseWithError(err)
	})
	return &carriedStream{r, ch}
}
