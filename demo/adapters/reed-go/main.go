// An adapter for the boards of Saltmarsh, in Go with its standard library. Build it first: go build -o adapter .
package main

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

type message struct {
	Version string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  any             `json:"params,omitempty"`
	Result  any             `json:"result,omitempty"`
	Error   *failure        `json:"error,omitempty"`
}

type failure struct {
	Code    int               `json:"code"`
	Message string            `json:"message"`
	Data    map[string]string `json:"data,omitempty"`
}

func (f *failure) Error() string { return f.Message }

var writing sync.Mutex

func send(m message) {
	writing.Lock()
	defer writing.Unlock()
	m.Version = "2.0"
	json.NewEncoder(os.Stdout).Encode(m)
}

// null is the result of what has none.
var null = json.RawMessage("null")

// board is a board on a serial line.
type board struct {
	line    *os.File
	asking  sync.Mutex
	answers chan string
	model   string
	serial  string
	release string
	battery int
}

func connect(path string, a *adapter) (*board, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	b := &board{line: f, answers: make(chan string, 1000)}
	go b.listen(a)
	said, err := b.ask("who")
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Sscanf(said[0], "reed %s %s %s %d", &b.model, &b.serial, &b.release, &b.battery); err != nil {
		return nil, errors.New("it is no reed")
	}
	return b, nil
}

func (b *board) listen(a *adapter) {
	defer a.gone()
	defer close(b.answers)
	lines := bufio.NewScanner(b.line)
	for lines.Scan() {
		if answer, ok := strings.CutPrefix(lines.Text(), "= "); ok {
			b.answers <- answer
		} else if f := strings.SplitN(strings.TrimPrefix(lines.Text(), "- "), " ", 4); len(f) == 4 {
			seq, _ := strconv.Atoi(f[1])
			a.log(f[0], seq, f[2], f[3])
		}
	}
}

func (b *board) ask(lines ...string) (said []string, err error) {
	b.asking.Lock()
	defer b.asking.Unlock()
	if _, err := io.WriteString(b.line, strings.Join(lines, "\n")+"\n"); err != nil {
		return nil, err
	}
	for {
		select {
		case answer, ok := <-b.answers:
			word, rest, _ := strings.Cut(answer, " ")
			switch {
			case !ok:
				return nil, &failure{Code: 1, Message: "the line has ended", Data: map[string]string{"kind": "gone"}}
			case word == "no":
				return nil, &failure{Code: 1, Message: "the board says: " + rest}
			}
			if said = append(said, answer); word == "ok" || word == "reed" {
				return said, nil
			}
		case <-time.After(5 * time.Second):
			return nil, &failure{Code: 1, Message: "the board does not answer"}
		}
	}
}

type adapter struct {
	board *board

	mu      sync.Mutex
	facts   json.RawMessage
	logging map[string]json.RawMessage // ids of requests for the log, by job
}

func (a *adapter) gone() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.facts != nil {
		send(message{ID: a.facts, Result: null})
	}
}

func (a *adapter) log(kind string, seq int, app, text string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for job := range a.logging {
		line := map[string]any{"job": job, "seq": seq, "app": app, "text": text}
		if kind == "end" {
			code, reason, _ := strings.Cut(text, " ")
			n, _ := strconv.Atoi(code)
			line["ended"] = map[string]any{"code": n, "reason": reason}
		}
		send(message{Method: "line", Params: line})
	}
}

type parameters struct {
	Device, Path, Job, Action string
	Args                      struct {
		ID, Version, Digest, Name, Dir, Entry, Handle string
		After                                         uint64
	}
}

// later says that a request is answered later, or is none.
var later = errors.New("later")

func (a *adapter) do(id json.RawMessage, method string, p parameters) (any, error) {
	switch method {
	case "hello":
		var actions []map[string]string
		for _, name := range []string{"app.list", "app.install", "app.start", "app.stop", "app.remove", "log", "find"} {
			actions = append(actions, map[string]string{"name": name})
		}
		return map[string]any{"name": "reed-go", "version": "1", "actions": actions, "facts": []map[string]string{
			{"key": "device.release", "type": "release"}, {"key": "device.battery", "type": "int"}, {"key": "reed.link", "type": "text"}}}, nil
	case "candidate":
		if p.Path == "/dev/null" {
			return map[string]int{"fit": 0}, nil
		}
		b, err := connect(p.Path, a)
		if err != nil {
			return map[string]int{"fit": 0}, nil
		}
		a.board = b
		return map[string]any{"fit": 100, "model": "reed-" + b.model, "serial": b.serial}, nil
	case "facts":
		a.mu.Lock()
		a.facts = id
		a.mu.Unlock()
		for key, value := range map[string]any{"device.release": a.board.release, "device.battery": a.board.battery, "reed.link": "serial line"} {
			send(message{Method: "fact", Params: map[string]any{"device": p.Device, "key": key, "value": value}})
		}
		return nil, later
	case "act":
		return a.act(id, p)
	case "stop":
		a.mu.Lock()
		defer a.mu.Unlock()
		if waiting, ok := a.logging[p.Job]; ok {
			delete(a.logging, p.Job)
			send(message{ID: waiting, Result: null})
		}
		return nil, later
	}
	return nil, &failure{Code: -32601, Message: "there is no such method"}
}

func (a *adapter) act(id json.RawMessage, p parameters) (any, error) {
	args := p.Args
	switch p.Action {
	case "app.list":
		said, err := a.board.ask("list")
		list := []map[string]any{}
		for _, line := range said {
			if f := strings.SplitN(line, " ", 6); len(f) == 6 {
				list = append(list, map[string]any{"id": f[1], "version": f[2], "digest": f[3], "running": f[4] == "running", "name": f[5]})
			}
		}
		return list, err
	case "app.install":
		raw, err := os.ReadFile(filepath.Join(args.Dir, "files", filepath.FromSlash(args.Entry)))
		if err != nil {
			return nil, err
		}
		lines := []string{fmt.Sprintf("take %s %s %s %s", args.ID, args.Version, args.Digest, args.Name)}
		for text := base64.StdEncoding.EncodeToString(raw); text != ""; {
			n := min(len(text), 76)
			lines, text = append(lines, text[:n]), text[n:]
		}
		_, err = a.board.ask(append(lines, ".")...)
		return null, err
	case "app.start":
		said, err := a.board.ask("start " + args.ID)
		if err != nil {
			return nil, err
		}
		after, err := strconv.Atoi(strings.TrimPrefix(said[0], "ok "))
		return map[string]int{"after": after}, err
	case "app.stop":
		_, err := a.board.ask("stop " + args.ID)
		return null, err
	case "app.remove":
		_, err := a.board.ask("drop " + args.ID)
		return null, err
	case "find":
		_, err := a.board.ask("handle " + args.Handle)
		return null, err
	case "log":
		a.mu.Lock()
		a.logging[p.Job] = id
		a.mu.Unlock()
		_, err := a.board.ask(fmt.Sprintf("again %d", args.After))
		if err == nil {
			err = later
		}
		return nil, err
	}
	return nil, &failure{Code: 1, Message: "the action is not known"}
}

func main() {
	a := &adapter{logging: map[string]json.RawMessage{}}
	in := bufio.NewScanner(os.Stdin)
	in.Buffer(nil, 1<<20)
	for in.Scan() {
		var m struct {
			ID     json.RawMessage
			Method string
			Params parameters
		}
		if err := json.Unmarshal(in.Bytes(), &m); err != nil {
			fmt.Fprintln(os.Stderr, err)
			continue
		}
		result, err := a.do(m.ID, m.Method, m.Params)
		var f *failure
		switch {
		case errors.Is(err, later):
		case errors.As(err, &f):
			send(message{ID: m.ID, Error: f})
		case err != nil:
			send(message{ID: m.ID, Error: &failure{Code: 1, Message: err.Error()}})
		default:
			send(message{ID: m.ID, Result: result})
		}
	}
}
