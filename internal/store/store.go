// Package store keeps the bench's records in SQLite, with one Go file for each kind of
// record, and the outbox: an event for every change that others should know of, written in
// the same transaction as the change. It makes no decisions.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// ErrNotFound is the error for what is not on record.
var ErrNotFound = problem.New(problem.NotFound, "it is not on record")

// outboxKeep is how many events are kept for readers that resume.
const outboxKeep = 50_000

// historyKeep is how long replaced facts are kept.
const historyKeep = 90 * 24 * time.Hour

// mostConns is how many connections to the database file there are at most; each holds two or three files
// open. Who asks for more waits.
const mostConns = 16

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an opened database. It is made by Open and ends with Close.
type Store struct {
	db *database

	mu      sync.Mutex
	changed chan struct{} // closed and replaced when the outbox grows

	prepared statements
	sequence uint64             // of the newest fact; only the writer's
	told     map[[2]string]bool // events of the transaction; only the writer's
	budgets  budgets            // of the history of subjects; only the writer's
	locked   bool               // the last transaction could not begin; only the writer's
	audits   atomic.Int64       // number of the newest line of the audit
	writes   chan write
	closing  chan struct{}
	written  chan struct{} // closed when the writer of facts has ended
	once     sync.Once
}

// Open opens the database in file, making or migrating it as needed.
func Open(ctx context.Context, file string) (*Store, error) {
	// With synchronous(FULL) each transaction of the write-ahead log is synced, so that what was
	// acknowledged survives a loss of power. With NORMAL it would survive only the end of the program.
	// The writer takes up to 128 changes into one transaction, so that one sync serves them all.
	dsn := "file:" + file + "?_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=busy_timeout(250)" +
		"&_pragma=foreign_keys(1)&_pragma=synchronous(FULL)"
	if err := private(file); err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	pool, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	pool.SetMaxOpenConns(mostConns)
	pool.SetMaxIdleConns(mostConns)
	db := &database{DB: pool, file: file}
	s, err := read(ctx, db)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("open the records: %w", trouble(file, err))
	}
	go s.writeAll()
	return s, nil
}

// read brings the records to the newest schema, and reads what the store counts on from.
func read(ctx context.Context, db *database) (*Store, error) {
	if err := whole(ctx, db); err != nil {
		return nil, err
	}
	if err := migrate(ctx, db); err != nil {
		return nil, err
	}
	prepared, err := prepare(ctx, db.DB)
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, told: map[[2]string]bool{}, budgets: budgets{}, changed: make(chan struct{}), prepared: prepared, writes: make(chan write, together), closing: make(chan struct{}), written: make(chan struct{})}
	if err := db.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM fact`).Scan(&s.sequence); err != nil {
		return nil, fmt.Errorf("read the number of the newest fact: %w", err)
	}
	var audits int64
	if err := db.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) FROM audit`).Scan(&audits); err != nil {
		return nil, fmt.Errorf("read the number of the newest line of the audit: %w", err)
	}
	s.audits.Store(audits)
	return s, nil
}

// private makes the database file its owner's alone; SQLite gives the files beside it the same mode.
func private(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(f.Chmod(0o600), f.Close())
}

// Close ends it.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closing) })
	<-s.written
	return s.db.Close()
}

// Tell writes an event for each subject, without a change of a record.
func (s *Store) Tell(ctx context.Context, kind string, subjects ...string) error {
	return s.write(ctx, write{tells: true, bare: true, do: func(ctx context.Context, tx *sql.Tx) error {
		for _, subject := range subjects {
			if err := s.event(ctx, tx, kind, subject); err != nil {
				return err
			}
		}
		return nil
	}})
}

// Event is one line of the outbox: a record of some kind has changed.
type Event struct {
	Sequence int64
	Type     string // device.changed, job.changed, …
	Subject  string // handle or id
	At       time.Time
}

// trimOutbox drops old events now and then.
func trimOutbox(ctx context.Context, tx *sql.Tx, r sql.Result) error {
	if n, _ := r.LastInsertId(); n%1000 == 0 {
		if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE sequence <= ?`, n-outboxKeep); err != nil {
			return fmt.Errorf("drop old events: %w", err)
		}
	}
	return nil
}

// tell wakes those who wait for events.
func (s *Store) tell() {
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.changed)
	s.changed = make(chan struct{})
}

// Changed is closed at the next event.
func (s *Store) Changed() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.changed
}

// Last is the sequence of the newest event.
func (s *Store) Last(ctx context.Context) (int64, error) {
	var n int64
	err := s.db.QueryRowContext(ctx, `SELECT coalesce(max(sequence), 0) FROM outbox`).Scan(&n)
	return n, err
}

// Oldest is the sequence of the oldest event that is kept; 0 where there is none.
func (s *Store) Oldest(ctx context.Context) (int64, error) {
	var n int64
	err := s.db.QueryRowContext(ctx, `SELECT coalesce(min(sequence), 0) FROM outbox`).Scan(&n)
	return n, err
}

// Events returns events after a sequence, at most limit.
func (s *Store) Events(ctx context.Context, after int64, limit int) ([]Event, error) {
	rows, err := s.prepared.events.QueryContext(ctx, after, limit)
	return collect(s.db, "FROM outbox", rows, err, func(r row) (e Event, err error) {
		var at string
		err = r.Scan(&e.Sequence, &e.Type, &e.Subject, &at)
		e.At = moment(at)
		return e, err
	})
}

// Setting returns a setting; "" if it is not set.
func (s *Store) Setting(ctx context.Context, key string) (string, error) {
	var v string
	err := s.db.QueryRowContext(ctx, `SELECT value FROM setting WHERE key = ?`, key).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetSetting keeps a setting.
func (s *Store) SetSetting(ctx context.Context, key, value string) error {
	return s.change(ctx, "setting.changed", key, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO setting (key, value) VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value`, key, value)
		return err
	})
}

type row interface{ Scan(...any) error }

// query collects rows. A record that cannot be read is left out, so that it keeps nobody from the others;
// [Store.Damaged] tells of it.
func query[T any](ctx context.Context, db *database, scan func(row) (T, error), q string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, q, args...)
	return collect(db, q, rows, err, scan)
}

func collect[T any](db *database, q string, rows *sql.Rows, err error, scan func(row) (T, error)) ([]T, error) {
	if err != nil {
		return nil, trouble(db.file, err)
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			db.found(q, err) //nolint:errcheck // the others are read
			continue
		}
		out = append(out, v)
	}
	return out, trouble(db.file, rows.Err())
}

// one returns the only row, or ErrNotFound.
func one[T any](ctx context.Context, db *database, scan func(row) (T, error), q string, args ...any) (T, error) {
	v, err := scan(db.QueryRowContext(ctx, q, args...))
	switch {
	case errors.Is(err, sql.ErrNoRows):
		err = ErrNotFound
	case err != nil && code(err) == 0 && ctx.Err() == nil:
		err = db.found(q, err)
	}
	return v, trouble(db.file, err)
}

// stamp writes a time so that times sort as texts.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02T15:04:05.000000000Z")
}

func moment(s string) time.Time {
	t, _ := time.Parse(time.RFC3339Nano, s)
	return t
}
