package store

import (
	"context"
	"database/sql"
	"time"
)

// Notice is what was told of a term, by a channel.
type Notice struct {
	Term    string // id
	State   string // that was told: soon, or ended
	Channel string // console, webhook, command
}

// Notices returns what was told.
func (s *Store) Notices(ctx context.Context) (map[Notice]time.Time, error) {
	type told struct {
		Notice
		at time.Time
	}
	all, err := query(ctx, s.db, func(r row) (n told, err error) {
		var at string
		err = r.Scan(&n.Term, &n.State, &n.Channel, &at)
		n.at = moment(at)
		return n, err
	}, `SELECT term, state, channel, at FROM notice`)
	out := map[Notice]time.Time{}
	for _, n := range all {
		out[n.Notice] = n.at
	}
	return out, err
}

// SaveNotice notes that something was told.
func (s *Store) SaveNotice(ctx context.Context, n Notice, at time.Time) error {
	return s.change(ctx, "ending.told", n.Term, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO notice (term, state, channel, at) VALUES (?,?,?,?) ON CONFLICT DO NOTHING`, n.Term, n.State, n.Channel, stamp(at))
		return err
	})
}
