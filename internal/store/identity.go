package store

import (
	"context"
	"database/sql"
	"time"
)

// Identity is a signing identity: a key of the safe with its certificate.
type Identity struct {
	Name        string // which the certificate's subject has too
	Authority   string // "" for one that came from a file
	Crew        string
	Key         string    // id in the safe
	Certificate []byte    // in DER
	Roots       []byte    // certificates of its authority in DER, one behind the other
	Former      []byte    // the certificate before, in DER, which may still be good; empty for none
	Revoked     time.Time // zero while it is good
}

// Identities returns the identities, by name.
func (s *Store) Identities(ctx context.Context) ([]Identity, error) {
	return query(ctx, s.db, func(r row) (i Identity, err error) {
		var revoked string
		err = r.Scan(&i.Name, &i.Authority, &i.Crew, &i.Key, &i.Certificate, &i.Roots, &i.Former, &revoked)
		i.Revoked = moment(revoked)
		return i, err
	}, `SELECT name, authority, crew, key, certificate, roots, former, revoked FROM identity ORDER BY name`)
}

// SaveIdentity keeps an identity.
func (s *Store) SaveIdentity(ctx context.Context, i Identity) error {
	for _, b := range []*[]byte{&i.Roots, &i.Former} {
		if *b == nil {
			*b = []byte{}
		}
	}
	return s.change(ctx, "identity.changed", i.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO identity (name, authority, crew, key, certificate, roots, former, revoked) VALUES (?,?,?,?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET authority = excluded.authority, crew = excluded.crew, key = excluded.key, certificate = excluded.certificate, roots = excluded.roots,
			former = excluded.former, revoked = excluded.revoked`, i.Name, i.Authority, i.Crew, i.Key, i.Certificate, i.Roots, i.Former, stamp(i.Revoked))
		return err
	})
}

// DropIdentity forgets an identity; its key stays in the safe.
func (s *Store) DropIdentity(ctx context.Context, name string) error {
	return s.change(ctx, "identity.changed", name, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM identity WHERE name = ?`, name))
	})
}
