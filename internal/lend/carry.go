package lend

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/resume"
	"earlybench.invalid/earlybench/internal/store"
)

// This file carries the streams between a borrower and the device, over links of the peers that may break.

const (
	// Bridge is how long a stream outlasts the link between the peers that carries it.
	Bridge      = time.Minute
	openWithin  = 20 * time.Second
	mostStreams = 8 // of a loan
	mostNumber  = 40
)

// stream is a stream of a borrower, with the bytes that have passed.
type stream struct {
	*resume.Stream
	in, out atomic.Int64
}

// Stream accepts a stream of a borrower, or continues an existing one.
func (l *Lend) Stream(ctx context.Context, from store.Peer, to json.RawMessage) (func(context.Context, io.ReadWriteCloser), error) {
	which, err := decode[core.ToStream](to)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	one := l.loans[which.Loan]
	good := one != nil && one.of.Lent && one.of.PeerKey == from.Key && one.State == store.LoanActive && which.Stream != "" && len(which.Stream) <= mostNumber
	var s *stream
	full := false
	if good {
		s, full = one.streams[which.Stream], len(one.streams) >= mostStreams
	}
	l.mu.Unlock()
	switch {
	case !good:
		return nil, errors.New("there is no such loan, or it has ended")
	case s == nil && full:
		return nil, fmt.Errorf("there are %d streams already", mostStreams)
	case s == nil:
		if s, err = l.toDevice(ctx, one, which.Stream); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, c io.ReadWriteCloser) { s.Carry(ctx, c) }, nil //nolint:errcheck // the borrower carries it on, or it ends
}

// toDevice opens a stream to the device of a loan.
func (l *Lend) toDevice(ctx context.Context, one *loan, number string) (*stream, error) {
	d, err := l.openDevice(ctx, one)
	if err != nil {
		return nil, err
	}
	s := &stream{Stream: resume.New(Bridge)}
	l.mu.Lock()
	if one.State != store.LoanActive || l.ctx.Err() != nil || one.streams[number] != nil {
		l.mu.Unlock()
		s.Close()
		d.Close()
		return nil, errors.New("there is no such loan, or it has ended")
	}
	one.streams[number] = s
	l.work.Go(func() { l.pass(one, number, s, d) })
	l.mu.Unlock()
	return s, nil
}

// openDevice opens a connection to the device itself, or to the exporter of its USB.
func (l *Lend) openDevice(ctx context.Context, one *loan) (io.ReadWriteCloser, error) {
	if one.of.Exclusive {
		return l.exportUSB(ctx, one)
	}
	k := l.cfg.Rack.ByID(one.of.Device)
	if k == nil || k.Session() == nil {
		return nil, errors.New("the lender cannot reach the device now")
	}
	lending, err := k.Session().Lending()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, openWithin)
	defer cancel()
	d, err := lending.Open(ctx)
	if err != nil {
		return nil, fmt.Errorf("the lender could not reach the device: %w", err)
	}
	return d, nil
}

// pass passes bytes between a borrower and the device until either ends.
func (l *Lend) pass(one *loan, number string, s *stream, d io.ReadWriteCloser) {
	var both sync.WaitGroup
	both.Go(func() {
		io.Copy(counting{d, &s.in}, s) //nolint:errcheck // the end of one is that of both
		d.Close()
	})
	both.Go(func() {
		io.Copy(counting{s, &s.out}, d) //nolint:errcheck // as above
		s.Finish("the device ended the connection, or its lender lost it")
	})
	both.Wait()
	l.mu.Lock()
	delete(one.streams, number)
	over := one.Over()
	l.mu.Unlock()
	if !over {
		l.warn(one, l.change(context.Background(), one, func(r *store.Loan) bool {
			r.In, r.Out = r.In+s.in.Load(), r.Out+s.out.Load()
			return true
		}))
	}
}

// counting counts the bytes that are written.
type counting struct {
	io.Writer
	n *atomic.Int64
}

func (c counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.n.Add(int64(n))
	return n, err
}

// open opens a stream to a borrowed device, and carries it over one link after the other.
func (l *Lend) open(ctx context.Context, peer, far string) (io.ReadWriteCloser, error) {
	s := resume.New(Bridge)
	to := core.ToStream{Loan: far, Stream: store.NewID()}
	first := make(chan error, 1)
	l.mu.Lock()
	if l.ctx.Err() != nil {
		l.mu.Unlock()
		return nil, l.ctx.Err()
	}
	l.work.Go(func() { l.carry(s, peer, to, first) })
	l.mu.Unlock()
	select {
	case err := <-first:
		if err != nil {
			s.Close()
			return nil, err
		}
		return s, nil
	case <-ctx.Done():
		s.Close()
		return nil, context.Cause(ctx)
	}
}

// carry carries a stream over one link after the other until it ends. The outcome of the first attempt goes to first.
func (l *Lend) carry(s *resume.Stream, peer string, to core.ToStream, first chan<- error) {
	ctx, cancel := context.WithCancel(l.ctx)
	defer cancel()
	l.work.Go(func() {
		s.Wait(ctx) //nolint:errcheck // that it has ended is enough
		cancel()
	})
	for opened := false; ctx.Err() == nil; {
		link, changed, err := l.cfg.Peers.Link(peer)
		if err == nil && link == nil && !opened {
			err = errors.New("there is no connection to " + peer + " now")
		}
		if err != nil {
			first <- err
			s.CloseWith(err.Error())
			return
		}
		if link == nil {
			select {
			case <-ctx.Done():
			case <-changed:
			}
			continue
		}
		opening, done := context.WithTimeout(ctx, openWithin)
		c, err := link.Open(opening, to)
		done()
		if _, refused := errors.AsType[*core.Refused](err); refused || err != nil && !opened {
			if !opened {
				first <- err
			}
			s.CloseWith(err.Error())
			return
		}
		if err == nil {
			if !opened {
				opened = true
				first <- nil
			}
			s.Carry(ctx, c) //nolint:errcheck // it is carried on by the next link
		}
		if clock.Sleep(ctx, clock.System{}, 100*time.Millisecond) != nil {
			return
		}
	}
	s.Close()
}
