package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// Old is what of one kind was kept before a time, and nothing needs any more.
type Old struct {
	Count  int
	Oldest time.Time
}

// The kinds of records that are dropped by their age.
var aged = map[string]string{
	// The newest of each app on each device says whether it works there now.
	"tryout": `FROM tryout WHERE created < ?1 AND created < (SELECT max(n.created) FROM tryout n WHERE n.device = tryout.device AND n.app = tryout.app)`,
	"job":    `FROM job WHERE created < ?1 AND state NOT IN ('waiting', 'running') AND (parent = '' OR parent NOT IN (SELECT id FROM job WHERE state IN ('waiting', 'running')))`,
	"audit":  `FROM audit WHERE at < ?1`,
	"use":    `FROM safe_use WHERE at < ?1`,
}

// Older returns what of a kind of records (tryout, job, audit, use) is from before a time and not needed.
func (s *Store) Older(ctx context.Context, kind string, before time.Time) (Old, error) {
	column := "created"
	if kind == "audit" || kind == "use" {
		column = "at"
	}
	return one(ctx, s.db, func(r row) (o Old, err error) {
		var oldest string
		err = r.Scan(&o.Count, &oldest)
		o.Oldest = moment(oldest)
		return o, err
	}, `SELECT count(*), coalesce(min(`+column+`), '') `+aged[kind], stamp(before))
}

// DropOlder drops what [Store.Older] returns, in portions, so that others can write meanwhile.
func (s *Store) DropOlder(ctx context.Context, kind string, before time.Time) error {
	table, _, _ := strings.Cut(strings.TrimPrefix(aged[kind], "FROM "), " ")
	for {
		var n int64
		err := s.change(ctx, "", "", func(tx *sql.Tx) error {
			r, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE rowid IN (SELECT rowid `+aged[kind]+` LIMIT 500)`, stamp(before))
			if err != nil {
				return err
			}
			n, err = r.RowsAffected()
			return err
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// DropAppFile forgets an app file by the digest of its manifest.
func (s *Store) DropAppFile(ctx context.Context, digest string) error {
	return s.change(ctx, "app.changed", digest, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM app_file WHERE digest = ?`, digest))
	})
}

// Shrink gives room that dropped records have left back to the disk.
func (s *Store) Shrink(ctx context.Context) error {
	if _, err := s.db.ExecContext(ctx, `VACUUM`); err != nil {
		return trouble(s.db.file, err)
	}
	_, err := s.db.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`)
	return trouble(s.db.file, err)
}

// Size is how many bytes the records take on disk.
func (s *Store) Size(ctx context.Context) (bytes int64, err error) {
	return one(ctx, s.db, func(r row) (n int64, err error) { return n, r.Scan(&n) }, `SELECT p.page_count * s.page_size FROM pragma_page_count p, pragma_page_size s`)
}

// CopyTo writes a copy of the records, as they are now, to a new file.
func (s *Store) CopyTo(ctx context.Context, file string) error {
	if _, err := s.db.ExecContext(ctx, `VACUUM INTO ?`, file); err != nil {
		return fmt.Errorf("copy the records: %w", trouble(s.db.file, err))
	}
	return os.Chmod(file, 0o600)
}

// LeftFile is a file that no record names.
type LeftFile struct {
	Name  string
	Bytes int64
	At    time.Time
}

var digestName = regexp.MustCompile(`^(` + damagedPrefix + `)?[0-9a-f]{64}$`)

// Left returns the files here that are none of the named ones. What is coming in parts is not among them.
func (f Files) Left(named map[string]bool) (left []LeftFile, err error) {
	entries, err := os.ReadDir(f.Dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !digestName.MatchString(e.Name()) || named[e.Name()] {
			continue
		}
		left = append(left, LeftFile{e.Name(), info.Size(), info.ModTime()})
	}
	return left, err
}

// DropLeft removes a file that [Files.Left] has returned, unless it was added again in the meantime.
func (f Files) DropLeft(l LeftFile) error {
	path := filepath.Join(f.Dir, l.Name)
	if info, err := os.Stat(path); err != nil || !info.ModTime().Equal(l.At) {
		return err
	}
	return os.Remove(path)
}

// Partials returns what has come in parts and is not whole; At is when bytes came last.
func (f Files) Partials() (parts []LeftFile, err error) {
	maps, err := filepath.Glob(filepath.Join(f.Dir, ".part-*.map"))
	for _, m := range maps {
		info, err := os.Stat(m)
		if err != nil {
			continue
		}
		digest := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(m), ".part-"), ".map")
		have, _ := f.Coming(digest)
		parts = append(parts, LeftFile{digest, have, info.ModTime()})
	}
	return parts, err
}

// reserveBytes is the room that is kept for dropping records when the disk is full: to drop a record is a
// write, too.
const reserveBytes = 8 << 20

func (f Files) reserve() string { return filepath.Join(filepath.Dir(f.Dir), ".reserve") } // beside the files

// KeepReserve takes up the room, if there is plenty.
func (f Files) KeepReserve() error {
	if _, err := os.Stat(f.reserve()); err == nil {
		return nil
	}
	if free, err := Free(filepath.Dir(f.Dir)); err != nil || free < 2*reserveBytes {
		return nil
	}
	zeroes := make([]byte, 1<<20)
	w, err := os.OpenFile(f.reserve(), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	for n := 0; n < reserveBytes && err == nil; n += len(zeroes) {
		_, err = w.Write(zeroes)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.reserve()))
	}
	return w.Close()
}

// GiveReserve gives the room back to the disk.
func (f Files) GiveReserve() { os.Remove(f.reserve()) } //nolint:errcheck // it may not be there
