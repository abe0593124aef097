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
	"io/fs"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"

	"earlybench.invalid/earlybench/core/problem"
)

// ErrNotFound is the error for what is not on record.
var ErrNotFound = problem.New(problem.NotFound, "it is not on record")

// unavailable is the error where the records cannot be written or read now: the disk is
// full, or the file is locked or gone. Nothing of the change was kept.
func unavailable(doing string, err error) error {
	return problem.Errorf(problem.Unavailable, "%s: %w; nothing of it was kept", doing, err)
}

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
	db *sql.DB

	mu      sync.Mutex
	changed chan struct{} // closed and replaced when the outbox grows

	prepared statements
	sequence uint64             // of the newest fact; only the writer's
	told     map[[2]string]bool // events of the transaction; only the writer's
	budgets  budgets            // of the history of subjects; only the writer's
	audits   atomic.Int64       // number of the newest line of the audit
	writes   chan write
	closing  chan struct{}
	written  chan struct{} // closed when the writer of facts has ended
	once     sync.Once
}

// Open opens the database in file, making or migrating it as needed.
func Open(ctx context.Context, file string) (*Store, error) {
	dsn := "file:" + file + "?_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=busy_timeout(5000)" +
		"&_pragma=foreign_keys(1)&_pragma=synchronous(NORMAL)"
	if err := private(file); err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
	db.SetMaxOpenConns(mostConns)
	db.SetMaxIdleConns(mostConns)
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err == nil {
		_, err = p.Up(ctx)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("open the records in %s: %w", file, err)
	}
	prepared, err := prepare(ctx, db)
	if err != nil {
		db.Close()
		return nil, err
	}
	var sequence uint64
	if err := db.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM fact`).Scan(&sequence); err != nil {
		db.Close()
		return nil, fmt.Errorf("read the number of the newest fact: %w", err)
	}
	s := &Store{db: db, sequence: sequence, told: map[[2]string]bool{}, budgets: budgets{}, changed: make(chan struct{}), prepared: prepared, writes: make(chan write, together), closing: make(chan struct{}), written: make(chan struct{})}
	var audits int64
	if err := db.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) FROM audit`).Scan(&audits); err != nil {
		db.Close()
		return nil, fmt.Errorf("read the number of the newest line of the audit: %w", err)
	}
	s.audits.Store(audits)
	go s.writeAll()
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

// asUnavailable gives an error of the database its kind. Errors that have a kind keep it.
func asUnavailable(err error) error {
	if e, ok := errors.AsType[*sqlite.Error](err); ok {
		return unavailable("change the records", e)
	}
	return err
}

// asUnread is [asUnavailable] for what was only read.
func asUnread(err error) error {
	if e, ok := errors.AsType[*sqlite.Error](err); ok {
		return problem.Errorf(problem.Unavailable, "read the records: %w", e)
	}
	return err
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
	return collect(rows, err, func(r row) (e Event, err error) {
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

// query collects rows.
func query[T any](ctx context.Context, db *sql.DB, scan func(row) (T, error), q string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, q, args...)
	return collect(rows, err, scan)
}

func collect[T any](rows *sql.Rows, err error, scan func(row) (T, error)) ([]T, error) {
	if err != nil {
		return nil, asUnread(err)
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		v, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, asUnread(rows.Err())
}

// one returns the only row, or ErrNotFound.
func one[T any](ctx context.Context, db *sql.DB, scan func(row) (T, error), q string, args ...any) (T, error) {
	v, err := scan(db.QueryRowContext(ctx, q, args...))
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return v, asUnread(err)
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
