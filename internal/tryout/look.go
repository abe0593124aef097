package tryout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"regexp"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/excerpt"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rfb"
)

// logWithin is the default time in which the log must show that the app works.
const logWithin = 10 * time.Second

// start starts the app and notes where its log begins.
func (w *work) start(ctx context.Context) (string, error) {
	apps, err := w.session.Apps()
	if err != nil {
		return "", err
	}
	if w.again { // it may run already, and its first lines are wanted
		apps.Stop(ctx, w.project.ID) //nolint:errcheck // then it does not run
	}
	started, err := apps.Start(ctx, w.project.ID)
	refusal, _ := errors.AsType[*device.Refusal](err)
	if refusal != nil && refusal.Kind == device.Sleeps {
		return "", w.asleep(" before the start")
	}
	if refusal != nil && refusal.Kind == device.Unaccepted {
		if err := w.awaitAcceptance(ctx); err != nil {
			return "", err
		}
		started, err = apps.Start(ctx, w.project.ID)
	}
	if refusal != nil && refusal.Kind == device.Uncovered {
		return "", w.uncovered(refusal)
	}
	if err != nil {
		return "", w.lost("start the app", err)
	}
	w.before, w.result.After = started.After, started.After
	return "started", nil
}

// uncovered is the error of a device that has no grant or debug token for the app.
func (w *work) uncovered(r *device.Refusal) error {
	gate := "granted"
	if w.keeper.Series().Needs("token") {
		gate = "token"
	}
	return &problem.Problem{Kind: problem.Blocked, Gate: gate, Text: fmt.Sprintf("%s stopped %s at its start: %s.", w.record.Device, w.project.ID, r.Text),
		Remedy: fmt.Sprintf("See which line rules it out: earlybench explain %s %s", w.project.ID, w.record.Device)}
}

// mostNote is how much of a log line stands beside the phase that runs, in bytes.
const mostNote = 200

// watchFor is how long an app is watched for which no log line is defined, since an app
// that crashes at once does not work.
const watchFor = time.Second

// nothingLookedFor is the result for such an app.
const nothingLookedFor = "started, but nothing was checked: set try.log in the project to a log line that shows that it works"

// watchLog waits for the line that shows that the app works; an app that ends
// before has failed.
func (w *work) watchLog(ctx context.Context) (string, error) {
	log, err := w.session.Log()
	if errors.Is(err, errors.ErrUnsupported) && w.project.Try.Log == "" {
		return nothingLookedFor, nil
	}
	if err != nil {
		return "", err
	}
	want, err := regexp.Compile(w.project.Try.Log)
	if err != nil {
		return "", fmt.Errorf("try: log: %w", err)
	}
	within := logWithin
	if w.project.Try.Within != "" {
		if within, err = time.ParseDuration(w.project.Try.Within); err != nil {
			return "", fmt.Errorf("try: within: %w", err)
		}
	}
	if w.project.Try.Log == "" {
		within = watchFor
	}
	waiting, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var found, last string
	var kept excerpt.Excerpt
	defer func() { w.record.Log = append(w.record.Log, kept.Lines()...) }()
	var ended *device.Ended
	err = log.Follow(waiting, device.LogFrom{App: w.project.ID, After: w.before}, func(l device.Line) bool {
		w.before = l.Seq // where the log continues, should another way be needed
		if l.App != w.project.ID {
			return true
		}
		if ended = l.Ended; ended != nil {
			return false
		}
		last = plain.Cut(l.Text, excerpt.MostLine)
		kept.Add(l.At.Format("15:04:05.000") + " " + l.Text)
		w.run.Note(plain.Cut(l.Text, mostNote))
		if w.project.Try.Log != "" && want.MatchString(l.Text) {
			found = plain.Cut(l.Text, excerpt.MostLine)
		}
		return found == ""
	})
	switch {
	case found != "":
		return found, nil
	case ended != nil:
		return "", fmt.Errorf("%s did not keep running on %s: it %s (code %d), after: %s", w.project.ID, w.record.Device, ended.Reason, ended.Code, last)
	case ctx.Err() != nil:
		return "", context.Cause(ctx)
	case errors.Is(err, context.DeadlineExceeded) && w.project.Try.Log == "":
		return nothingLookedFor, nil
	case errors.Is(err, context.DeadlineExceeded):
		return "", fmt.Errorf("no log line matched %q within %s", w.project.Try.Log, within)
	}
	return "", w.lost("follow the log", err)
}

// settle is how long an app gets to draw after its first good line.
const settle = 300 * time.Millisecond

// pictureWithin bounds taking a picture.
const pictureWithin = 15 * time.Second

// takePicture takes a picture of the device's screen by RFB. That a way has no screen is
// not a failure of the app.
func (w *work) takePicture(ctx context.Context) (string, error) {
	screen, err := w.session.Screen()
	if errors.Is(err, errors.ErrUnsupported) {
		return err.Error(), nil
	}
	if err != nil {
		return "", err
	}
	select {
	case <-time.After(settle):
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
	ctx, cancel := context.WithTimeout(ctx, pictureWithin)
	defer cancel()
	stream, err := screen.Open(ctx)
	if err != nil {
		return "", w.lost("open the screen", err)
	}
	defer stream.Close()
	defer context.AfterFunc(ctx, func() { stream.Close() })()
	img, err := rfb.Picture(stream)
	if err != nil && ctx.Err() != nil {
		return "", problem.Errorf(problem.Failed, "the device has shown no picture within %s", pictureWithin)
	}
	if err != nil {
		return "", w.lost("take a picture", err)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return "", err
	}
	w.record.Picture, _, err = w.Files.Put(&b)
	return fmt.Sprintf("%d x %d", img.Bounds().Dx(), img.Bounds().Dy()), err
}
