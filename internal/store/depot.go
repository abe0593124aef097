package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/depot"
)

// Depot is a depot that the owner has accepted.
type Depot struct {
	Name      string
	URL       string
	Root      []byte // certificate in DER by which its TLS is trusted; empty for the system's roots, or without TLS
	Publisher string // SHA-256 of the key that signs its index
	Signer    string // how the publisher calls itself
	Index     []byte // as it was read last
	Read      time.Time
}

// Depots returns the depots, by name.
func (s *Store) Depots(ctx context.Context) ([]Depot, error) {
	return query(ctx, s.db, func(r row) (d Depot, err error) {
		var read string
		err = r.Scan(&d.Name, &d.URL, &d.Root, &d.Publisher, &d.Signer, &d.Index, &read)
		d.Read = moment(read)
		return d, err
	}, `SELECT name, url, root, publisher, signer, idx, read FROM depot ORDER BY name`)
}

// SaveDepot keeps a depot.
func (s *Store) SaveDepot(ctx context.Context, d Depot) error {
	if d.Root == nil {
		d.Root = []byte{}
	}
	return s.change(ctx, "depot.changed", d.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO depot (name, url, root, publisher, signer, idx, read) VALUES (?,?,?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET url = excluded.url, root = excluded.root, publisher = excluded.publisher, signer = excluded.signer,
			idx = excluded.idx, read = excluded.read`, d.Name, d.URL, d.Root, d.Publisher, d.Signer, d.Index, stamp(d.Read))
		return err
	})
}

// DropDepot forgets a depot.
func (s *Store) DropDepot(ctx context.Context, name string) error {
	return s.change(ctx, "depot.changed", name, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM depot WHERE name = ?`, name))
	})
}

// dropped is ErrNotFound if nothing was there to drop.
func dropped(r sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, _ := r.RowsAffected(); n == 0 {
		return ErrNotFound
	}
	return nil
}

// SupportPack is a support pack whose file is here.
type SupportPack struct {
	depot.Offer
	Depot string // where it came from; "" for a file that a person gave
	Added time.Time
}

// SupportPacks returns the packs, by name and version.
func (s *Store) SupportPacks(ctx context.Context) ([]SupportPack, error) {
	return query(ctx, s.db, func(r row) (p SupportPack, err error) {
		var raw, added string
		if err = r.Scan(&raw, &p.Depot, &added); err != nil {
			return p, err
		}
		p.Added = moment(added)
		return p, json.Unmarshal([]byte(raw), &p.Offer)
	}, `SELECT record, depot, added FROM support ORDER BY name, version`)
}

// SaveSupportPack keeps a pack.
func (s *Store) SaveSupportPack(ctx context.Context, p SupportPack) error {
	raw, err := json.Marshal(p.Offer)
	if err != nil {
		return err
	}
	return s.change(ctx, "support.changed", p.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO support (digest, name, version, record, depot, added) VALUES (?,?,?,?,?,?) ON CONFLICT (digest) DO NOTHING`,
			p.File.SHA256, p.Name, p.Version, string(raw), p.Depot, stamp(p.Added))
		return err
	})
}

// DropSupportPack forgets a pack by the digest of its file.
func (s *Store) DropSupportPack(ctx context.Context, digest string) error {
	return s.change(ctx, "support.changed", digest, func(tx *sql.Tx) error {
		if err := dropped(tx.ExecContext(ctx, `DELETE FROM support WHERE digest = ?`, digest)); err != nil {
			return fmt.Errorf("support pack %.12s: %w", digest, err)
		}
		return nil
	})
}
