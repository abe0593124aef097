package store

import (
	"context"
	"database/sql"
	"time"

	"earlybench.invalid/earlybench/core/safe"
)

// safeChanged is the event for all that is seen of the safe.
const safeChanged = "safe.changed"

// SafeItems returns what is in the safe, the oldest first.
func (s *Store) SafeItems(ctx context.Context) ([]safe.Item, error) {
	return query(ctx, s.db, func(r row) (i safe.Item, err error) {
		var made string
		err = r.Scan(&i.ID, &i.Kind, &i.Name, &made, &i.Public)
		i.Made = moment(made)
		return i, err
	}, `SELECT id, kind, name, made, public FROM safe_item ORDER BY made, id`)
}

// SetSafeItems records what is in the safe.
func (s *Store) SetSafeItems(ctx context.Context, items []safe.Item) error {
	return s.change(ctx, safeChanged, "", func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM safe_item`); err != nil {
			return err
		}
		for _, i := range items {
			public := i.Public
			if public == nil {
				public = []byte{}
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO safe_item (id, kind, name, made, public) VALUES (?,?,?,?,?)`, i.ID, i.Kind, i.Name, stamp(i.Made), public); err != nil {
				return err
			}
		}
		return nil
	})
}

// SafeRule says for how long somebody may use an item for an app and a purpose.
type SafeRule struct {
	Item, Actor, App, Purpose string
	Ends                      time.Time
	By                        string // who consented
}

// SafeRules returns the rules that have not ended.
func (s *Store) SafeRules(ctx context.Context, now time.Time) ([]SafeRule, error) {
	return query(ctx, s.db, readRule, `SELECT item, actor, app, purpose, ends, by FROM safe_rule WHERE ends > ? ORDER BY ends`, stamp(now))
}

func readRule(r row) (u SafeRule, err error) {
	var ends string
	err = r.Scan(&u.Item, &u.Actor, &u.App, &u.Purpose, &ends, &u.By)
	u.Ends = moment(ends)
	return u, err
}

// SafeRule returns the rule for a use; ErrNotFound if there is none.
func (s *Store) SafeRule(ctx context.Context, u SafeRule) (SafeRule, error) {
	return one(ctx, s.db, readRule, `SELECT item, actor, app, purpose, ends, by FROM safe_rule WHERE item = ? AND actor = ? AND app = ? AND purpose = ?`, u.Item, u.Actor, u.App, u.Purpose)
}

// SaveSafeRule keeps a rule, instead of one for the same.
func (s *Store) SaveSafeRule(ctx context.Context, u SafeRule) error {
	return s.change(ctx, safeChanged, u.Item, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO safe_rule (item, actor, app, purpose, ends, by) VALUES (?,?,?,?,?,?)
			ON CONFLICT (item, actor, app, purpose) DO UPDATE SET ends = excluded.ends, by = excluded.by`, u.Item, u.Actor, u.App, u.Purpose, stamp(u.Ends), u.By)
		return err
	})
}

// DropSafeRules ends all rules for an item.
func (s *Store) DropSafeRules(ctx context.Context, item string) error {
	return s.change(ctx, safeChanged, item, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM safe_rule WHERE item = ?`, item)
		return err
	})
}

// SafeUse is one use of an item.
type SafeUse struct {
	ID                                 int64
	At                                 time.Time
	Item, Actor, App                   string
	Purpose, Document, Digest, Consent string
}

// SaveSafeUse records a use.
func (s *Store) SaveSafeUse(ctx context.Context, u SafeUse) error {
	return s.change(ctx, safeChanged, u.Item, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO safe_use (at, item, actor, app, purpose, document, digest, consent) VALUES (?,?,?,?,?,?,?,?)`,
			stamp(u.At), u.Item, u.Actor, u.App, u.Purpose, u.Document, u.Digest, u.Consent)
		return err
	})
}

// usesMost is how many uses are listed.
const usesMost = 500

// SafeUses returns the last uses, the newest first.
func (s *Store) SafeUses(ctx context.Context) ([]SafeUse, error) {
	return query(ctx, s.db, func(r row) (u SafeUse, err error) {
		var at string
		err = r.Scan(&u.ID, &at, &u.Item, &u.Actor, &u.App, &u.Purpose, &u.Document, &u.Digest, &u.Consent)
		u.At = moment(at)
		return u, err
	}, `SELECT id, at, item, actor, app, purpose, document, digest, consent FROM safe_use ORDER BY id DESC LIMIT ?`, usesMost)
}
