package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// Access is a key for a program, or for the browser of a person who has no bench.
type Access struct {
	ID      string
	Name    string
	Secret  string // its SHA-256 digest
	Rights  []string
	Created time.Time
	Ends    time.Time
	Used    time.Time   // the last time; zero: never
	Devices []string    // ids of the only devices that it is for; nil: all
	Page    *PersonPage // nil for a program's
}

// PersonPage is where the browser of a person who has no bench is served.
type PersonPage struct {
	Address     string `json:"address"` // with its port
	Certificate []byte `json:"certificate"`
	Key         []byte `json:"key"`    // of the certificate, PKCS #8: the page keeps it over a restart
	Ticket      string `json:"ticket"` // SHA-256 digest of the one-time secret; "" once it is used
}

const accessColumns = `id, name, secret, rights, created, ends, used, devices, page`

func scanAccess(r row) (a Access, err error) {
	var rights, created, ends, used, devices, page string
	if err = r.Scan(&a.ID, &a.Name, &a.Secret, &rights, &created, &ends, &used, &devices, &page); err != nil {
		return a, err
	}
	a.Rights, a.Created, a.Ends, a.Used = strings.Split(rights, ","), moment(created), moment(ends), moment(used)
	if devices != "" {
		a.Devices = strings.Split(devices, ",")
	}
	if page != "" {
		if err = json.Unmarshal([]byte(page), &a.Page); err != nil {
			return a, fmt.Errorf("read the page of %s: %w", a.Name, err)
		}
	}
	return a, nil
}

// Accesses returns the keys, by name.
func (s *Store) Accesses(ctx context.Context) ([]Access, error) {
	return query(ctx, s.db, scanAccess, `SELECT `+accessColumns+` FROM access ORDER BY name`)
}

// AddAccess keeps a key. One of the same name that has ended makes room for it.
func (s *Store) AddAccess(ctx context.Context, a Access) error {
	page := ""
	if a.Page != nil {
		raw, err := json.Marshal(a.Page)
		if err != nil {
			return fmt.Errorf("write the page of %s down: %w", a.Name, err)
		}
		page = string(raw)
	}
	return s.change(ctx, "access.changed", a.Name, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM access WHERE name = ? AND ends <= ?`, a.Name, stamp(a.Created)); err != nil {
			return err
		}
		var n int
		if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM access WHERE name = ?`, a.Name).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			return problem.Errorf(problem.Taken, "there is already an access key %s: end it first, or choose another name", a.Name)
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO access (`+accessColumns+`) VALUES (?,?,?,?,?,?,'',?,?)`,
			a.ID, a.Name, a.Secret, strings.Join(a.Rights, ","), stamp(a.Created), stamp(a.Ends), strings.Join(a.Devices, ","), page)
		if err != nil {
			return err
		}
		return made(ctx, tx, "access/"+a.Name)
	})
}

// usedEvery is how exactly it is kept when a key was used last.
const usedEvery = time.Minute

// AccessBy finds a key by the digest of its secret, and keeps that it was used.
func (s *Store) AccessBy(ctx context.Context, digest string, now time.Time) (Access, error) {
	a, err := one(ctx, s.db, scanAccess, `SELECT `+accessColumns+` FROM access WHERE secret = ?`, digest)
	if err != nil {
		return a, err
	}
	if now.Sub(a.Used).Abs() >= usedEvery {
		err := s.change(ctx, "", "", func(tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, `UPDATE access SET used = ? WHERE id = ?`, stamp(now), a.ID)
			return err
		})
		if err != nil {
			return a, err
		}
	}
	return a, nil
}

// AccessStands reports whether a key is on record and good at now.
func (s *Store) AccessStands(ctx context.Context, id string, now time.Time) (bool, error) {
	a, err := one(ctx, s.db, scanAccess, `SELECT `+accessColumns+` FROM access WHERE id = ?`, id)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil && now.Before(a.Ends), err
}

// TakeTicket uses up the one-time secret of a person's page, by its digest, and gives the key the secret
// whose digest is given instead. [ErrNotFound] for one that is used or unknown.
func (s *Store) TakeTicket(ctx context.Context, id, ticket, secret string) error {
	return s.change(ctx, "access.changed", "", func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE access SET secret = ?, page = json_set(page, '$.ticket', '') WHERE id = ? AND page <> '' AND json_extract(page, '$.ticket') = ? AND ? <> ''`, secret, id, ticket, ticket)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return fmt.Errorf("one-time address: %w", ErrNotFound)
		}
		return nil
	})
}

// DropAccess ends a key.
func (s *Store) DropAccess(ctx context.Context, name string) error {
	return s.change(ctx, "access.changed", name, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM access WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return fmt.Errorf("access key %.60q: %w", name, ErrNotFound)
		}
		return nil
	})
}

// AuditLine is who did what.
type AuditLine struct {
	ID        int64
	At        time.Time
	Actor     string // kind/name
	Operation string
	Subject   string
	Outcome   int // HTTP status; 0: the service ended before it was known
}

// BeginAudit writes a line before a thing is done, and returns its number. It does
// not wait: changes are written in their order, so that nothing that is done after it
// is on disk without it.
func (s *Store) BeginAudit(l AuditLine, failed func(error)) (id int64) {
	id = s.audits.Add(1)
	s.later(write{bare: true, do: func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.StmtContext(ctx, s.prepared.beginAudit).ExecContext(ctx, id, stamp(l.At), l.Actor, l.Operation, l.Subject)
		return err
	}}, failed)
	return id
}

// EndAudit writes how a thing ended, once. It does not wait for that: a line whose
// outcome the service's end has cut off says so.
func (s *Store) EndAudit(id int64, outcome int, failed func(error)) {
	s.later(write{bare: true, do: func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.StmtContext(ctx, s.prepared.endAudit).ExecContext(ctx, outcome, id)
		return err
	}}, failed)
}

// Audit returns lines before a number (0: the newest), the newest first, at most
// limit.
func (s *Store) Audit(ctx context.Context, before int64, limit int) ([]AuditLine, error) {
	return query(ctx, s.db, func(r row) (l AuditLine, err error) {
		var at string
		err = r.Scan(&l.ID, &at, &l.Actor, &l.Operation, &l.Subject, &l.Outcome)
		l.At = moment(at)
		return l, err
	}, `SELECT id, at, actor, operation, subject, outcome FROM audit WHERE ?1 = 0 OR id < ?1 ORDER BY id DESC LIMIT ?2`, before, limit)
}
