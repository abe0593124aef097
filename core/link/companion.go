package link

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
)

// This file holds both sides of reaching a device through another one (docs/formats/companion.md).

// Carrier is a [Device] through which others are reached.
type Carrier interface {
	// Companions returns what it hears, and a channel that is closed when that changes.
	Companions() (all []device.Companion, changed <-chan struct{})
	// Carry wakes one of them if it sleeps, and connects to it. An error is a sentence for
	// people, such as "it does not wake".
	Carry(ctx context.Context, name string) (io.ReadWriteCloser, error)
}

// What is taken of a device that carries others. What goes beyond is left out.
const (
	mostCompanions = 32
	mostName       = 64 // bytes
)

// streamTo holds what a bench sends with the channel to a companion.
type streamTo struct{ Name string }

// carried holds the parameters of the notification of what a device hears.
type carried struct {
	Companions []device.Companion `json:"companions"`
}

// Companions is the devices that are reached through this one.
func (s *Session) Companions() (device.Companions, error) { return companions{s}, nil }

type companions struct{ *Session }

// Follow is left out what has not been taken when there is something newer.
func (c companions) Follow(ctx context.Context, take func([]device.Companion)) error {
	latest := make(chan []device.Companion, 1)
	var mu sync.Mutex
	err := c.follow(ctx, MethodCompanionsFollow, nil, func(method string, params json.RawMessage) {
		told, err := rpc.Decode[carried](params)
		if method != MethodCompanions || err != nil {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		select {
		case <-latest:
		default:
		}
		latest <- bounded(told.Companions)
	}, func(ended <-chan error) error {
		for {
			select {
			case all := <-latest:
				take(all)
			case err := <-ended:
				return err
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
	})
	if e, ok := errors.AsType[*rpc.Error](err); ok && e.Code == rpc.CodeMethodNotFound {
		return &problem.Problem{Kind: problem.Unsupported, Text: "No other device can be reached through this one.", Remedy: "Connect to it in another way."}
	}
	return err
}

// longestSleep is for how long a companion is believed to have been asleep.
const longestSleep = 365 * 24 * time.Hour

// bounded is what is taken of what a device hears.
func bounded(told []device.Companion) []device.Companion {
	var out []device.Companion
	for _, c := range told {
		if len(out) == mostCompanions {
			break
		}
		if c.Name == "" || len(c.Name) > mostName || len(c.Family) > mostName {
			continue
		}
		c.Slept = max(0, min(c.Slept, int64(longestSleep/time.Second)))
		out = append(out, c)
	}
	return out
}

// Open connects to one of them.
func (c companions) Open(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	ch, err := c.open(ctx, channelCompanion, ssh.Marshal(streamTo{name}))
	if refused, ok := errors.AsType[*ssh.OpenChannelError](err); ok {
		return nil, &device.NotCarried{Text: refused.Message}
	}
	if err != nil {
		return nil, err
	}
	return c.stream(ch), nil
}

// carriedStream is a stream to a companion. Its end here does not wait for the device to confirm
// it, as that of a channel does.
type carriedStream struct {
	*io.PipeReader
	ch ssh.Channel
}

func (s *carriedStream) Write(p []byte) (int, error) { return s.ch.Write(p) }

func (s *carriedStream) Close() error {
	s.PipeReader.Close()
	return s.ch.Close()
}

// followCompanions sends what the device hears, at once and at every change.
func (s *served) followCompanions(ctx context.Context, of Carrier, notify func(method string, params any) error) error {
	for {
		all, changed := of.Companions()
		if err := notify(MethodCompanions, carried{append([]device.Companion{}, all...)}); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
}

// carry passes the bytes of a channel on to a companion, and back, as they are.
func (s *served) carry(n ssh.NewChannel) {
	of, ok := s.body.(Carrier)
	var to streamTo
	if !ok || ssh.Unmarshal(n.ExtraData(), &to) != nil {
		n.Reject(ssh.UnknownChannelType, "no other device can be reached through this one") //nolint:errcheck // nothing more to do
		return
	}
	c, err := of.Carry(s.ctx, to.Name)
	if err != nil {
		n.Reject(ssh.ConnectionFailed, err.Error()) //nolint:errcheck // as above
		return
	}
	s.join(n, c)
}

// join accepts a channel and passes its bytes on to c, and back, until either ends.
func (s *served) join(n ssh.NewChannel, c io.ReadWriteCloser) {
	defer c.Close()
	ch, requests, err := n.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	both(s.ctx, ch, c)
}

// both copies in both directions until one of them ends, and closes both.
func both(ctx context.Context, a, b io.ReadWriteCloser) {
	ctx, cancel := context.WithCancel(ctx)
	defer context.AfterFunc(ctx, func() { a.Close(); b.Close() })()
	var copying sync.WaitGroup
	for _, x := range [2][2]io.ReadWriteCloser{{a, b}, {b, a}} {
		copying.Go(func() {
			defer cancel()
			io.Copy(x[0], x[1]) //nolint:errcheck // the end of one is that of both
		})
	}
	copying.Wait()
	cancel()
}
