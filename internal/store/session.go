package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Session is a browser that is signed in.
type Session struct {
	// Secret is the SHA-256 of its cookie's value; the beginning of it is its id.
	Secret  string
	Agent   string // what the browser calls itself; its own claim
	Created time.Time
	Ends    time.Time
	Used    time.Time
	// Confirmed is until when the owner lets it do what only the owner may; zero: not at all.
	Confirmed time.Time
}

// idLength is how many characters of the digest are the id of a session.
const idLength = 12

// ID names the session. It is not secret.
func (s Session) ID() string { return s.Secret[:min(idLength, len(s.Secret))] }

// SaveSession keeps a session.
func (s *Store) SaveSession(ctx context.Context, n Session) error {
	return s.change(ctx, "session.changed", n.ID(), func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE ends < ?`, stamp(n.Created)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO session (secret, agent, created, ends, used) VALUES (?,?,?,?,?)`, n.Secret, n.Agent, stamp(n.Created), stamp(n.Ends), stamp(n.Created))
		return err
	})
}

const sessionColumns = `secret, agent, created, ends, used, confirmed`

func scanSession(r row) (n Session, err error) {
	var created, ends, used, confirmed string
	err = r.Scan(&n.Secret, &n.Agent, &created, &ends, &used, &confirmed)
	n.Created, n.Ends, n.Used, n.Confirmed = moment(created), moment(ends), moment(used), moment(confirmed)
	return n, err
}

// Sessions returns the sessions that are valid at now, the newest first.
func (s *Store) Sessions(ctx context.Context, now time.Time) ([]Session, error) {
	return query(ctx, s.db, scanSession, `SELECT `+sessionColumns+` FROM session WHERE ends > ? ORDER BY created DESC, secret`, stamp(now))
}

// A session ends when it was not used for a time, and some time after it began in any case.
const (
	SessionIdle = 12 * time.Hour
	SessionMost = 30 * 24 * time.Hour
)

// SessionBy returns the session that is valid at now, by its secret's digest, and
// records that it was used, so that it ends later. It is [ErrNotFound] for none.
func (s *Store) SessionBy(ctx context.Context, secret string, now time.Time) (Session, error) {
	n, err := one(ctx, s.db, scanSession, `SELECT `+sessionColumns+` FROM session WHERE secret = ? AND ends > ?`, secret, stamp(now))
	if errors.Is(err, ErrNotFound) {
		return n, err
	}
	if err != nil {
		return n, s.unavailable("look a session up", err)
	}
	if now.Sub(n.Used).Abs() >= usedEvery {
		s.later(write{do: func(ctx context.Context, tx *sql.Tx) error {
			ends := now.Add(SessionIdle)
			if last := n.Created.Add(SessionMost); ends.After(last) {
				ends = last
			}
			_, err := tx.ExecContext(ctx, `UPDATE session SET used = ?, ends = ? WHERE secret = ?`, stamp(now), stamp(ends), secret)
			return err
		}}, func(error) {}) // it is told with the next request, then
	}
	return n, nil
}

// ConfirmSession records until when the owner lets a session do what only the owner may.
func (s *Store) ConfirmSession(ctx context.Context, secret string, until time.Time) error {
	return s.change(ctx, "session.changed", Session{Secret: secret}.ID(), func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE session SET confirmed = ? WHERE secret = ?`, stamp(until), secret)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("session %.12q: %w", secret, ErrNotFound))
		}
		return nil
	})
}

// DropSessions ends all sessions, and returns how many there were.
func (s *Store) DropSessions(ctx context.Context) (n int64, err error) {
	err = s.change(ctx, "session.changed", "", func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM session`)
		if err != nil {
			return err
		}
		n, err = r.RowsAffected()
		return err
	})
	return n, err
}

// DropSession ends a session, by its secret's digest or its id.
func (s *Store) DropSession(ctx context.Context, secret string) error {
	return s.change(ctx, "session.changed", Session{Secret: secret}.ID(), func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM session WHERE secret = ?1 OR length(?1) = ?2 AND substr(secret, 1, ?2) = ?1`, secret, idLength)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("session %.20q: %w", secret, ErrNotFound))
		}
		return nil
	})
}
