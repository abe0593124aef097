package store

import (
	"context"
	"database/sql"
	"time"
)

// Statement is a grant or a debug token as it was signed.
type Statement struct {
	ID        string
	Authority string
	Text      string
	Asked     bool // this bench has asked for it; else it came to it
	Since     time.Time
}

// Statements returns the grants and debug tokens, those that came first first.
func (s *Store) Statements(ctx context.Context) ([]Statement, error) {
	return query(ctx, s.db, func(r row) (st Statement, err error) {
		var since string
		err = r.Scan(&st.ID, &st.Authority, &st.Text, &st.Asked, &since)
		st.Since = moment(since)
		return st, err
	}, `SELECT id, authority, text, asked, since FROM statement ORDER BY since, id`)
}

// SaveStatement keeps a grant or a debug token.
func (s *Store) SaveStatement(ctx context.Context, st Statement) error {
	return s.change(ctx, "statement.changed", st.ID, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO statement (id, authority, text, asked, since) VALUES (?,?,?,?,?)
			ON CONFLICT (id) DO UPDATE SET text = excluded.text, asked = max(asked, excluded.asked)`, st.ID, st.Authority, st.Text, st.Asked, stamp(st.Since))
		return err
	})
}

// DropStatement forgets a grant or a debug token.
func (s *Store) DropStatement(ctx context.Context, id string) error {
	return s.change(ctx, "statement.changed", id, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM statement WHERE id = ?`, id))
	})
}

// StatusLists returns the newest list of each authority of what was withdrawn, by its name.
func (s *Store) StatusLists(ctx context.Context) (map[string]string, error) {
	type list struct{ authority, text string }
	all, err := query(ctx, s.db, func(r row) (l list, err error) {
		err = r.Scan(&l.authority, &l.text)
		return l, err
	}, `SELECT authority, text FROM status_list`)
	out := map[string]string{}
	for _, l := range all {
		out[l.authority] = l.text
	}
	return out, err
}

// SaveStatusList keeps the list of an authority.
func (s *Store) SaveStatusList(ctx context.Context, authority, text string) error {
	return s.change(ctx, "status-list.changed", authority, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO status_list (authority, text) VALUES (?,?) ON CONFLICT (authority) DO UPDATE SET text = excluded.text`, authority, text)
		return err
	})
}
