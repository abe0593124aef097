package tryout

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/store"
)

// copy offers the app and sends the files that the device lacks, each from the
// byte on that it lacks.
func (w *work) copy(ctx context.Context) (string, error) {
	l, err := w.keeper.Linked(ctx)
	if err != nil {
		return "", err
	}
	w.link = l
	f, err := w.Files.Open(w.packed.File)
	if err != nil {
		return "", err
	}
	defer f.Close()
	opened, err := appfile.Reopen(f, w.packed.Size)
	if err != nil {
		return "", err
	}
	var lacks link.Lacks
	if err := l.Control.Call(ctx, link.MethodAppOffer, link.Offer{Manifest: opened.Manifest}, &lacks); err != nil {
		return "", w.refused(err)
	}
	var total int64
	for _, f := range lacks.Files {
		total += f.Size - f.Have
	}
	w.run.Phase("copy", total)
	var sent atomic.Int64
	for _, lack := range lacks.Files {
		if err := w.send(ctx, opened, lacks.Dir, lack, &sent); err != nil {
			return "", w.cut(ctx, err, sent.Load(), total)
		}
	}
	w.run.Progress(total)
	w.result.Sent = total
	if total == 0 {
		return "nothing: the device has it all", nil
	}
	return fmt.Sprintf("%d bytes", total), nil
}

// refused makes of the device's no to an offer a problem with a remedy.
func (w *work) refused(err error) error {
	if e, ok := errors.AsType[*rpc.Error](err); ok {
		gate, remedy := "", ""
		switch e.Code {
		case rpc.CodeRefused:
			gate, remedy = "mode", "Look with earlybench why "+w.record.Device+"."
		case rpc.CodeNoRoom:
			w.record.Ended = store.EndedAtSpace
			gate, remedy = "tried", "Take something off the device that needs much room."
		}
		return &job.Problem{Kind: job.Blocked, Gate: gate, Text: fmt.Sprintf("%s does not take %s: %s.", w.record.Device, w.project.ID, e.Message), Remedy: remedy}
	}
	return w.lost("offer the app", err)
}

func (w *work) send(ctx context.Context, f *appfile.File, dir string, lack link.Lack, sent *atomic.Int64) error {
	var path string
	for _, file := range f.App.Files {
		if file.SHA256 == lack.SHA256 {
			path = file.Path
		}
	}
	if path == "" || lack.Have < 0 || lack.Have > lack.Size {
		return fmt.Errorf("the device asks for a file %.80q that the app does not have", lack.SHA256)
	}
	r, err := f.File(path)
	if err != nil {
		return err
	}
	defer r.Close()
	if _, err := io.CopyN(io.Discard, r, lack.Have); err != nil {
		return err
	}
	files, err := w.link.Files()
	if err != nil {
		return err
	}
	defer files.Close()
	defer context.AfterFunc(ctx, func() { files.Close() })()
	out, err := files.OpenFile(dir+"/"+lack.SHA256, os.O_WRONLY|os.O_CREATE)
	if err != nil {
		return err
	}
	if _, err := out.Seek(lack.Have, io.SeekStart); err != nil {
		return errors.Join(err, out.Close())
	}
	return errors.Join(upload(out, r, lack.Have, lack.Size, func(n int64) { w.run.Progress(sent.Add(n)) }), out.Close())
}

const (
	pieceBytes = 32 << 10 // one SFTP packet
	inFlight   = 64       // pieces under way
)

// upload writes what r gives from byte at on, many pieces at a time, and counts
// those that have arrived.
func upload(out io.WriterAt, r io.Reader, at, size int64, arrived func(int64)) error {
	var g errgroup.Group
	g.SetLimit(inFlight)
	var failed atomic.Bool
	for at := at; at < size && !failed.Load(); at += pieceBytes {
		piece := make([]byte, min(pieceBytes, size-at))
		if _, err := io.ReadFull(r, piece); err != nil {
			return errors.Join(err, g.Wait())
		}
		g.Go(func() error {
			n, err := out.WriteAt(piece, at)
			if err != nil {
				failed.Store(true)
				return err
			}
			arrived(int64(n))
			return nil
		})
	}
	return g.Wait()
}

// goneWithin is how long after a failed copy the link may take to be seen gone.
const goneWithin = 2 * time.Second

// cut says at which byte a copy ended, and what to do.
func (w *work) cut(ctx context.Context, err error, sent, total int64) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	select {
	case <-w.link.Done():
		return &job.Problem{Kind: job.Gone,
			Text:   fmt.Sprintf("%s went away during the copy, at byte %d of %d: the cable was pulled, or the device restarted.", w.record.Device, sent, total),
			Remedy: "Plug it in again and start this again: what has arrived is not sent twice."}
	case <-time.After(goneWithin):
		return fmt.Errorf("copy, at byte %d of %d: %w", sent, total, err)
	}
}
