// Package store keeps the bench's records in SQLite: one file a kind of record,
// and the outbox, into which every change that others should hear of is written
// in the same transaction. It decides nothing.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver
)

// ErrNotFound is what is not on record.
var ErrNotFound = errors.New("it is not on record")

// outboxKeep is how many events are kept for those who resume.
const outboxKeep = 50_000

// historyKeep is how long replaced facts are kept.
const historyKeep = 90 * 24 * time.Hour

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an opened database. It is made by Open and ends with Close.
type Store struct {
	db *sql.DB

	mu      sync.Mutex
	changed chan struct{} // closed and replaced when the outbox grows

	facts   factStatements
	savings chan saving
	closing chan struct{}
	written chan struct{} // closed when the writer of facts has ended
	once    sync.Once
}

// Open opens the database in file, making or migrating it as needed.
func Open(ctx context.Context, file string) (*Store, error) {
	dsn := "file:" + file + "?_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=busy_timeout(5000)" +
		"&_pragma=foreign_keys(1)&_pragma=synchronous(NORMAL)"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("open the records: %w", err)
	}
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
	facts, err := prepareFacts(ctx, db)
	if err != nil {
		db.Close()
		return nil, err
	}
	s := &Store{db: db, changed: make(chan struct{}), facts: facts, savings: make(chan saving, together), closing: make(chan struct{}), written: make(chan struct{})}
	go s.writeFacts()
	return s, nil
}

// Close ends it.
func (s *Store) Close() error {
	s.once.Do(func() { close(s.closing) })
	<-s.written
	return s.db.Close()
}

// Event is one line of the outbox: that a record of a kind has changed.
type Event struct {
	Sequence int64
	Type     string // device.changed, job.changed, …
	Subject  string // handle or id
	At       time.Time
}

// change runs f in a transaction and writes the event that f's change is.
func (s *Store) change(ctx context.Context, kind, subject string, f func(tx *sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin a change: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // nothing to roll back once it is committed
	if err := f(tx); err != nil {
		return err
	}
	if kind != "" {
		r, err := tx.ExecContext(ctx, `INSERT INTO outbox (type, subject, at) VALUES (?, ?, ?)`, kind, subject, stamp(time.Now()))
		if err != nil {
			return err
		}
		if err := trimOutbox(ctx, tx, r); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("keep a change: %w", err)
	}
	if kind != "" {
		s.tell()
	}
	return nil
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

// Events returns events after a sequence, at most limit.
func (s *Store) Events(ctx context.Context, after int64, limit int) ([]Event, error) {
	return query(ctx, s.db, func(r row) (e Event, err error) {
		var at string
		err = r.Scan(&e.Sequence, &e.Type, &e.Subject, &at)
		e.At = moment(at)
		return e, err
	}, `SELECT sequence, type, subject, at FROM outbox WHERE sequence > ? ORDER BY sequence LIMIT ?`, after, limit)
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
	if err != nil {
		return nil, err
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
	return out, rows.Err()
}

// one returns the only row, or ErrNotFound.
func one[T any](ctx context.Context, db *sql.DB, scan func(row) (T, error), q string, args ...any) (T, error) {
	v, err := scan(db.QueryRowContext(ctx, q, args...))
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
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
