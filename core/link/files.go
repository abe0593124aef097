package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/core/device"
)

const (
	pieceBytes = 32 << 10 // one SFTP packet
	inFlight   = 64       // pieces under way
)

// Files returns the access to the files of apps, by SFTP.
func (s *Session) Files() (device.Files, error) { return files{s}, nil }

type files struct{ *Session }

// Put writes many pieces concurrently. What has arrived is counted up to the first gap, since a device goes
// on from there.
func (f files) Put(ctx context.Context, dir, name string, r io.Reader, at, size int64, arrived func(int64)) error {
	// A device may not answer, at the beginning or from some piece on: when ctx ends, the channel is closed.
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(answerWithin, func() { cancel(silence("acknowledged what it is sent", answerWithin)) })
	defer stalled.Stop()
	client, err := f.sftp(ctx)
	if err != nil {
		return err
	}
	defer client.Close()
	defer context.AfterFunc(ctx, func() { client.Close() })()
	out, err := client.OpenFile(dir+"/"+name, os.O_WRONLY|os.O_CREATE)
	if err != nil {
		return f.ended(ctx, fmt.Errorf("open the file on the device: %w", err))
	}
	err = errors.Join(upload(ctx, out, r, at, size, arrived, func() { stalled.Reset(answerWithin) }), out.Close())
	return f.ended(ctx, err)
}

// ended tells first that ctx or the link has ended, where that is why.
func (f files) ended(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		return f.lost(err)
	}
	return nil
}

// upload calls alive for each piece that was acknowledged.
func upload(ctx context.Context, out io.WriterAt, r io.Reader, at, size int64, arrived func(int64), alive func()) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(inFlight)
	whole := inOrder{next: at, arrived: arrived}
	for at := at; at < size && ctx.Err() == nil; at += pieceBytes {
		piece := make([]byte, min(pieceBytes, size-at))
		if _, err := io.ReadFull(r, piece); err != nil {
			return errors.Join(fmt.Errorf("read what is to be sent: %w", err), g.Wait())
		}
		g.Go(func() error {
			n, err := out.WriteAt(piece, at)
			if err == nil {
				alive()
				whole.add(at, int64(n))
			}
			return err
		})
	}
	return g.Wait()
}

// inOrder tells of pieces that arrive in any order, as soon as all before them have arrived.
type inOrder struct {
	arrived func(int64)

	mu    sync.Mutex
	next  int64           // the first byte that has not arrived
	ahead map[int64]int64 // sizes of pieces beyond it, by where they begin
}

func (o *inOrder) add(at, n int64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.ahead == nil {
		o.ahead = map[int64]int64{}
	}
	o.ahead[at] = n
	var more int64
	for n, ok := o.ahead[o.next]; ok; n, ok = o.ahead[o.next] {
		delete(o.ahead, o.next)
		o.next += n
		more += n
	}
	if more > 0 {
		o.arrived(more)
	}
}

// sftp opens a channel for files.
func (f files) sftp(ctx context.Context) (*sftp.Client, error) {
	ch, err := f.open(ctx, "session")
	if err != nil {
		return nil, err
	}
	// The request and SFTP's own first exchange know no context.
	stop := context.AfterFunc(ctx, func() { ch.Close() })
	client, err := beginSFTP(ch)
	if !stop() && err == nil {
		client.Close()
		err = context.Cause(ctx)
	}
	if err != nil {
		ch.Close()
		return nil, f.ended(ctx, fmt.Errorf("open the channel for files: %w", err))
	}
	return client, nil
}

func beginSFTP(ch ssh.Channel) (*sftp.Client, error) {
	ok, err := ch.SendRequest("subsystem", true, ssh.Marshal(struct{ Name string }{"sftp"}))
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, errors.New("the device refused")
	}
	return sftp.NewClientPipe(ch, ch, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(64))
}
