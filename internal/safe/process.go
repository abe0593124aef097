package safe

import (
	"io"
	"os"
	"os/exec"
	"sync"
	"time"
)

// Process returns a function that starts the holder of the safe in a directory as a process of
// this program: `earlybench safe hold DIR`.
func Process(dir string) func() (io.ReadWriteCloser, error) {
	return func() (io.ReadWriteCloser, error) {
		exe, err := os.Executable()
		if err != nil {
			return nil, err
		}
		cmd := exec.Command(exe, "safe", "hold", "--", dir)
		cmd.Env = []string{"GOTRACEBACK=none"} // a crash prints nothing of what it holds
		cmd.Dir = dir
		in, err := cmd.StdinPipe()
		if err != nil {
			return nil, err
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			return nil, err
		}
		apart(cmd)
		if err := cmd.Start(); err != nil {
			return nil, err
		}
		return &process{Reader: out, in: in, cmd: cmd}, nil
	}
}

// process is a holder's process.
type process struct {
	io.Reader
	in   io.WriteCloser
	cmd  *exec.Cmd
	once sync.Once
}

func (p *process) Write(b []byte) (int, error) { return p.in.Write(b) }

// endWithin is how long a holder may take to end by itself.
const endWithin = time.Second

// Close ends the process, and returns when it has ended.
func (p *process) Close() error {
	p.once.Do(func() {
		p.in.Close()
		late := time.AfterFunc(endWithin, func() { p.cmd.Process.Kill() }) //nolint:errcheck // it has ended
		defer late.Stop()
		p.cmd.Wait() //nolint:errcheck // how it ended does not matter: what it held is gone
	})
	return nil
}
