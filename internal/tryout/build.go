package tryout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// buildOutput is how much of what a build printed is kept, in bytes.
const buildOutput = 64 << 10

// build runs the project's build command in its directory.
func (w *work) build(ctx context.Context) (string, error) {
	command := w.project.Build.Command
	path, err := exec.LookPath(command[0])
	if err != nil {
		return "", &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The build needs the program %s, which is not on this computer's search path.", command[0]),
			Remedy: "Install it, or put its directory on the PATH with which the service is started."}
	}
	cmd := exec.CommandContext(ctx, path, command[1:]...)
	cmd.Dir = w.project.Dir
	cmd.Env = os.Environ()
	for k, v := range w.project.Build.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	var out bytes.Buffer
	cmd.Stdout = &out
	cmd.Stderr = &out
	killWhole(cmd)
	cmd.WaitDelay = 2 * time.Second
	w.run.Note(strings.Join(command, " "))
	if err := runLocked(cmd); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		text := out.String()
		if len(text) > buildOutput {
			text = "…" + text[len(text)-buildOutput:]
		}
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			return "", &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The build of %s failed: %s, exit code %d.\n%s", w.project.ID, command[0], exit.ExitCode(), text),
				Remedy: "Fix what the build reports, then run it again."}
		}
		return "", fmt.Errorf("build %s: %w", w.project.ID, err)
	}
	return strings.Join(command, " "), nil
}

// runLocked keeps to one thread, since the death signal comes when the thread
// that started the command ends.
func runLocked(cmd *exec.Cmd) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return cmd.Run()
}
