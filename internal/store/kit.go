package store

import (
	"context"
	"database/sql"
)

// KitPlace is a directory that the owner has named for a kit.
type KitPlace struct{ Kit, Path string }

// KitPlaces returns the directories of kits, in the order in which they were named.
func (s *Store) KitPlaces(ctx context.Context) ([]KitPlace, error) {
	return query(ctx, s.db, func(r row) (p KitPlace, err error) { return p, r.Scan(&p.Kit, &p.Path) }, `SELECT name, path FROM kit ORDER BY rowid`)
}

// KitDescriptions returns the descriptions that the owner has given, by kit.
func (s *Store) KitDescriptions(ctx context.Context) (map[string][]byte, error) {
	out := map[string][]byte{}
	_, err := query(ctx, s.db, func(r row) (name string, err error) {
		var text string
		err = r.Scan(&name, &text)
		out[name] = []byte(text)
		return name, err
	}, `SELECT name, text FROM kit_description`)
	return out, err
}

// SaveKit keeps a directory of a kit and, unless it is empty, the kit's description.
func (s *Store) SaveKit(ctx context.Context, p KitPlace, description []byte) error {
	return s.change(ctx, "kit.changed", p.Kit, func(tx *sql.Tx) error {
		if len(description) > 0 {
			if _, err := tx.ExecContext(ctx, `INSERT INTO kit_description (name, text) VALUES (?,?) ON CONFLICT (name) DO UPDATE SET text = excluded.text`, p.Kit, string(description)); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO kit (name, path) VALUES (?,?) ON CONFLICT DO NOTHING`, p.Kit, p.Path)
		return err
	})
}

// DropKit forgets a directory of a kit.
func (s *Store) DropKit(ctx context.Context, p KitPlace) error {
	return s.change(ctx, "kit.changed", p.Kit, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM kit WHERE name = ? AND path = ?`, p.Kit, p.Path))
	})
}
