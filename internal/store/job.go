package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"earlybench.invalid/earlybench/core/job"
)

// Save keeps a job.
func (s *Store) Save(ctx context.Context, j job.Job) error {
	raw, err := json.Marshal(j)
	if err != nil {
		return err
	}
	return s.change(ctx, "job.changed", j.ID, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO job (id, created, state, device, record) VALUES (?,?,?,?,?)
			ON CONFLICT (id) DO UPDATE SET state = excluded.state, record = excluded.record`,
			j.ID, stamp(j.Created), j.State, j.Device, string(raw))
		return err
	})
}

func scanJob(r row) (j job.Job, err error) {
	var raw string
	if err = r.Scan(&raw); err != nil {
		return j, err
	}
	return j, json.Unmarshal([]byte(raw), &j)
}

// Job returns a job.
func (s *Store) Job(ctx context.Context, id string) (job.Job, error) {
	return one(ctx, s.db, scanJob, `SELECT record FROM job WHERE id = ?`, id)
}

// Jobs returns the newest jobs, newest first.
func (s *Store) Jobs(ctx context.Context, limit int) ([]job.Job, error) {
	return query(ctx, s.db, scanJob, `SELECT record FROM job ORDER BY created DESC, id DESC LIMIT ?`, limit)
}

// InterruptJobs marks the jobs that a service left behind which was killed.
func (s *Store) InterruptJobs(ctx context.Context, now time.Time) error {
	left, err := query(ctx, s.db, scanJob, `SELECT record FROM job WHERE state IN (?, ?)`, job.Waiting, job.Running)
	if err != nil {
		return err
	}
	for _, j := range left {
		j.Interrupt(now.UTC())
		if err := s.Save(ctx, j); err != nil {
			return err
		}
	}
	return nil
}
