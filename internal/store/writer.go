package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// All changes go through one writer, which puts those that are waiting into one
// transaction. So there is no contention for locks, a thousand small changes a second cost
// a few commits, and all changes have one order.

// write is one change.
type write struct {
	// do makes the change. An error undoes just this change, not the others of its
	// transaction.
	do func(ctx context.Context, tx *sql.Tx) error
	// kept, unless nil, is called by the writer once the change is on disk.
	kept func()
	// bare says that no savepoint is needed, since do fails only if nothing can be written
	// at all; then nothing of its transaction is kept.
	bare bool
	// tells says that do writes an event.
	tells bool
	done  chan error
}

// together is how many changes one transaction takes at most.
const together = 128

// errClosed is the error after the store was closed.
var errClosed = problem.New(problem.Unavailable, "the records are closed")

// write makes a change and returns when it is on disk. If ctx ends before that, it is not
// known whether the change was made.
func (s *Store) write(ctx context.Context, w write) error {
	w.done = make(chan error, 1)
	select {
	case s.writes <- w:
	case <-ctx.Done():
		return s.unavailable("write", ctx.Err())
	case <-s.closing:
		return errClosed
	}
	select {
	case err := <-w.done:
		return err
	case <-ctx.Done():
		return s.unavailable("write", ctx.Err())
	case <-s.written:
	}
	select {
	case err := <-w.done: // it was the writer's last
		return err
	default:
		return errClosed
	}
}

// later makes a change without waiting for it. It is not known whether the change was
// made until the store is closed. An error is passed to failed.
func (s *Store) later(w write, failed func(error)) {
	w.done = make(chan error, 1)
	do := w.do
	w.do = func(ctx context.Context, tx *sql.Tx) error {
		err := do(ctx, tx)
		if err != nil {
			failed(err)
		}
		return err
	}
	select {
	case s.writes <- w:
	case <-s.closing:
		failed(errClosed)
	}
}

// writeAll writes changes until the store is closed, and then the remaining ones.
func (s *Store) writeAll() {
	defer close(s.written)
	for {
		var batch []write
		select {
		case w := <-s.writes:
			batch = append(batch, w)
		case <-s.closing:
			select {
			case w := <-s.writes: // what has come before the end
				batch = append(batch, w)
			default:
				return
			}
		}
		for more := true; more && len(batch) < together; {
			select {
			case w := <-s.writes:
				batch = append(batch, w)
			default:
				more = false
			}
		}
		s.writeTogether(batch)
	}
}

// writeTogether makes changes in one transaction, in their order.
func (s *Store) writeTogether(batch []write) {
	sequence := s.sequence
	errs, err := s.transact(batch)
	if err != nil {
		s.sequence = sequence
	}
	tells := false
	for i, w := range batch {
		each := err
		if each == nil {
			each = errs[i]
		}
		if each == nil {
			if w.kept != nil {
				w.kept()
			}
			tells = tells || w.tells
		}
		w.done <- each
	}
	if tells {
		s.tell()
	}
}

// writeWithin bounds one transaction.
const writeWithin = 10 * time.Second

// lockedWithin is how long the writer waits for another program that is writing to the file. While such
// a one goes on, only the first transaction waits so long, so that a request that makes many changes
// fails soon.
const lockedWithin = 5 * time.Second

// begin begins a transaction.
func (s *Store) begin(ctx context.Context) (*sql.Tx, error) {
	for start := time.Now(); ; {
		tx, err := s.db.BeginTx(ctx, nil)
		if err == nil {
			s.locked = false
			return tx, nil
		}
		if !isLocked(err) || s.locked || time.Since(start) > lockedWithin {
			s.locked = isLocked(err)
			return nil, s.unavailable("begin to write", err)
		}
	}
}

// transact makes changes, each in a savepoint of its own. errs are the errors of those
// that were undone; err means that none was kept.
func (s *Store) transact(batch []write) (errs []error, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), writeWithin)
	defer cancel()
	tx, err := s.begin(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback() //nolint:errcheck // nothing to roll back once it is committed
	errs = make([]error, len(batch))
	clear(s.told)
	for i, w := range batch {
		if errs[i], err = s.one(ctx, tx, w); err != nil {
			return nil, err
		}
	}
	if err := tx.Commit(); err != nil {
		return nil, s.unavailable("keep what was written", err)
	}
	return errs, nil
}

// one makes one change; err says that the transaction itself is broken.
func (s *Store) one(ctx context.Context, tx *sql.Tx, w write) (undone, err error) {
	if w.bare {
		if err := w.do(ctx, tx); err != nil {
			return nil, s.unavailable("write", err)
		}
		return nil, nil
	}
	if _, err := tx.StmtContext(ctx, s.prepared.begin).ExecContext(ctx); err != nil {
		return nil, s.unavailable("begin a change", err)
	}
	sequence := s.sequence
	if undone = w.do(ctx, tx); undone != nil {
		s.sequence = sequence
		clear(s.told) // one of them may be undone, too
		if _, err := tx.StmtContext(ctx, s.prepared.undo).ExecContext(ctx); err != nil {
			return nil, s.unavailable(fmt.Sprintf("undo a change that failed (%s)", undone), err)
		}
		undone = s.asUnavailable(undone)
	}
	if _, err := tx.StmtContext(ctx, s.prepared.end).ExecContext(ctx); err != nil {
		return nil, s.unavailable("end a change", err)
	}
	return undone, nil
}

// event writes an event within a change; equal events of a transaction are written once.
func (s *Store) event(ctx context.Context, tx *sql.Tx, kind, subject string) error {
	e := [2]string{kind, subject}
	if s.told[e] {
		return nil
	}
	s.told[e] = true
	r, err := tx.StmtContext(ctx, s.prepared.event).ExecContext(ctx, kind, subject, stamp(time.Now()))
	if err != nil {
		return s.unavailable("tell of a change", err)
	}
	return trimOutbox(ctx, tx, r)
}

// change makes a change and writes its event; no event if kind is "".
func (s *Store) change(ctx context.Context, kind, subject string, f func(tx *sql.Tx) error) error {
	return s.write(ctx, write{tells: kind != "", do: func(ctx context.Context, tx *sql.Tx) error {
		if err := f(tx); err != nil || kind == "" {
			return err
		}
		return s.event(ctx, tx, kind, subject)
	}})
}
