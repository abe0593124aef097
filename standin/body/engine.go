package body

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/imports/wasi_snapshot_preview1"
	"github.com/tetratelabs/wazero/sys"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
)

// engine runs apps: WASI modules (preview 1) that print their log and draw by
// the imports of the modules "screen" and "port".
type engine struct {
	cache wazero.CompilationCache
}

func newEngine(dir string) (*engine, error) {
	cache, err := wazero.NewCompilationCacheWithDir(dir)
	if err != nil {
		return nil, fmt.Errorf("keep compiled apps: %w", err)
	}
	return &engine{cache}, nil
}

// Close frees the compiled modules.
func (e *engine) Close() error { return e.cache.Close(context.Background()) }

// process is an app that runs.
type process struct {
	stop   context.CancelFunc
	done   chan struct{}
	canvas *canvas
	ports  *ports
}

// maxMemory bounds an app's memory, in pages of 64 KiB.
const maxMemory = 4096

// start runs an installed app in the foreground and returns the number of the log line
// before its first one.
func (b *Body) start(id string) (after uint64, err error) {
	b.mu.Lock()
	a := b.st.Apps[id]
	if a == nil {
		b.mu.Unlock()
		return 0, fmt.Errorf("app %s is not installed", id)
	}
	if b.resting {
		b.mu.Unlock()
		return 0, errResting
	}
	err = b.stopUncovered(a)
	if err == nil {
		err = b.stopUnaccepted(a)
	}
	if err != nil {
		b.mu.Unlock()
		return 0, err
	}
	if b.running[id] != nil || b.closed {
		b.screen.front = id
		b.redraw()
		after = b.seq
		b.mu.Unlock()
		return after, nil
	}
	var entry string
	for _, f := range a.Files {
		if f.Path == a.Entry {
			entry = b.filePath(f.SHA256)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	p := &process{stop: cancel, done: make(chan struct{}), canvas: &canvas{}, ports: &ports{waiting: map[string][]int32{}, conns: map[int32]*appConn{}}}
	b.running[id] = p
	b.screen.home()
	b.screen.front = id
	after = b.seq
	b.line(id, "info", "starting "+id+" "+a.Version)
	b.redraw()
	b.work.Add(1)
	b.mu.Unlock()

	go func() {
		defer b.work.Done()
		defer close(p.done)
		defer cancel()
		defer p.ports.end()
		code, err := os.ReadFile(entry)
		if err == nil {
			err = b.runApp(ctx, id, code, p)
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.running, id)
		if b.screen.front == id {
			b.screen.front = ""
		}
		switch exit := (*sys.ExitError)(nil); {
		case ctx.Err() != nil:
			b.lineEnded(id, "info", "stopped", device.Ended{Code: -1, Reason: device.Stopped})
		case err == nil:
			b.lineEnded(id, "info", "ended", device.Ended{Reason: device.Exited})
		default:
			ended := device.Ended{Code: -1, Reason: device.Crashed}
			if errors.As(err, &exit) {
				ended.Code = int(exit.ExitCode())
				err = fmt.Errorf("it ended with exit code %d", ended.Code)
			}
			b.lineEnded(id, "error", "crashed: "+plain.Cut(plain.Line(err.Error()), 300), ended)
			b.say(a.Name + " has crashed")
		}
		b.redraw()
	}()
	return after, nil
}

func (b *Body) runApp(ctx context.Context, id string, code []byte, p *process) error {
	r := wazero.NewRuntimeWithConfig(ctx, wazero.NewRuntimeConfig().WithCompilationCache(b.run.cache).
		WithCloseOnContextDone(true).WithMemoryLimitPages(maxMemory))
	defer r.Close(context.Background()) //nolint:errcheck // its memory goes all the same
	if _, err := wasi_snapshot_preview1.Instantiate(ctx, r); err != nil {
		return err
	}
	if err := p.canvas.export(ctx, r, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.redraw()
	}); err != nil {
		return err
	}
	if err := p.ports.export(ctx, r); err != nil {
		return err
	}
	out := &lineWriter{take: func(s string) { b.appLine(id, "info", s) }}
	errs := &lineWriter{take: func(s string) { b.appLine(id, "error", s) }}
	defer errs.flush()
	defer out.flush()
	_, err := r.InstantiateWithConfig(ctx, code, wazero.NewModuleConfig().WithName(id).
		WithArgs(id).WithStdout(out).WithStderr(errs).WithNanosleep(sleepIn(ctx)).WithSysWalltime().WithSysNanotime().
		WithEnv("DEVICE", b.cfg.Name))
	var exit *sys.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 0 {
		return nil
	}
	return err
}

// sleepIn returns a sleep for an app, which ends early when the app is stopped.
func sleepIn(ctx context.Context) sys.Nanosleep {
	return func(ns int64) {
		t := time.NewTimer(time.Duration(ns))
		defer t.Stop()
		select {
		case <-t.C:
		case <-ctx.Done():
		}
	}
}

// stopWithin is how long an app gets to end: one that is being compiled ends after that, on a slow computer after some seconds.
const stopWithin = 20 * time.Second

// stop ends an app and waits for it. Stopping an app that does not run does nothing.
func (b *Body) stop(id string) error {
	b.mu.Lock()
	p := b.running[id]
	b.mu.Unlock()
	if p == nil {
		return nil
	}
	p.stop()
	select {
	case <-p.done:
		return nil
	case <-time.After(stopWithin):
		return fmt.Errorf("app %s does not stop", id)
	}
}

// maxLines is how many lines of log a body keeps.
const maxLines = 2000

// line adds a line to the log. The lock is held.
func (b *Body) line(app, level, text string) {
	b.seq++
	b.log = append(b.log, device.Line{Seq: b.seq, At: b.cfg.Clock.Now().UTC(), App: app, Level: level, Text: text})
	if len(b.log) > maxLines {
		b.log = append(b.log[:0], b.log[len(b.log)-maxLines:]...)
	}
	close(b.changed)
	b.changed = make(chan struct{})
}

// lineEnded adds the line with which an app ends. The lock is held.
func (b *Body) lineEnded(app, level, text string, ended device.Ended) {
	b.line(app, level, text)
	b.log[len(b.log)-1].Ended = &ended
}

func (b *Body) appLine(app, level, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.line(app, level, text)
}

func (b *Body) followLog(ctx context.Context, from device.LogFrom, notify func(string, any) error) error {
	after := from.After
	for {
		b.mu.Lock()
		var fresh []device.Line
		for _, l := range b.log {
			if l.Seq > after && (from.App == "" || l.App == from.App) {
				fresh = append(fresh, l)
			}
		}
		after = max(after, b.seq)
		changed := b.changed
		b.mu.Unlock()
		for _, l := range fresh {
			ended := l.Ended
			l.Ended = nil
			if err := notify(link.MethodLog, l); err != nil {
				return err
			}
			if ended == nil {
				continue
			}
			if err := notify(link.MethodAppEnded, link.AppEnded{Seq: l.Seq, At: l.At, App: l.App, Code: ended.Code, Reason: ended.Reason}); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-changed:
		}
	}
}

// lineWriter cuts what is written into lines.
type lineWriter struct {
	take func(string)
	rest []byte
}

// maxLineBytes is the length at which a line of an app's log is cut.
const maxLineBytes = 4096

func (w *lineWriter) Write(p []byte) (int, error) {
	w.rest = append(w.rest, p...)
	for {
		i := bytes.IndexByte(w.rest, '\n')
		if i < 0 {
			if len(w.rest) < maxLineBytes {
				return len(p), nil
			}
			i = len(w.rest) - 1
		}
		w.take(string(bytes.TrimRight(w.rest[:min(i, maxLineBytes)], "\r\n")))
		w.rest = w.rest[i+1:]
	}
}

func (w *lineWriter) flush() {
	if len(w.rest) > 0 {
		w.take(string(w.rest))
	}
}
