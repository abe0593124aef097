// Package upload sends a file to a device by SFTP (draft-ietf-secsh-filexfer-02), in pieces
// of which many are under way at the same time.
package upload

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

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/resume"
)

const (
	pieceBytes = 32 << 10 // one SFTP packet
	inFlight   = 64       // pieces under way
)

// AnswerWithin is how long a device may take to acknowledge a piece.
const AnswerWithin = 30 * time.Second

// ErrRefused is the error of a device that has no SFTP, or does not let this bench use it.
var ErrRefused = errors.New("the device refused SFTP")

// File is a file that is sent.
type File struct {
	Name     string // its path on the device
	At, Size int64  // it is sent from byte At to Size
	// Segment is a number of bytes: what lies beyond a multiple of it is sent only once all before has
	// arrived. 0 stands for any order. A server that writes pieces as they come leaves gaps below the end
	// of a file that was cut, in its last segment only.
	Segment int64
	// Idle is for how long in all nothing could pass, which does not count as silence; nil where that does not happen.
	Idle func() time.Duration
}

// Put sends the content of r, over a channel of the kind session that open opens. arrived is called with
// the number of bytes that have arrived without a gap since it was called last. If ctx ends, its cause is
// the error.
func Put(ctx context.Context, open func(context.Context) (ssh.Channel, error), f File, r io.Reader, arrived func(int64)) error {
	// A device may not answer, at the beginning or from some piece on: when ctx ends, the channel is closed.
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := resume.Within(AnswerWithin, f.Idle, func() { cancel(silence()) })
	defer stalled.Stop()
	client, err := begin(ctx, open)
	if err != nil {
		return ended(ctx, err)
	}
	defer client.Close()
	defer context.AfterFunc(ctx, func() { client.Close() })()
	out, err := client.OpenFile(f.Name, os.O_WRONLY|os.O_CREATE)
	if err != nil {
		return ended(ctx, fmt.Errorf("open the file on the device: %w", err))
	}
	alive := func() { stalled.Reset() }
	for at := f.At; at < f.Size && err == nil; at = f.end(at) {
		err = send(ctx, out, r, at, f.end(at), arrived, alive)
	}
	return ended(ctx, errors.Join(err, out.Close()))
}

// end is the end of the segment in which a byte lies.
func (f File) end(at int64) int64 {
	if f.Segment == 0 {
		return f.Size
	}
	return min(f.Size, (at/f.Segment+1)*f.Segment)
}

func silence() error {
	return &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The device has not acknowledged what it is sent within %s.", AnswerWithin),
		Remedy: "Check that it still reacts to touches. Restart it, or its link: earlybench link restart DEVICE."}
}

// ended tells first that ctx has ended, where that is why.
func ended(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// begin opens a channel for files.
func begin(ctx context.Context, open func(context.Context) (ssh.Channel, error)) (*sftp.Client, error) {
	ch, err := open(ctx)
	if err != nil {
		return nil, err
	}
	// The request and SFTP's own first exchange know no context.
	stop := context.AfterFunc(ctx, func() { ch.Close() })
	client, err := greet(ch)
	if !stop() && err == nil {
		client.Close()
		err = context.Cause(ctx)
	}
	if err != nil {
		ch.Close()
		return nil, fmt.Errorf("open the channel for files: %w", err)
	}
	return client, nil
}

func greet(ch ssh.Channel) (*sftp.Client, error) {
	ok, err := ch.SendRequest("subsystem", true, ssh.Marshal(struct{ Name string }{"sftp"}))
	if err != nil && !errors.Is(err, io.EOF) { // the channel alone is closed where the program is not there
		return nil, err
	}
	if err != nil || !ok {
		return nil, ErrRefused
	}
	client, err := sftp.NewClientPipe(ch, ch, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(inFlight))
	if err != nil { // it was promised, and the program is not there
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return client, nil
}

// send writes the pieces from byte at to end concurrently. What has arrived is counted up to the first gap, since a device goes
// on from there; alive is called for each that was acknowledged.
func send(ctx context.Context, out io.WriterAt, r io.Reader, at, end int64, arrived func(int64), alive func()) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(inFlight)
	whole := inOrder{next: at, arrived: arrived}
	for at := at; at < end && ctx.Err() == nil; at += pieceBytes {
		piece := make([]byte, min(pieceBytes, end-at))
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
