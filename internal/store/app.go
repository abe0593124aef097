package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/driver"
)

// DriverSet is a driver set whose file the bench has.
type DriverSet = driver.Held

// DriverSets returns the sets, by name and version.
func (s *Store) DriverSets(ctx context.Context) ([]DriverSet, error) {
	return query(ctx, s.db, func(r row) (d DriverSet, err error) {
		var raw string
		if err = r.Scan(&d.Digest, &raw, &d.Publisher, &d.Signer); err != nil {
			return d, err
		}
		return d, json.Unmarshal([]byte(raw), &d.Manifest)
	}, `SELECT digest, record, publisher, signer FROM driver_set ORDER BY name, version`)
}

// SaveDriverSet keeps a set.
func (s *Store) SaveDriverSet(ctx context.Context, d DriverSet) error {
	raw, err := json.Marshal(d.Manifest)
	if err != nil {
		return err
	}
	return s.change(ctx, "driver.changed", d.Manifest.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO driver_set (digest, name, version, record, publisher, signer) VALUES (?,?,?,?,?,?) ON CONFLICT (digest) DO NOTHING`,
			d.Digest, d.Manifest.Name, d.Manifest.Version, string(raw), d.Publisher, d.Signer)
		return err
	})
}

// Project is an app's directory that the bench may build from.
type Project struct{ App, Dir string }

// Projects returns the projects, by app.
func (s *Store) Projects(ctx context.Context) ([]Project, error) {
	return query(ctx, s.db, func(r row) (p Project, err error) { return p, r.Scan(&p.App, &p.Dir) },
		`SELECT app, dir FROM project ORDER BY app`)
}

// Project returns the project of an app.
func (s *Store) Project(ctx context.Context, app string) (Project, error) {
	return one(ctx, s.db, func(r row) (p Project, err error) { return p, r.Scan(&p.App, &p.Dir) },
		`SELECT app, dir FROM project WHERE app = ?`, app)
}

// SaveProject keeps a project.
func (s *Store) SaveProject(ctx context.Context, p Project) error {
	return s.change(ctx, "project.changed", p.App, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO project (app, dir) VALUES (?,?) ON CONFLICT (app) DO UPDATE SET dir = excluded.dir`, p.App, p.Dir)
		return err
	})
}

// AppFile is an app file that the bench has packed or taken in.
type AppFile struct {
	Digest  string // of its manifest
	App     string
	Version string
	File    string // SHA-256 of the whole file
	Size    int64
	Created time.Time
}

const appFileColumns = `digest, app, version, file, size, created`

func scanAppFile(r row) (a AppFile, err error) {
	var created string
	err = r.Scan(&a.Digest, &a.App, &a.Version, &a.File, &a.Size, &created)
	a.Created = moment(created)
	return a, err
}

// AppFiles returns the app files, newest first.
func (s *Store) AppFiles(ctx context.Context) ([]AppFile, error) {
	return query(ctx, s.db, scanAppFile, `SELECT `+appFileColumns+` FROM app_file ORDER BY created DESC`)
}

// AppFile returns an app file by the digest of its manifest.
func (s *Store) AppFile(ctx context.Context, digest string) (AppFile, error) {
	return one(ctx, s.db, scanAppFile, `SELECT `+appFileColumns+` FROM app_file WHERE digest = ?`, digest)
}

// SaveAppFile keeps an app file's record.
func (s *Store) SaveAppFile(ctx context.Context, a AppFile) error {
	return s.change(ctx, "app.changed", a.App, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO app_file (`+appFileColumns+`) VALUES (?,?,?,?,?,?)
			ON CONFLICT (digest) DO UPDATE SET created = excluded.created`,
			a.Digest, a.App, a.Version, a.File, a.Size, stamp(a.Created))
		return err
	})
}

// Where a tryout that did not pass ended, as the fact app.failed tells it.
const (
	EndedAtSpace = "space"
	EndedAsleep  = "asleep"
	EndedAtStart = "start"
	EndedAtLog   = "log"
	EndedLost    = "lost"
)

// Outcome is how a tryout came out.
type Outcome string

// The outcomes. A person has stopped a tryout, or the device went away in the middle of it:
// both say nothing of the app.
const (
	OutcomePassed      Outcome = "passed"
	OutcomeFailed      Outcome = "failed"
	OutcomeStopped     Outcome = "stopped"
	OutcomeInterrupted Outcome = "interrupted"
)

// CameOut returns the outcome of a tryout, also of one that an earlier version kept.
func (t *Tryout) CameOut() Outcome {
	switch {
	case t.Outcome != "":
		return t.Outcome
	case t.Passed:
		return OutcomePassed
	}
	return OutcomeFailed
}

// Tryout is the evidence that a device works with an app, or does not.
type Tryout struct {
	ID      string    `json:"id"`
	Device  string    `json:"device"` // handle, as it was
	App     string    `json:"app"`
	Version string    `json:"version"`
	Digest  string    `json:"digest"` // of the app file's manifest
	Passed  bool      `json:"passed"`
	Outcome Outcome   `json:"outcome,omitempty"` // "" in records of earlier versions
	Failed  string    `json:"failed,omitempty"`  // why it did not pass
	Ended   string    `json:"ended,omitempty"`   // where, if that shows something of the device or the app
	Points  []Point   `json:"points"`
	Log     []string  `json:"log"`
	Picture string    `json:"picture,omitempty"` // SHA-256 of the PNG
	Created time.Time `json:"created"`
}

// Point is one thing that a tryout looks at.
type Point struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Text string `json:"text,omitempty"`
	// Took is how long it took, in milliseconds.
	Took int64 `json:"took_ms"`
}

func scanTryout(r row) (t Tryout, err error) {
	var raw string
	if err = r.Scan(&raw); err != nil {
		return t, err
	}
	return t, json.Unmarshal([]byte(raw), &t)
}

// Tryouts returns tryouts, newest first, after the one with an id, or from the newest
// where that is ""; of a device's id where that is not "".
func (s *Store) Tryouts(ctx context.Context, device, after string, limit int) ([]Tryout, error) {
	return query(ctx, s.db, scanTryout, `SELECT record FROM tryout WHERE ?1 IN ('', device)
		AND (?2 = '' OR (created, id) < (SELECT created, id FROM tryout WHERE id = ?2)) ORDER BY created DESC, id DESC LIMIT ?3`, device, after, limit)
}

// Tryout returns a tryout.
func (s *Store) Tryout(ctx context.Context, id string) (Tryout, error) {
	return one(ctx, s.db, scanTryout, `SELECT record FROM tryout WHERE id = ?`, id)
}

// LastTryout returns the newest tryout of an app on a device, by the device's
// id.
func (s *Store) LastTryout(ctx context.Context, device, app string) (Tryout, error) {
	return one(ctx, s.db, scanTryout, `SELECT record FROM tryout WHERE device = ? AND app = ? ORDER BY created DESC LIMIT 1`, device, app)
}

// SaveTryout keeps a tryout of a device, by the device's id.
func (s *Store) SaveTryout(ctx context.Context, device string, t Tryout) error {
	raw, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return s.change(ctx, "tryout.added", t.ID, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO tryout (id, device, app, passed, created, record) VALUES (?,?,?,?,?,?)`,
			t.ID, device, t.App, t.Passed, stamp(t.Created), string(raw))
		if err != nil {
			return fmt.Errorf("keep the tryout: %w", err)
		}
		return nil
	})
}
