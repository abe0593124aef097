package shell

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/device"
)

// Log returns what the apps print that were started by a bench. The number of a line is where it ends, in
// bytes of all that was ever written.
func (s *Session) Log() (device.Log, error) { return logs{s}, nil }

type logs struct{ *Session }

// mostLine bounds a line, in bytes; the script run writes shorter ones.
const mostLine = 8 << 10

// errTaken ends the following of a log of which enough was taken; errAside says that it goes on in another file.
var (
	errTaken = errors.New("enough was taken")
	errAside = errors.New("the log continues in another file")
)

func (l logs) Follow(ctx context.Context, from device.LogFrom, take func(device.Line) bool) error {
	gate := &gate{take: take}
	defer gate.shut()
	for {
		next, err := until(ctx, l.Session, func() (uint64, error) { return l.follow(ctx, from, gate.pass) })
		switch {
		case errors.Is(err, errTaken):
			return nil
		case errors.Is(err, errAside):
			from.After = next
			continue
		case ctx.Err() != nil:
			return context.Cause(ctx)
		}
		return l.lost(err)
	}
}

// gate passes lines on until it is shut; afterwards none is on its way any more.
type gate struct {
	take func(device.Line) bool

	mu     sync.Mutex
	closed bool
}

func (g *gate) pass(l device.Line) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return !g.closed && g.take(l)
}

func (g *gate) shut() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = true
}

// follow reads one file of the log, and returns how far.
func (l logs) follow(ctx context.Context, from device.LogFrom, take func(device.Line) bool) (uint64, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p, err := l.begin(ctx, source("log", "", []string{strconv.FormatUint(min(from.After, math.MaxInt64), 10)}))
	if err != nil {
		return from.After, err
	}
	defer p.end()
	r := bufio.NewReaderSize(p, mostLine)
	first, err := r.ReadSlice('\n')
	if err != nil {
		return from.After, p.failed(ctx, err)
	}
	at, err := strconv.ParseUint(strings.TrimSpace(string(first)), 10, 63)
	if err != nil {
		return from.After, fmt.Errorf("the device says that its log begins at %.40q", first)
	}
	for {
		raw, err := r.ReadSlice('\n')
		if err != nil {
			return at, p.failed(ctx, err)
		}
		at += uint64(len(raw))
		line, aside, ok := parseLine(string(raw))
		switch {
		case aside:
			return at, errAside
		case !ok || from.App != "" && line.App != from.App:
			continue
		}
		line.Seq = at
		if ctx.Err() != nil || !take(line) {
			return at, errTaken
		}
	}
}

// failed is why a script does not go on.
func (p *process) failed(ctx context.Context, err error) error {
	if errors.Is(err, io.EOF) {
		return p.result(ctx, "")
	}
	return p.because(ctx, err)
}

// parseLine reads a line that the script run has written: time, level, app and text. aside says that the log
// goes on in another file.
func parseLine(s string) (line device.Line, aside, ok bool) {
	s = strings.TrimSuffix(s, "\n")
	at, rest, _ := strings.Cut(s, " ")
	level, rest, _ := strings.Cut(rest, " ")
	app, text, ok := strings.Cut(rest, " ")
	seconds, err := strconv.ParseFloat(at, 64)
	if level == "R" && at == "0" {
		return line, true, true
	}
	if !ok || err != nil || !(seconds >= 0 && seconds < math.MaxInt32*4) || appfile.CheckID(app) != nil {
		return line, false, false
	}
	line = device.Line{At: time.Unix(0, int64(seconds*100)*int64(10*time.Millisecond)).UTC(), App: app, Text: text, Level: "info"}
	switch level {
	case "I":
	case "E":
		line.Level = "error"
	case "X":
		code, reason, _ := strings.Cut(text, " ")
		n, err := strconv.Atoi(code)
		if err != nil || reason != device.Exited && reason != device.Crashed && reason != device.Stopped {
			return line, false, false
		}
		line.Ended = &device.Ended{Code: n, Reason: reason}
		line.Text = "the app has ended: " + reason
	default:
		return line, false, false
	}
	return line, false, true
}
