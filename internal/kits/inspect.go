package kits

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/internal/spawn"
)

// answerWithin is how long the programs of a copy may take to print their versions.
const answerWithin = 10 * time.Second

// mostPrinted is how much is kept of what a program prints, in bytes.
const mostPrinted = 16 << 10

// inspect fills in what is found at a copy's path.
func (k *Kits) inspect(ctx context.Context, d *kit.Description, c *kit.Copy) {
	if info, err := os.Stat(c.Path); err != nil || !info.IsDir() {
		c.Findings = []kit.Finding{{Wrong: "does not exist"}}
		if err == nil {
			c.Findings[0].Wrong = "is a file, not the directory of a kit"
		} else if !errors.Is(err, fs.ErrNotExist) {
			c.Findings[0].Wrong = "cannot be read: " + reason(err)
		}
		return
	}
	for _, e := range d.Holds {
		f := kit.Finding{Entry: e, Wrong: present(c.Path, &e)}
		if f.Wrong == "" && e.Asked != "" {
			printed, err := k.ask(ctx, d, c.Path, &e)
			version, ok := e.Version(printed)
			switch {
			case err != nil:
				f.Wrong = err.Error()
			case !ok:
				f.Wrong = fmt.Sprintf("prints %q when it is asked for its version, which is not a %s", plain.Cut(firstLine(printed), 80), d.Name)
			case version != "" && c.Version == "":
				c.Version = version
			}
		}
		c.Findings = append(c.Findings, f)
	}
}

// entryPath is where an entry is in the copy at a directory.
func entryPath(dir string, e *kit.Entry) string {
	p := filepath.Join(dir, filepath.FromSlash(e.Path()))
	if e.Program != "" && runtime.GOOS == "windows" {
		p += ".exe"
	}
	return p
}

// present tells what is wrong with an entry as far as the disk shows it; "" for nothing.
func present(dir string, e *kit.Entry) string {
	info, err := os.Stat(entryPath(dir, e))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "is missing"
	case err != nil:
		return "cannot be read: " + reason(err)
	case e.Directory != "" && !info.IsDir():
		return "is not a directory"
	case e.Directory == "" && !info.Mode().IsRegular():
		return "is not a file"
	case e.Program != "" && runtime.GOOS != "windows" && info.Mode()&0o111 == 0:
		return "is not executable"
	}
	return ""
}

// answer is what a program printed, with what it was when it did.
type answer struct {
	modified time.Time
	size     int64
	printed  string
	err      error
}

// ask has a program print its version. It is not started again while neither the program
// nor anything that is watched in its copy has changed.
func (k *Kits) ask(ctx context.Context, d *kit.Description, dir string, e *kit.Entry) (string, error) {
	at := entryPath(dir, e)
	info, err := os.Stat(at)
	if err != nil {
		return "", errors.New("cannot be read: " + reason(err))
	}
	key := at + " " + e.Asked
	if a, ok := k.answers[key]; ok && a.modified.Equal(info.ModTime()) && a.size == info.Size() {
		return a.printed, a.err
	}
	short, done := context.WithTimeout(ctx, answerWithin)
	defer done()
	cmd := exec.CommandContext(short, at, e.Asked)
	cmd.Dir = dir
	cmd.Env = WithEnvironment(os.Environ(), d.Environment(dir))
	a := answer{modified: info.ModTime(), size: info.Size()}
	a.printed, err = spawn.Run(cmd, mostPrinted)
	exit, exited := errors.AsType[*exec.ExitError](err)
	switch {
	case err != nil && ctx.Err() != nil: // not kept: nobody waits for it any more
		return "", ctx.Err()
	case err != nil && short.Err() != nil:
		a.err = fmt.Errorf("did not print its version within %s", answerWithin)
	case exited:
		a.err = fmt.Errorf("exits with code %d when it is asked for its version: %s", exit.ExitCode(), plain.Cut(firstLine(a.printed), 80))
	case err != nil:
		a.err = errors.New("cannot be started: " + reason(err))
	}
	k.answers[key] = a
	return a.printed, a.err
}

// WithEnvironment adds what a kit needs to the environment of a process.
func WithEnvironment(env []string, e kit.Environment) []string {
	path := os.Getenv("PATH")
	if len(e.Search) > 0 {
		path = strings.Join(append(e.Search, path), string(os.PathListSeparator))
	}
	env = append(env, "PATH="+path) // the last one counts
	for _, v := range e.Variables {
		env = append(env, v.Name+"="+v.Value)
	}
	return env
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return plain.Line(line)
}

// reason is what the system says, without the path that the reader knows already.
func reason(err error) string {
	if p, ok := errors.AsType[*fs.PathError](err); ok {
		return p.Err.Error()
	}
	return err.Error()
}
