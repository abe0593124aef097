package backup

import (
	"context"
	"os"
	"path/filepath"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// Backups is the use case. All fields are needed.
type Backups struct {
	Store   *store.Store
	Dir     string // the state directory
	Bench   func() string
	Program string // its version
	Clock   clock.Clock
	Jobs    *job.Runner
}

// KindBackup is the kind of job that writes a backup.
const KindBackup = "backup"

type args struct {
	File string `json:"file"`
}

// Kinds returns the kinds of jobs of this use case.
func (b *Backups) Kinds() []job.Kind {
	return []job.Kind{{Name: KindBackup, Run: b.run, Limit: func(job.Job) (string, int) { return "backup", 1 }}}
}

// Start starts the job that writes a backup to a file, which is named by its whole path.
func (b *Backups) Start(ctx context.Context, file, actor string) (job.Job, error) {
	if !filepath.IsAbs(file) {
		return job.Job{}, problem.Errorf(problem.Invalid, "%.200q is not an absolute path of a file", file)
	}
	file = filepath.Clean(file)
	if err := target(b.Dir, file); err != nil {
		return job.Job{}, err
	}
	return b.Jobs.Start(ctx, job.New{Kind: KindBackup, Title: "Back up to " + file, Actor: actor, Args: args{file}, Phases: []string{"write"}})
}

func (b *Backups) run(ctx context.Context, run *job.Run) (any, error) {
	var a args
	if err := run.Args(&a); err != nil {
		return nil, err
	}
	run.Phase("write", 0)
	if run.Job().Begun > 1 && isWhole(ctx, a.File) {
		return nil, nil // the service was killed before the job's end was kept
	}
	began := false
	_, err := Write(ctx, Source{Store: b.Store, Dir: b.Dir, Bench: b.Bench(), Program: b.Program, Now: b.Clock.Now()}, a.File, func(done, total int64) {
		if !began {
			began = true
			run.Phase("write", total)
		}
		run.Progress(done)
	})
	return nil, err
}

func isWhole(ctx context.Context, file string) bool {
	f, err := os.Open(file)
	if err != nil {
		return false
	}
	defer f.Close()
	_, err = Read(ctx, f)
	return err == nil
}
