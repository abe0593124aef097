package tryout

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/kits"
	"earlybench.invalid/earlybench/internal/spawn"
)

// buildOutput is how much of what a build printed is kept, in bytes.
const buildOutput = 64 << 10

// build runs the project's build command in its directory.
func (w *work) build(ctx context.Context) (string, error) {
	command := w.project.Build.Command
	chosen, err := w.kit(ctx)
	if err != nil {
		return "", err
	}
	env := os.Environ()
	if chosen != nil {
		env = kits.WithEnvironment(env, chosen.Environment)
	}
	path, err := lookPath(command[0], chosen)
	if err != nil {
		return "", &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The build needs the program %s, which is not on this computer's search path.", command[0]),
			Remedy: "Install it, or add its directory to the PATH that the service is started with."}
	}
	if err := w.fill(ctx); err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, path, command[1:]...)
	cmd.Dir, cmd.Env = w.project.Dir, env
	for k, v := range w.project.Build.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	done := strings.Join(command, " ")
	if chosen != nil {
		done = fmt.Sprintf("%s, with %s %s of %s", done, w.project.Kit.Name, chosen.Copy.Version, chosen.Copy.Path)
	}
	w.run.Note(done)
	if text, err := spawn.Run(cmd, buildOutput); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			return "", &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The build of %s failed: %s, exit code %d.\n%s", w.project.ID, command[0], exit.ExitCode(), text),
				Remedy: "Fix what the build reports, then run it again."}
		}
		return "", fmt.Errorf("build %s: %w", w.project.ID, err)
	}
	return done, nil
}

// kit is the copy of the kit that the build needs; nil if it names none. One that is missing is fetched from the peer that the
// project names.
func (w *work) kit(ctx context.Context) (*kits.Chosen, error) {
	n := w.project.Kit
	chosen, err := w.Kits.ForProject(ctx, w.project)
	if err == nil || n.At == "" {
		return chosen, err
	}
	if err := w.FetchKit(ctx, n, w.run.Note); err != nil {
		return nil, err
	}
	return w.Kits.ForProject(ctx, w.project)
}

// lookPath finds the program of a build: in the kit's directories, then on the search path.
func lookPath(program string, chosen *kits.Chosen) (string, error) {
	if chosen != nil && filepath.Base(program) == program {
		for _, dir := range chosen.Environment.Search {
			if path, err := exec.LookPath(filepath.Join(dir, program)); err == nil {
				return path, nil
			}
		}
	}
	return exec.LookPath(program)
}
