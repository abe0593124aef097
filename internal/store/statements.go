package store

import (
	"context"
	"database/sql"
	"fmt"
)

// statements are the statements that run most often: with every change, or with every
// change for every reader of events. They are prepared once.
type statements struct {
	begin, undo, end     *sql.Stmt // of a change within its transaction
	history, keep        *sql.Stmt // of a fact
	event, events        *sql.Stmt // writes one, reads some
	beginAudit, endAudit *sql.Stmt
}

func prepare(ctx context.Context, db *sql.DB) (p statements, err error) {
	for to, text := range map[**sql.Stmt]string{
		&p.begin: `SAVEPOINT change`,
		&p.undo:  `ROLLBACK TO change`,
		&p.end:   `RELEASE change`,
		&p.history: `INSERT INTO history (subject, key, source, value, at, told_by) SELECT ?1, ?2, ?3, ?4, ?5, ?6
			WHERE NOT EXISTS (SELECT 1 FROM fact WHERE subject = ?1 AND key = ?2 AND source = ?3 AND value = ?4)`, // told again, it is no news
		&p.keep: `INSERT INTO fact (subject, key, source, type, value, at, told_by, scope, seq) VALUES (?,?,?,?,?,?,?,?,?)
			ON CONFLICT (subject, key, source) DO UPDATE SET type = excluded.type, value = excluded.value, at = excluded.at,
			told_by = excluded.told_by, scope = excluded.scope, seq = excluded.seq`,
		&p.event:      `INSERT INTO outbox (type, subject, at) VALUES (?, ?, ?)`,
		&p.events:     `SELECT sequence, type, subject, at FROM outbox WHERE sequence > ? ORDER BY sequence LIMIT ?`,
		&p.beginAudit: `INSERT INTO audit (id, at, actor, operation, subject) VALUES (?,?,?,?,?)`,
		&p.endAudit:   `UPDATE audit SET outcome = ? WHERE id = ? AND outcome = 0`,
	} {
		if *to, err = db.PrepareContext(ctx, text); err != nil {
			return p, fmt.Errorf("prepare to write: %w", err)
		}
	}
	return p, nil
}
