// Package reed is the stand-in for a board that is reached by a serial line and speaks a language of its own,
// so that a bench needs an adapter for it. The line is a pseudo-terminal. What it speaks is described in
// docs/guides/writing-an-adapter.md.
package reed

import (
	"bufio"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"
)

// Config says how a board behaves.
type Config struct {
	Model   string // "2"
	Serial  string
	Release string
	Battery int
}

// app is an app on the board: its entry is a text, of which each line is printed.
type app struct {
	id, version, digest, name, text string
	stop                            context.CancelFunc // nil: it does not run
}

// board is a running board.
type board struct {
	cfg Config
	ctx context.Context

	mu      sync.Mutex
	out     io.Writer
	apps    map[string]*app
	seq     int
	log     []string // lines as they were sent
	handle  string
	running sync.WaitGroup
}

// every is how often a running app prints a line.
const every = 100 * time.Millisecond

// Serve speaks as a board until the line ends, or ctx does.
func Serve(ctx context.Context, line io.ReadWriter, cfg Config) error {
	ctx, cancel := context.WithCancel(ctx)
	b := &board{cfg: cfg, ctx: ctx, out: line, apps: map[string]*app{}}
	defer b.running.Wait()
	defer cancel()
	r := bufio.NewScanner(line)
	r.Buffer(make([]byte, 4096), 1<<20)
	for ctx.Err() == nil && r.Scan() {
		words := strings.Fields(r.Text())
		if len(words) == 0 {
			continue
		}
		b.answer(b.do(words, r))
	}
	return r.Err()
}

// answer sends an answer; what a running app prints does not come between its lines.
func (b *board) answer(lines []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range lines {
		fmt.Fprintf(b.out, "= %s\n", l)
	}
}

func no(text string) []string { return []string{"no " + text} }

func (b *board) do(words []string, r *bufio.Scanner) []string {
	argument := ""
	if len(words) > 1 {
		argument = words[1]
	}
	switch words[0] {
	case "who":
		return []string{fmt.Sprintf("reed %s %s %s %d", b.cfg.Model, b.cfg.Serial, b.cfg.Release, b.cfg.Battery)}
	case "list":
		return append(b.list(), "ok")
	case "take":
		return b.take(words, r)
	case "start":
		return b.start(argument)
	case "stop":
		return b.stop(argument)
	case "drop":
		b.stop(argument)
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.apps, argument)
		return []string{"ok"}
	case "again":
		b.again(argument)
		return []string{"ok"}
	case "handle":
		b.mu.Lock()
		defer b.mu.Unlock()
		b.handle = argument
		return []string{"ok"}
	}
	return no("there is no command " + words[0])
}

func (b *board) list() (out []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, a := range b.apps {
		state := "stopped"
		if a.stop != nil {
			state = "running"
		}
		out = append(out, fmt.Sprintf("app %s %s %s %s %s", a.id, a.version, a.digest, state, a.name))
	}
	slices.Sort(out)
	return out
}

// take reads an app: its text in lines of base64, until a line with a dot.
func (b *board) take(words []string, r *bufio.Scanner) []string {
	var text strings.Builder
	whole := false
	for r.Scan() {
		if whole = r.Text() == "."; whole {
			break
		}
		text.WriteString(strings.TrimSpace(r.Text()))
	}
	raw, err := base64.StdEncoding.DecodeString(text.String())
	if !whole || err != nil || len(words) < 5 {
		return no("take ID VERSION DIGEST NAME, and the text in base64")
	}
	b.stop(words[1])
	b.mu.Lock()
	defer b.mu.Unlock()
	b.apps[words[1]] = &app{id: words[1], version: words[2], digest: words[3], name: strings.Join(words[4:], " "), text: string(raw)}
	return []string{"ok"}
}

func (b *board) start(id string) []string {
	b.stop(id)
	b.mu.Lock()
	defer b.mu.Unlock()
	a := b.apps[id]
	if a == nil {
		return no("there is no app " + id)
	}
	ctx, stop := context.WithCancel(b.ctx)
	a.stop = stop
	b.running.Go(func() { b.run(ctx, a) })
	return []string{fmt.Sprintf("ok %d", b.seq)}
}

func (b *board) stop(id string) []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	a := b.apps[id]
	if a == nil {
		return no("there is no app " + id)
	}
	if a.stop != nil {
		a.stop()
	}
	return []string{"ok"}
}

// run prints the lines of an app, the last one again and again if it is "..."
func (b *board) run(ctx context.Context, a *app) {
	code, reason := 0, "exited"
	lines := strings.Split(strings.TrimRight(a.text, "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		if lines[i] == "..." {
			i = max(0, i-1)
		}
		select {
		case <-ctx.Done():
			code, reason = -1, "stopped"
			i = len(lines)
			continue
		case <-time.After(every):
		}
		b.print("log %d %s %s", a.id, lines[i])
	}
	b.print("end %d %s %s", a.id, fmt.Sprintf("%d %s", code, reason))
	b.mu.Lock()
	a.stop = nil
	b.mu.Unlock()
}

// print sends a line by itself.
func (b *board) print(format, id, text string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.seq++
	line := "- " + fmt.Sprintf(format, b.seq, id, text)
	b.log = append(b.log, line)
	if len(b.log) > 10000 {
		b.log = b.log[1:]
	}
	fmt.Fprintln(b.out, line)
}

// again sends the lines after a number again.
func (b *board) again(after string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var n int
	fmt.Sscan(after, &n) //nolint:errcheck // then all of them
	for _, line := range b.log {
		var seq int
		if fmt.Sscanf(line, "- log %d", &seq); seq == 0 { //nolint:errcheck // as above
			fmt.Sscanf(line, "- end %d", &seq) //nolint:errcheck // as above
		}
		if seq > n {
			fmt.Fprintln(b.out, line)
		}
	}
}
