package store

import (
	"context"
	"database/sql"
	"encoding/json"

	"earlybench.invalid/earlybench/core/job"
)

// Save keeps a job.
func (s *Store) Save(ctx context.Context, j job.Job) error {
	raw, err := json.Marshal(j)
	if err != nil {
		return err
	}
	return s.change(ctx, "job.changed", j.ID, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO job (id, created, state, device, parent, record) VALUES (?,?,?,?,?,?)
			ON CONFLICT (id) DO UPDATE SET state = excluded.state, record = excluded.record`,
			j.ID, stamp(j.Created), j.State, j.Device, j.Parent, string(raw))
		if err != nil {
			return err
		}
		return made(ctx, tx, "job/"+j.ID)
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

// Jobs returns jobs, newest first, after the one with an id, or from the newest if
// that is "".
func (s *Store) Jobs(ctx context.Context, after string, limit int) ([]job.Job, error) {
	return query(ctx, s.db, scanJob, `SELECT record FROM job WHERE ?1 = '' OR (created, id) < (SELECT created, id FROM job WHERE id = ?1)
		ORDER BY created DESC, id DESC LIMIT ?2`, after, limit)
}

// Children returns the jobs that are part of another, the oldest first.
func (s *Store) Children(ctx context.Context, parent string) ([]job.Job, error) {
	return query(ctx, s.db, scanJob, `SELECT record FROM job WHERE parent = ? AND parent <> '' ORDER BY created, id`, parent)
}

// OpenJobs returns the jobs that a service's end has cut off, the oldest first.
func (s *Store) OpenJobs(ctx context.Context) ([]job.Job, error) {
	return query(ctx, s.db, scanJob, `SELECT record FROM job WHERE state IN ('waiting', 'running') ORDER BY created, id`)
}
