package tryout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/png"
	"regexp"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
)

// logWithin is how long the log may take to show that the app works, where the
// project does not say.
const logWithin = 10 * time.Second

// start starts the app, which tells where its log begins.
func (w *work) start(ctx context.Context) (string, error) {
	var started link.Started
	if err := w.link.Control.Call(ctx, link.MethodAppStart, link.AppRef{ID: w.project.ID}, &started); err != nil {
		return "", w.lost("start the app", err)
	}
	w.before, w.result.After = started.After, started.After
	return "started", nil
}

// lines follows the log after a line, until take returns false or ctx ends.
func (w *work) lines(ctx context.Context, after uint64, take func(link.Line) bool) error {
	fresh := make(chan link.Line, 256)
	end, err := w.link.FollowLog(link.LogFrom{After: after}, func(l link.Line) {
		select {
		case fresh <- l:
		default: // more than can be looked at
		}
	})
	if err != nil {
		return err
	}
	defer end()
	for {
		select {
		case l := <-fresh:
			if !take(l) {
				return nil
			}
		case <-w.link.Done():
			return errors.New("the link ended")
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// watchLog waits for the line that shows that the app works; an app that
// crashes or ends before has failed.
func (w *work) watchLog(ctx context.Context) (string, error) {
	want, err := regexp.Compile(w.project.Try.Log)
	if err != nil {
		return "", err
	}
	within := logWithin
	if w.project.Try.Within != "" {
		if within, err = time.ParseDuration(w.project.Try.Within); err != nil {
			return "", fmt.Errorf("try: within: %w", err)
		}
	}
	waiting, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var found, crashed string
	err = w.lines(waiting, w.before, func(l link.Line) bool {
		if l.App != w.project.ID {
			return true
		}
		text := printable(l.Text)
		w.record.Log = append(w.record.Log, l.At.Format("15:04:05.000")+" "+text)
		w.run.Note(text)
		switch {
		case strings.HasPrefix(l.Text, "starting "):
		case l.Level == "error" && strings.HasPrefix(l.Text, "crashed"), l.Text == "ended":
			crashed = text
		case want.MatchString(l.Text):
			found = text
		}
		return found == "" && crashed == ""
	})
	switch {
	case found != "":
		return found, nil
	case crashed != "":
		return "", fmt.Errorf("%s does not keep running on %s: %s", w.project.ID, w.record.Device, crashed)
	case ctx.Err() != nil:
		return "", ctx.Err()
	case errors.Is(err, context.DeadlineExceeded):
		return "", fmt.Errorf("no log line matched %q within %s", w.project.Try.Log, within)
	}
	return "", w.lost("follow the log", err)
}

// settle is how long an app gets to draw after its first good line.
const settle = 300 * time.Millisecond

// takePicture takes a picture of the device's screen, by RFB.
func (w *work) takePicture(ctx context.Context) (string, error) {
	select {
	case <-time.After(settle):
	case <-ctx.Done():
		return "", ctx.Err()
	}
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	screen, err := w.link.Screen()
	if err != nil {
		return "", w.lost("open the screen", err)
	}
	defer screen.Close()
	defer context.AfterFunc(ctx, func() { screen.Close() })()
	img, err := rfb.Picture(screen)
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

// printable takes control characters out of what a device sent.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\t' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return -1
		}
		return r
	}, s)
}
