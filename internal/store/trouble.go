package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"earlybench.invalid/earlybench/core/problem"
)

// database is the opened database file.
type database struct {
	*sql.DB
	file    string
	damaged damages
}

// code is SQLite's primary result code of an error; 0 if it is not an error of SQLite.
func code(err error) int {
	if e, ok := errors.AsType[*sqlite.Error](err); ok {
		return e.Code() & 0xff
	}
	return 0
}

// isLocked reports whether another program holds the file.
func isLocked(err error) bool {
	c := code(err)
	return c == sqlite3.SQLITE_BUSY || c == sqlite3.SQLITE_LOCKED
}

// isDamaged reports whether the file is not what was written to it.
func isDamaged(err error) bool {
	c := code(err)
	return c == sqlite3.SQLITE_CORRUPT || c == sqlite3.SQLITE_NOTADB
}

// trouble says in words why the file cannot be read or written, and what to do. Other errors are
// returned as they are.
func trouble(file string, err error) error {
	dir := filepath.Dir(file)
	p := &problem.Problem{Kind: problem.Unavailable}
	switch c := code(err); {
	case c == 0:
		return err
	case isLocked(err):
		p.Text = fmt.Sprintf("Another program has locked %s.", file)
		p.Remedy = "Close whatever else uses that file, such as a database viewer, then try again."
	case c == sqlite3.SQLITE_FULL:
		p.Text = fmt.Sprintf("The disk of %s is full.", dir)
		p.Remedy = "Free some space, then try again. earlybench tidy removes what the bench no longer needs."
	case c == sqlite3.SQLITE_READONLY || c == sqlite3.SQLITE_CANTOPEN || c == sqlite3.SQLITE_PERM:
		p.Text = fmt.Sprintf("%s cannot be written (%v).", file, err)
		p.Remedy = fmt.Sprintf("Make %s, its contents and the disk writable, then try again.", dir)
	case isDamaged(err):
		return damaged(file, err.Error())
	default:
		if why := refusal(dir); why != nil {
			p.Text = fmt.Sprintf("%s cannot be written: %v.", dir, why)
			p.Remedy = fmt.Sprintf("Make %s writable again, then try again. The system log says why a disk became read-only.", dir)
			return p
		}
		p.Text = fmt.Sprintf("The disk could not read or write %s (%v).", file, err)
		p.Remedy = "Check that the disk has space and is not failing, then try again."
	}
	return p
}

// unavailable is the error where the records cannot be written: nothing of the change was kept.
func (s *Store) unavailable(doing string, err error) error {
	if p, ok := errors.AsType[*problem.Problem](trouble(s.db.file, err)); ok {
		p.Text += " Nothing was saved."
		return p
	}
	return problem.Errorf(problem.Unavailable, "%s: %w; nothing was saved", doing, err)
}

// asUnavailable gives an error of the database its kind. Errors that have a kind keep it.
func (s *Store) asUnavailable(err error) error {
	if code(err) != 0 {
		return s.unavailable("change the records", err)
	}
	return err
}

// whole is an error if the file is damaged. It waits for another program that holds the file.
func whole(ctx context.Context, db *database) error {
	for start := time.Now(); ; {
		var found string
		err := db.QueryRowContext(ctx, `PRAGMA quick_check(1)`).Scan(&found)
		if isLocked(err) && time.Since(start) < lockedWithin {
			continue
		}
		if err == nil && found != "ok" {
			return damaged(db.file, found)
		}
		return err
	}
}

func damaged(file, how string) error {
	return &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("%s is damaged (%s).", file, how),
		Remedy: "Restore a backup; the damaged file is kept beside it: earlybench backup restore FILE."}
}

// migrate brings the file to the newest schema. One of a newer program is refused, since this one would
// not keep what it does not know.
func migrate(ctx context.Context, db *database) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, sub, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		return err
	}
	has, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	if known := sources[len(sources)-1].Version; has > known {
		return &problem.Problem{Kind: problem.Unsupported, Text: fmt.Sprintf("%s was written by a newer Early Bench: its records have version %d, and this program knows up to %d.", db.file, has, known),
			Remedy: "Use that program, or give another state directory with --state. Nothing was changed."}
	}
	_, err = p.Up(ctx)
	return err
}

// refusal is why nothing can be written in a directory; nil if something can.
func refusal(dir string) error {
	f, err := os.CreateTemp(dir, ".probe-*")
	if err == nil {
		return errors.Join(f.Close(), os.Remove(f.Name()))
	}
	if e, ok := errors.AsType[*fs.PathError](err); ok {
		return e.Err
	}
	return err
}
