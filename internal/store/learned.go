package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// Learned is how often a cause was found, on devices of a family that were connected to a
// host.
type Learned struct {
	Family string // "" for devices that did not show up at all
	Host   string
	Cause  string
	Cases  int
	Last   time.Time
}

// Learned returns all that was learned, by family, host and cause.
func (s *Store) Learned(ctx context.Context) ([]Learned, error) {
	return query(ctx, s.db, func(r row) (l Learned, err error) {
		var last string
		err = r.Scan(&l.Family, &l.Host, &l.Cause, &l.Cases, &last)
		l.Last = moment(last)
		return l, err
	}, `SELECT family, host, cause, cases, last FROM learned ORDER BY family, host, cases DESC, cause`)
}

// Learn counts one more case.
func (s *Store) Learn(ctx context.Context, family, host, cause string, at time.Time) error {
	return s.change(ctx, "learned.changed", family, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO learned (family, host, cause, cases, last) VALUES (?,?,?,1,?)
			ON CONFLICT (family, host, cause) DO UPDATE SET cases = cases + 1, last = excluded.last`, family, host, cause, stamp(at))
		return err
	})
}

// Unlearn forgets all cases, or those of one family, and returns how many.
func (s *Store) Unlearn(ctx context.Context, family string, all bool) (forgotten int64, err error) {
	err = s.change(ctx, "learned.changed", family, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM learned WHERE ? OR family = ?`, all, family)
		if err != nil {
			return err
		}
		forgotten, err = r.RowsAffected()
		return err
	})
	return forgotten, err
}

// SheetFile is the last valid text of a sheet in the directory beside the bench.
type SheetFile struct {
	Name  string
	Text  []byte
	Taken time.Time
}

// SheetFiles returns the last good texts, by name.
func (s *Store) SheetFiles(ctx context.Context) ([]SheetFile, error) {
	return query(ctx, s.db, func(r row) (f SheetFile, err error) {
		var taken string
		err = r.Scan(&f.Name, &f.Text, &taken)
		f.Taken = moment(taken)
		return f, err
	}, `SELECT name, text, taken FROM sheet_file ORDER BY name`)
}

// SaveSheetFiles replaces the last valid texts by these.
func (s *Store) SaveSheetFiles(ctx context.Context, files []SheetFile) error {
	return s.change(ctx, "sheet.changed", "", func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM sheet_file`); err != nil {
			return err
		}
		for _, f := range files {
			if _, err := tx.ExecContext(ctx, `INSERT INTO sheet_file (name, text, taken) VALUES (?,?,?)`, f.Name, string(f.Text), stamp(f.Taken)); err != nil {
				return fmt.Errorf("keep sheet %s: %w", f.Name, err)
			}
		}
		return nil
	})
}
