package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/fact"
)

// Every fact gets the next number of one sequence when it is written. That number,
// not the clock, says which of two facts is the later one.

// Observation is what is to be kept of one subject, in one transaction.
type Observation struct {
	Subject string
	// Event is the type and Name the subject of the event that tells of it.
	Event, Name string
	Facts       []fact.Fact
	// Forget are keys of which the facts of the source From are dropped; the history
	// keeps them.
	Forget []fact.Key
	From   fact.Source
	// Kept, unless nil, is called with the facts and their numbers once they are on
	// disk, by the writer: in the order of the sequence, before Observe returns. It
	// must not block.
	Kept func([]fact.Fact)
}

// Observe keeps facts, and what they replace as history. It returns once they are
// on disk. If ctx ends before that, it is not known whether they are.
func (s *Store) Observe(ctx context.Context, o Observation) error {
	values := make([]string, len(o.Facts))
	for i, f := range o.Facts { // here, since in the transaction an error would be everybody's
		raw, err := json.Marshal(f.Value)
		if err != nil {
			return fmt.Errorf("write down %s: %w", f.Key, err)
		}
		values[i] = string(raw)
	}
	w := write{tells: o.Event != "", bare: true, do: func(ctx context.Context, tx *sql.Tx) error { return s.keepFacts(ctx, tx, o, values) }}
	if o.Kept != nil {
		w.kept = func() { o.Kept(o.Facts) }
	}
	return s.write(ctx, w)
}

func (s *Store) keepFacts(ctx context.Context, tx *sql.Tx, o Observation, values []string) error {
	f := statements{history: tx.StmtContext(ctx, s.prepared.history), keep: tx.StmtContext(ctx, s.prepared.keep)}
	for i := range o.Facts {
		s.sequence++
		o.Facts[i].Seq = s.sequence
		if err := s.saveFact(ctx, f, o.Subject, o.Facts[i], values[i]); err != nil {
			return s.unavailable(fmt.Sprintf("keep %s", o.Facts[i].Key), err)
		}
	}
	for _, k := range o.Forget {
		if _, err := tx.ExecContext(ctx, `DELETE FROM fact WHERE subject = ? AND key = ? AND source = ?`, o.Subject, k, o.From); err != nil {
			return s.unavailable(fmt.Sprintf("forget %s", k), err)
		}
	}
	if o.Event == "" {
		return nil
	}
	return s.event(ctx, tx, o.Event, o.Name)
}

func (s *Store) saveFact(ctx context.Context, f statements, subject string, one fact.Fact, value string) error {
	if ok, skipped := s.budgets.take(subject, len(value), time.Now()); ok {
		by := one.By
		if skipped > 0 {
			by = strings.TrimSpace(fmt.Sprintf("%s (%d changes before it were not kept)", by, skipped))
		}
		r, err := f.history.ExecContext(ctx, subject, one.Key, one.Source, value, stamp(one.At), by)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err == nil && n == 0 { // it was told again
			s.budgets.back(subject, len(value), skipped)
		}
	}
	_, err := f.keep.ExecContext(ctx, subject, one.Key, one.Source, one.Value.Type(), value, stamp(one.At), one.By, one.Scope, one.Seq)
	return err
}

// AllFacts calls take with the latest facts of every subject, a subject at a time
// and each in the order of its sequence. Ones whose value no longer reads as its
// type have the zero value.
func (s *Store) AllFacts(ctx context.Context, take func(subject string, facts []fact.Fact)) error {
	rows, err := s.db.QueryContext(ctx, `SELECT subject, key, source, type, value, at, told_by, scope, seq FROM fact ORDER BY subject, key, source`)
	if err != nil {
		return err
	}
	defer rows.Close()
	var subject string
	var facts []fact.Fact
	for rows.Next() {
		var f fact.Fact
		var of, typ, value, at string
		if err := rows.Scan(&of, &f.Key, &f.Source, &typ, &value, &at, &f.By, &f.Scope, &f.Seq); err != nil {
			s.db.found("FROM fact", err) //nolint:errcheck // the others are read
			continue
		}
		f.At = moment(at)
		f.Value, _ = fact.ParseValue(fact.Type(typ), []byte(value))
		if of != subject && facts != nil {
			take(subject, facts)
			facts = nil
		}
		subject = of
		facts = append(facts, f)
	}
	if facts != nil {
		take(subject, facts)
	}
	return rows.Err()
}

// Known is a line of the history: a fact that was known before.
type Known struct {
	ID   int64
	Fact fact.Fact
}

// History returns what was known of a subject at any time, the newest first, at most
// limit, before the line with a number; 0 is from the newest. The value of one that no
// longer reads as the type of its key is the zero value.
func (s *Store) History(ctx context.Context, subject string, types func(fact.Key) (fact.Type, bool), before int64, limit int) ([]Known, error) {
	return query(ctx, s.db, func(r row) (l Known, err error) {
		var value, at string
		if err = r.Scan(&l.ID, &l.Fact.Key, &l.Fact.Source, &value, &at, &l.Fact.By); err != nil {
			return l, err
		}
		l.Fact.At = moment(at)
		if t, ok := types(l.Fact.Key); ok {
			l.Fact.Value, _ = fact.ParseValue(t, []byte(value))
		}
		return l, nil
	}, `SELECT id, key, source, value, at, told_by FROM history WHERE subject = ?1 AND (?2 = 0 OR id < ?2) ORDER BY id DESC LIMIT ?3`, subject, before, limit)
}

// TrimHistory drops replaced facts that are older than they are kept.
func (s *Store) TrimHistory(ctx context.Context, now time.Time) error {
	return s.change(ctx, "", "", func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM history WHERE at < ?`, stamp(now.Add(-historyKeep)))
		return err
	})
}
