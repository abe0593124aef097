package peer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// File is a file of a peer.
type File struct {
	Of     string // what it belongs to
	Digest string // SHA-256
	Size   int64  // bytes
}

const (
	silentFor   = 20 * time.Second // without a byte, it is asked for again
	giveUpAfter = 3 * time.Minute  // without a byte, over all attempts
	fetchPause  = 500 * time.Millisecond
	// refusedFor is how long a refusal may come from a bench that has just been started and is still resuming its work.
	refusedFor = 10 * time.Second
)

// Fetch gets a file of a peer, and stores it among files. It resumes after the connection was lost, until
// nothing has arrived for three minutes. came is called with the number of bytes received.
func (p *Peers) Fetch(ctx context.Context, name string, f File, files store.Files, came func(int64)) error {
	if f.Size == 0 {
		_, _, err := files.Make(func(io.Writer) error { return nil })
		return err
	}
	into, err := files.Begin(f.Digest, f.Size)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer into.Close()
	var refusedAt time.Time
	for last := time.Now(); ; {
		had := into.Bytes()
		err := p.fetchOnce(ctx, name, f, into, came)
		if into.Bytes() > had {
			last = time.Now()
		}
		refused, is := errors.AsType[*peer.Refused](err)
		if is && refusedAt.IsZero() {
			refusedAt = time.Now()
		} else if !is {
			refusedAt = time.Time{}
		}
		switch {
		case err == nil:
			if err := into.Finish(); errors.Is(err, store.ErrOther) {
				return problem.Errorf(problem.Failed, "what %s sent is not the file: its SHA-256 differs", name)
			} else if err != nil {
				return err
			}
			return nil
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case is && time.Since(refusedAt) > refusedFor:
			return problem.Errorf(problem.Failed, "%s does not send it: %s", name, refused.Text)
		case time.Since(last) > giveUpAfter:
			return problem.Errorf(problem.Unavailable, "nothing was received from %s for %s: %w", name, time.Since(last).Round(time.Second), err)
		}
		if err := clock.Sleep(ctx, clock.System{}, fetchPause); err != nil {
			return context.Cause(ctx)
		}
	}
}

// fetchOnce gets what is missing of a file over one connection.
func (p *Peers) fetchOnce(ctx context.Context, name string, f File, into *store.Partial, came func(int64)) error {
	l, _, err := p.Link(name)
	if err != nil {
		return err
	}
	if l == nil {
		return p.notConnected(name)
	}
	span, ok := into.Take()
	if !ok {
		return nil
	}
	defer func() { into.Leave(span) }()
	r, err := l.File(ctx, peer.FileRef{Of: f.Of, Digest: f.Digest, From: span.From})
	if err != nil {
		return err
	}
	defer r.Close()
	defer context.AfterFunc(ctx, func() { r.Close() })()
	silent := time.AfterFunc(silentFor, func() { r.Close() })
	defer silent.Stop()
	buf := make([]byte, 128<<10)
	for at := span.From; ; { // what has come is always a beginning of the file
		n, err := r.Read(buf)
		if n > 0 {
			silent.Reset(silentFor)
		}
		for part := buf[:n]; len(part) > 0; {
			if at == span.To {
				into.Leave(span)
				next, ok := into.Take()
				if !ok { // more than the file has; its digest decides
					break
				}
				span = next
			}
			m := min(int64(len(part)), span.To-span.From)
			if err := into.Write(&span, part[:m]); err != nil {
				return err
			}
			at, part = at+m, part[m:]
		}
		came(into.Bytes())
		switch {
		case into.Bytes() == f.Size:
			return nil
		case err != nil && ctx.Err() == nil:
			return fmt.Errorf("the file was cut at byte %d of %d", at, f.Size)
		case err != nil:
			return context.Cause(ctx)
		}
	}
}
