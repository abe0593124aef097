package spawn

import (
	"context"
	"os"
	"time"
)

// Held is a command that has the streams of this process, and ends with it: another process of this program holds it,
// and ends it, with everything that it started, once this process has ended in any way.
type Held struct {
	Holder   []string // arguments with which this program calls Hold; those of the command follow
	Command  []string
	Env      []string      // added to that of this process
	Out      *os.File      // nil for standard output
	Terminal bool          // it stays in the group of processes of the terminal, so that it can read, and Ctrl-C reaches it
	Grace    time.Duration // how long it has when it is to end
}

// Run runs it until it or ctx ends. The error is like that of exec.
func (h Held) Run(ctx context.Context) error { return h.run(ctx) }
