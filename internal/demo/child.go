package demo

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"
)

// startWithin is how long a child may take to answer.
const startWithin = 20 * time.Second

// child is a process that ends when its standard input does.
type child struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	done chan struct{} // closed when it has ended
	err  error         // then: how
}

// spawn starts this program with args, sends it first as JSON, unless that is nil, and
// decodes its first answer into answer.
func spawn(log io.Writer, first, answer any, args ...string) (*child, error) {
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(exe, args...)
	// Its own process group: the demo passes on Ctrl-C from the terminal.
	cmd.SysProcAttr = apart()
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	said := &tail{to: log}
	cmd.Stderr = said
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	c := &child{cmd: cmd, in: in, done: make(chan struct{})}
	answered := make(chan error, 1)
	go func() {
		d := json.NewDecoder(out)
		answered <- d.Decode(answer)
		io.Copy(io.Discard, out) //nolint:errcheck // it says no more
		c.err = cmd.Wait()
		close(c.done)
	}()
	if first != nil {
		if err := json.NewEncoder(in).Encode(first); err != nil {
			in.Close()
			<-c.done
			return nil, fmt.Errorf("%w: %s", err, said)
		}
	}
	select {
	case err = <-answered:
	case <-time.After(startWithin):
		err = fmt.Errorf("it does not answer within %s", startWithin)
	}
	if err != nil {
		in.Close()
		cmd.Process.Kill() //nolint:errcheck // it may have ended
		<-c.done
		if s := said.String(); s != "" {
			return nil, fmt.Errorf("%s", s)
		}
		return nil, err
	}
	said.pass()
	return c, nil
}

// tail keeps a child's output until it has started, so that an error can quote it, and
// passes it on afterwards.
type tail struct {
	mu      sync.Mutex
	to      io.Writer
	kept    bytes.Buffer
	passing bool
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.passing {
		return t.to.Write(p)
	}
	return t.kept.Write(p)
}

func (t *tail) pass() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.passing = true
	t.to.Write(t.kept.Bytes()) //nolint:errcheck // it is only told
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.TrimSpace(t.kept.String())
}
