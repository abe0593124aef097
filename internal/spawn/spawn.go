// Package spawn runs programs of the user, such as builds, so that nothing of them stays
// behind: they end with all that they have started when the context ends, and on Linux
// with the service.
package spawn

import (
	"bytes"
	"errors"
	"os/exec"
	"runtime"
	"time"
)

// Run runs a command made with exec.CommandContext and returns the last bytes of what it
// printed, up to a limit.
func Run(cmd *exec.Cmd, most int) (printed string, err error) {
	out := &tail{most: most}
	cmd.Stdout, cmd.Stderr = out, out
	whole(cmd)
	cmd.WaitDelay = 2 * time.Second
	// The death signal comes when the thread that started the command ends.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err = cmd.Run(); errors.Is(err, exec.ErrWaitDelay) {
		err = nil // it has ended well, and left something running that holds its output
	}
	return out.text(), err
}

// tail keeps the last bytes that are written to it.
type tail struct {
	most int
	buf  bytes.Buffer
	cut  bool
}

func (t *tail) Write(p []byte) (int, error) {
	t.buf.Write(p) // grows without an error
	if t.buf.Len() > 2*t.most {
		t.buf.Next(t.buf.Len() - t.most)
		t.cut = true
	}
	return len(p), nil
}

func (t *tail) text() string {
	b := t.buf.Bytes()
	if len(b) > t.most {
		b, t.cut = b[len(b)-t.most:], true
	}
	if t.cut {
		return "…" + string(b)
	}
	return string(b)
}
