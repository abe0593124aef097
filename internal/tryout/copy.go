package tryout

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// copy offers the app and sends the files that the device lacks.
func (w *work) copy(ctx context.Context) (string, error) {
	did, err := w.copyFiles(ctx)
	return did, w.ourFault(ctx, err)
}

// install switches the device to the app and checks that the app is in its list.
func (w *work) install(ctx context.Context) (string, error) {
	did, err := w.installed(ctx)
	return did, w.ourFault(ctx, err)
}

// ourFault looks at the bench's own file before a device that is there, or the way to it, is blamed for
// an error: the file may have been damaged since it was kept.
func (w *work) ourFault(ctx context.Context, err error) error {
	if err == nil || ctx.Err() != nil || problem.KindOf(err) == problem.Gone {
		return err
	}
	if damaged := w.Files.Whole(ctx, w.packed.File); damaged != nil {
		return damaged
	}
	return err
}

// copyFiles sends each file from the first missing byte.
func (w *work) copyFiles(ctx context.Context) (string, error) {
	if err := w.reach(ctx); err != nil {
		return "", err
	}
	apps, err := w.session.Apps()
	if err != nil {
		return "", err
	}
	files, err := w.session.Files()
	if err != nil {
		return "", err
	}
	f, err := w.Files.Open(w.packed.File)
	if err != nil {
		return "", fmt.Errorf("open the app file %s: %w", w.packed.File, err)
	}
	defer f.Close()
	opened, err := appfile.Reopen(f, w.packed.Size)
	if err != nil {
		return "", err
	}
	if err := w.here(ctx, opened); err != nil {
		return "", err
	}
	lacks, err := apps.Offer(ctx, opened.Manifest, opened.Signature)
	if err != nil {
		return "", w.refused(err)
	}
	total, have, err := counted(opened, lacks.Files)
	if err != nil {
		return "", err
	}
	w.run.Phase("copy", total)
	w.run.Progress(have)
	if 0 < have && have < total {
		on := fmt.Sprintf("continues at byte %d", have)
		if w.again {
			on = fmt.Sprintf("continues by %s at byte %d", w.way, have)
		}
		w.run.Note(on)
	}
	var there atomic.Int64 // bytes of the app that the device has for certain
	there.Store(have)
	for _, lack := range lacks.Files {
		if err := w.send(ctx, files, opened, lacks.Dir, lack, &there); err != nil {
			return "", w.cut(ctx, err, there.Load(), total)
		}
	}
	w.run.Progress(total)
	w.result.Sent = total - have
	if have == total {
		return "nothing: the device already has it", nil
	}
	return fmt.Sprintf("%d bytes", total-have), nil
}

// counted returns how many bytes the files of an app have, and how many of them a device has. A device that
// lacks what the app does not have is refused.
func counted(f *appfile.File, lacks []device.Lack) (total, have int64, err error) {
	sizes := map[string]int64{}
	for _, file := range f.App.Files {
		sizes[file.SHA256] = file.Size
	}
	for _, size := range sizes {
		total += size
	}
	have = total
	for _, l := range lacks {
		size, ok := sizes[l.SHA256]
		if !ok || l.Size != size || l.Have < 0 || l.Have > size {
			return 0, 0, problem.Errorf(problem.Failed, "the device requests data that the app does not have: from byte %d of %d of a file %.12q", l.Have, l.Size, l.SHA256)
		}
		have -= size - l.Have
		delete(sizes, l.SHA256) // once each
	}
	return total, have, nil
}

// reach gets the device's session. A job that was resumed after a restart of the service
// waits for it.
func (w *work) reach(ctx context.Context) error {
	if w.again { // over the way that was found
		return nil
	}
	if w.run.Job().Begun == 1 {
		if w.keeper.Sleeps() {
			w.run.Note("waking " + w.record.Device)
		}
		s, err := w.Outlook.Session(ctx, w.keeper)
		if err == nil {
			w.use(s)
		}
		return err
	}
	w.run.Note("waiting for " + w.record.Device)
	ctx, cancel := context.WithTimeout(ctx, backWithin)
	defer cancel()
	s, err := w.Outlook.Await(ctx, w.keeper)
	if err == nil {
		w.use(s)
	}
	return err
}

// refused turns a device's refusal of an offer into an error with a remedy.
func (w *work) refused(err error) error {
	r, ok := errors.AsType[*device.Refusal](err)
	if !ok {
		return w.lost("offer the app", err)
	}
	gate, remedy := "", ""
	switch r.Kind {
	case device.NotAllowed:
		gate, remedy = "mode", "To find out why: earlybench why "+w.record.Device+"."
	case device.Sleeps:
		return w.asleep("")
	case device.Unsigned:
		gate, remedy = "accepted", "Build it on this bench, which signs it with its development key: earlybench run DIRECTORY "+w.record.Device+"."
	case device.NoRoom:
		w.record.Ended = store.EndedAtSpace
		gate, remedy = "tried", "Remove something large from the device."
	}
	return &problem.Problem{Kind: problem.Blocked, Gate: gate, Text: fmt.Sprintf("%s refuses %s: %s.", w.record.Device, w.project.ID, r.Text), Remedy: remedy}
}

func (w *work) send(ctx context.Context, files device.Files, f *appfile.File, dir string, lack device.Lack, there *atomic.Int64) error {
	var path string
	for _, file := range f.App.Files {
		if file.SHA256 == lack.SHA256 {
			path = file.Path
		}
	}
	r, err := f.File(path)
	if err != nil {
		return err
	}
	defer r.Close()
	if _, err := io.CopyN(io.Discard, r, lack.Have); err != nil {
		return err
	}
	return files.Put(ctx, dir, lack.SHA256, r, lack.Have, lack.Size, func(n int64) { w.run.Progress(there.Add(n)) })
}

// remoteRemedy is what to do where a peer has ended the way to a device.
const remoteRemedy = "See what is lent to this bench: earlybench rack --peers"

// goneWithin is how long after a failure the end of the session may take to show.
const goneWithin = 2 * time.Second

// cut is the error of a copy that ended early: after how many bytes of the app, and what to do. The device may
// have a little more, of which no word came back: the next copy says where it goes on.
func (w *work) cut(ctx context.Context, err error, there, total int64) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	select {
	case <-w.session.Done():
		reason, remedy := "the cable was pulled, or the device restarted", "Connect it again, then repeat this: what has arrived is not sent again."
		if w.way == "wireless" {
			reason = "it left the network, fell asleep, or restarted"
		}
		if said := device.Why(w.session); said != "" {
			reason, remedy = said, remoteRemedy
		}
		return &problem.Problem{Kind: problem.Gone, Text: fmt.Sprintf("%s went away during the copy, at byte %d of %d: %s.", w.record.Device, there, total, reason), Remedy: remedy}
	case <-time.After(goneWithin):
		if w.sleeps() {
			return w.asleep(fmt.Sprintf(" in the middle of the copy, at byte %d of %d", there, total))
		}
		return fmt.Errorf("copy, at byte %d of %d: %w", there, total, err)
	}
}

// sleeps reports whether the device has said that it is asleep.
func (w *work) sleeps() bool {
	view := w.keeper.Facts().View()
	f, ok := view.Get(fact.Asleep, w.Clock.Now())
	return ok && f.Value.IsTrue()
}

// asleep is the error of a device that is asleep and accepts nothing.
func (w *work) asleep(when string) error {
	w.record.Ended = store.EndedAsleep
	return &problem.Problem{Kind: problem.Blocked, Gate: "awake", Text: fmt.Sprintf("%s fell asleep%s.", w.record.Device, when),
		Remedy: "Wake it, and set it to rest later. Then repeat this: what has arrived is not sent again."}
}

// lost wraps an error that occurred while talking to the device. If the session has
// ended, the error says so.
func (w *work) lost(doing string, err error) error {
	if errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	gone := errors.Is(err, device.ErrEnded)
	select {
	case <-w.session.Done():
		gone = true
	default:
	}
	if said := device.Why(w.session); gone && said != "" {
		return &problem.Problem{Kind: problem.Gone, Text: fmt.Sprintf("The link to %s ended during: %s. Its lender says: %s.", w.record.Device, doing, said), Remedy: remoteRemedy}
	}
	if gone {
		return &problem.Problem{Kind: problem.Gone, Text: fmt.Sprintf("The link to %s ended during: %s.", w.record.Device, doing),
			Remedy: "Connect it again, then repeat this."}
	}
	return fmt.Errorf("%s: %w", doing, err)
}

func (w *work) installed(ctx context.Context) (string, error) {
	w.record.Digest = w.packed.Digest
	apps, err := w.session.Apps()
	if err != nil {
		return "", err
	}
	if err := apps.Install(ctx, w.packed.Digest); err != nil {
		return "", w.lost("install", err)
	}
	list, err := apps.List(ctx)
	if err != nil {
		return "", w.lost("look at the app list", err)
	}
	for _, a := range list {
		if a.ID == w.project.ID && a.Digest == w.packed.Digest {
			return "in the app list as " + a.Name, nil
		}
	}
	return "", fmt.Errorf("%s is not in the device's app list", w.project.ID)
}
