// Package fence runs programs of others, such as adapters, so that they reach no more than they were given:
// their own directories, the files that are named, no secrets of the environment; and so that nothing
// of them stays behind. On Linux this is held by Landlock (landlock(7)) and a filter of system calls
// (seccomp(2)); elsewhere, and on older kernels, only the environment and the end are.
package fence

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Config is a program and what it may reach.
type Config struct {
	Command []string // its program is a path below Dir, or a name on [Path]
	Dir     string   // in which it runs
	Env     []string
	Read    []string // directories and files that it may read, and execute
	Write   []string // directories in which it may do anything
	Files   []string // device files that it may read and write
	Connect []int    // TCP ports that it may connect to
}

// Around is the usual fence of a program: it reads the system, its own directory and what it is given; writes to
// its directory work, which is its home; and has the device files and ports that are named.
func Around(command []string, dir, work, given string, files []string, connect []int) Config {
	return Config{Command: command, Dir: dir, Env: []string{"PATH=" + Path, "LANG=C.UTF-8", "HOME=" + work, "TMPDIR=" + work},
		Read: append(system(), dir, given), Write: []string{work}, Files: files, Connect: connect}
}

// The commands of this program that stand between the bench and the other program: the first ends all that
// the second has started, which fences itself in and becomes the other program.
const (
	HoldCommand = "hold"
	BecomeStep  = "become"
)

// Process is a program that runs. Reading and writing are its standard output and input. Close ends it, with
// all that it has started.
type Process struct {
	io.Reader
	in    io.WriteCloser
	cmd   *exec.Cmd
	said  said
	once  sync.Once
	ended chan struct{}
	err   error
}

// Program is the program that has the commands hold and become; "" for the one that runs.
var Program string

// Start starts a program. Its standard error is given to log, line by line.
func Start(cfg Config, log func(line string)) (*Process, error) {
	exe, err := self()
	if err != nil {
		return nil, err
	}
	program, err := find(cfg)
	if err != nil {
		return nil, err
	}
	cfg.Command = append([]string{program}, cfg.Command[1:]...)
	raw, err := json.Marshal(cfg)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(exe, "adapter", HoldCommand, "--", string(raw))
	cmd.Env = []string{"GOTRACEBACK=none"}
	p := &Process{cmd: cmd, said: said{log: log}, ended: make(chan struct{})}
	cmd.Stderr = &p.said
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p.in, p.Reader = in, out
	cmd.WaitDelay = time.Second
	started := make(chan error, 1)
	go p.run(started)
	if err := <-started; err != nil {
		return nil, fmt.Errorf("start %s: %w", cfg.Command[0], err)
	}
	return p, nil
}

func self() (string, error) {
	if Program != "" {
		return Program, nil
	}
	return os.Executable()
}

// find is the path of a program.
func find(cfg Config) (string, error) {
	name := cfg.Command[0]
	places := filepath.SplitList(Path)
	if strings.Contains(name, "/") {
		places = []string{cfg.Dir}
	}
	for _, dir := range places {
		path := filepath.Join(dir, name)
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return path, nil
		}
	}
	return "", fmt.Errorf("its program %s is not on this computer or is not executable: looked in %s", name, strings.Join(places, ", "))
}

func (p *Process) run(started chan<- error) {
	defer apart(p.cmd)()
	err := p.cmd.Start()
	started <- err
	if err != nil {
		return
	}
	state, err := p.cmd.Process.Wait() // the output is read until its end, by whoever has it
	if err == nil && !state.Success() {
		err = errors.New(state.String())
	}
	p.err = err
	close(p.ended)
}

func (p *Process) Write(b []byte) (int, error) { return p.in.Write(b) }

// CloseInput closes the program's input.
func (p *Process) CloseInput() error { return p.in.Close() }

// endWithin is how long what holds the program may take to end all of it.
const endWithin = 3 * time.Second

// Close ends the program, with all that it has started.
func (p *Process) Close() error {
	p.once.Do(func() {
		p.in.Close()
		end(p.cmd.Process)
		select {
		case <-p.ended:
		case <-time.After(endWithin):
			p.cmd.Process.Kill() //nolint:errcheck // it has ended
			<-p.ended
		}
		if c, ok := p.Reader.(io.Closer); ok {
			c.Close()
		}
	})
	return nil
}

// Ended is closed when the program has ended.
func (p *Process) Ended() <-chan struct{} { return p.ended }

// Err is how it has ended; nil for well.
func (p *Process) Err() error {
	select {
	case <-p.ended:
		return p.err
	default:
		return nil
	}
}

// said gives what is written to it on, line by line.
type said struct {
	log  func(string)
	mu   sync.Mutex
	line []byte
}

const mostSaid = 1000 // bytes of a line

func (s *said) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range b {
		if c == '\n' {
			s.log(string(s.line))
			s.line = s.line[:0]
		} else if len(s.line) < mostSaid {
			s.line = append(s.line, c)
		}
	}
	return len(b), nil
}

// Parse reads the argument of the commands hold and become.
func Parse(text string) (cfg Config, err error) {
	if err = json.Unmarshal([]byte(text), &cfg); err == nil && len(cfg.Command) == 0 {
		err = errors.New("no command is given")
	}
	return cfg, err
}

// Step does what this process was started for, where that is one of the steps between the bench and another
// program, and reports whether it was. args are those behind the program's name.
func Step(ctx context.Context, args []string) (bool, error) {
	if len(args) != 4 || args[0] != "adapter" || args[1] != HoldCommand && args[1] != BecomeStep {
		return false, nil
	}
	cfg, err := Parse(args[3])
	switch {
	case err != nil:
		return true, err
	case args[1] == BecomeStep:
		return true, Become(cfg)
	}
	err = Hold(ctx, cfg, args[3])
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		endAs(exit.ProcessState)
	}
	return true, err
}

// Path is where programs are looked for: not in directories of the bench's user.
const Path = "/usr/local/bin:/usr/bin:/bin:/usr/local/sbin:/usr/sbin:/sbin"

// system is what a program may read of the system, to run at all.
func system() []string {
	return []string{"/usr", "/bin", "/sbin", "/lib", "/lib64", "/lib32", "/etc", "/opt", "/nix/store", "/proc/self", "/proc/meminfo", "/proc/cpuinfo", "/sys/devices/system/cpu"}
}
