package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/fact"
)

// Facts come by the hundred a second, each from a device of its own. They are
// kept by one writer that takes what has come together into one transaction, with
// one event for each device: every fact is kept, and what is said of a device is
// said once.

// saving is facts of one device that are to be kept.
type saving struct {
	device   Device
	facts    []fact.Fact
	standing bool
	done     chan error
}

// together is how many savings one transaction takes at most.
const together = 128

// errClosed is what is said once the store has ended.
var errClosed = errors.New("the records are closed")

// SaveFacts keeps facts of a device, and what they replace as history. A fact
// that says what is known already only gets its newer time. It returns once they
// are kept. With standing they alter how the device stands, which is an event
// device.changed; else it is fact.changed, for those who look at single facts.
func (s *Store) SaveFacts(ctx context.Context, d Device, facts []fact.Fact, standing bool) error {
	v := saving{d, facts, standing, make(chan error, 1)}
	select {
	case s.savings <- v:
	case <-ctx.Done():
		return ctx.Err()
	case <-s.closing:
		return errClosed
	}
	select {
	case err := <-v.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-s.written:
	}
	select {
	case err := <-v.done: // it was the writer's last
		return err
	default:
		return errClosed
	}
}

// writeFacts keeps what comes until the store ends, and then what has come.
func (s *Store) writeFacts() {
	defer close(s.written)
	for {
		var batch []saving
		select {
		case v := <-s.savings:
			batch = append(batch, v)
		case <-s.closing:
			select {
			case v := <-s.savings: // what has come before the end
				batch = append(batch, v)
			default:
				return
			}
		}
		for more := true; more && len(batch) < together; {
			select {
			case v := <-s.savings:
				batch = append(batch, v)
			default:
				more = false
			}
		}
		err := s.keepFacts(batch)
		for _, v := range batch {
			if err != nil && len(batch) > 1 { // one of them is to blame: each alone
				v.done <- s.keepFacts([]saving{v})
				continue
			}
			v.done <- err
		}
	}
}

// factStatements are prepared once: they run more often than all others.
type factStatements struct {
	before, history, keep, event *sql.Stmt
}

func prepareFacts(ctx context.Context, db *sql.DB) (f factStatements, err error) {
	for to, text := range map[**sql.Stmt]string{
		&f.before:  `SELECT value FROM fact WHERE subject = ? AND key = ? AND source = ?`,
		&f.history: `INSERT INTO history (subject, key, source, value, at, told_by) VALUES (?,?,?,?,?,?)`,
		&f.keep: `INSERT INTO fact (subject, key, source, type, value, at, told_by, scope) VALUES (?,?,?,?,?,?,?,?)
			ON CONFLICT (subject, key, source) DO UPDATE SET type = excluded.type, value = excluded.value, at = excluded.at,
			told_by = excluded.told_by, scope = excluded.scope`,
		&f.event: `INSERT INTO outbox (type, subject, at) VALUES (?, ?, ?)`,
	} {
		if *to, err = db.PrepareContext(ctx, text); err != nil {
			return f, fmt.Errorf("prepare to keep facts: %w", err)
		}
	}
	return f, nil
}

func (s *Store) keepFacts(batch []saving) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("begin to keep facts: %w", err)
	}
	defer tx.Rollback() //nolint:errcheck // nothing to roll back once it is committed
	f := factStatements{tx.StmtContext(ctx, s.facts.before), tx.StmtContext(ctx, s.facts.history), tx.StmtContext(ctx, s.facts.keep), tx.StmtContext(ctx, s.facts.event)}
	var order []string
	standing := map[string]bool{}
	for _, v := range batch {
		if before, known := standing[v.device.Handle]; !known || v.standing && !before {
			standing[v.device.Handle] = v.standing
			if !known {
				order = append(order, v.device.Handle)
			}
		}
		for _, one := range v.facts {
			if err := f.save(ctx, v.device.ID, one); err != nil {
				return fmt.Errorf("keep %s of %s: %w", one.Key, v.device.Handle, err)
			}
		}
	}
	for _, handle := range order {
		kind := "fact.changed"
		if standing[handle] {
			kind = "device.changed"
		}
		r, err := f.event.ExecContext(ctx, kind, handle, stamp(time.Now()))
		if err != nil {
			return fmt.Errorf("tell of %s: %w", handle, err)
		}
		if err := trimOutbox(ctx, tx, r); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("keep facts: %w", err)
	}
	s.tell()
	return nil
}

func (f factStatements) save(ctx context.Context, subject string, one fact.Fact) error {
	raw, err := json.Marshal(one.Value)
	if err != nil {
		return err
	}
	var before string
	err = f.before.QueryRowContext(ctx, subject, one.Key, one.Source).Scan(&before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if before != string(raw) {
		if _, err := f.history.ExecContext(ctx, subject, one.Key, one.Source, string(raw), stamp(one.At), one.By); err != nil {
			return err
		}
	}
	_, err = f.keep.ExecContext(ctx, subject, one.Key, one.Source, one.Value.Type(), string(raw), stamp(one.At), one.By, one.Scope)
	return err
}
