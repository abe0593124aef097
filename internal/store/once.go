package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Once is a request that is to be handled only once, and its outcome.
type Once struct {
	Actor, Key string
	Request    string // digest of what was asked
	// Made is what the request created: job/ID, device/ID or access/NAME. It is written in
	// the same transaction as that.
	Made   string
	Status int    // of its answer; 0 while there is none
	Kind   string // media type of the answer
	Body   []byte
}

// onceKept is how long the outcome of a request is kept.
const onceKept = 24 * time.Hour

// BeginOnce records that a request is about to be handled. If there was one of the same
// actor and key before, that one is returned instead.
func (s *Store) BeginOnce(ctx context.Context, o Once, now time.Time) (before Once, had bool, err error) {
	err = s.change(ctx, "", "", func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM once WHERE at < ?`, stamp(now.Add(-onceKept))); err != nil {
			return err
		}
		row := tx.QueryRowContext(ctx, `SELECT actor, key, request, made, status, kind, body FROM once WHERE actor = ? AND key = ?`, o.Actor, o.Key)
		err := row.Scan(&before.Actor, &before.Key, &before.Request, &before.Made, &before.Status, &before.Kind, &before.Body)
		if had = err == nil; had || !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO once (actor, key, request, at) VALUES (?,?,?,?)`, o.Actor, o.Key, o.Request, stamp(now))
		return err
	})
	if err != nil {
		return before, had, fmt.Errorf("keep the request: %w", err)
	}
	return before, had, nil
}

// EndOnce records the answer to a request. A request that failed is forgotten, so that it
// can be tried again.
func (s *Store) EndOnce(ctx context.Context, o Once) error {
	return s.change(ctx, "", "", func(tx *sql.Tx) error {
		if o.Status >= 400 {
			_, err := tx.ExecContext(ctx, `DELETE FROM once WHERE actor = ? AND key = ?`, o.Actor, o.Key)
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE once SET status = ?, kind = ?, body = ? WHERE actor = ? AND key = ?`, o.Status, o.Kind, append([]byte{}, o.Body...), o.Actor, o.Key)
		return err
	})
}

type onceKey struct{}

// Making returns a context in which the first job, device or access key that is created
// is recorded as what the request created.
func Making(ctx context.Context, o Once) context.Context {
	return context.WithValue(ctx, onceKey{}, o)
}

// made records what the request of ctx has created, in the same transaction.
func made(ctx context.Context, tx *sql.Tx, what string) error {
	o, ok := ctx.Value(onceKey{}).(Once)
	if !ok {
		return nil
	}
	_, err := tx.ExecContext(ctx, `UPDATE once SET made = ? WHERE actor = ? AND key = ? AND made = ''`, what, o.Actor, o.Key)
	return err
}
