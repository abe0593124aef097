package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"earlybench.invalid/earlybench/core/authority"
)

// Authority is an authority that the owner has accepted.
type Authority struct {
	Name  string
	URL   string
	Root  []byte // certificate in DER by which its TLS is trusted; empty for the system's roots
	About authority.About
	Read  time.Time // when About was
}

// Authorities returns the authorities, by name.
func (s *Store) Authorities(ctx context.Context) ([]Authority, error) {
	return query(ctx, s.db, func(r row) (a Authority, err error) {
		var about, read string
		if err = r.Scan(&a.Name, &a.URL, &a.Root, &about, &read); err != nil {
			return a, err
		}
		a.Read = moment(read)
		return a, json.Unmarshal([]byte(about), &a.About)
	}, `SELECT name, url, root, about, read FROM authority ORDER BY name`)
}

// SaveAuthority keeps an authority.
func (s *Store) SaveAuthority(ctx context.Context, a Authority) error {
	about, err := json.Marshal(a.About)
	if err != nil {
		return err
	}
	if a.Root == nil {
		a.Root = []byte{}
	}
	return s.change(ctx, "authority.changed", a.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO authority (name, url, root, about, read) VALUES (?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET url = excluded.url, root = excluded.root, about = excluded.about, read = excluded.read`, a.Name, a.URL, a.Root, string(about), stamp(a.Read))
		return err
	})
}

// DropAuthority forgets an authority with its accounts.
func (s *Store) DropAuthority(ctx context.Context, name string) error {
	return s.change(ctx, "authority.changed", name, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM account WHERE authority = ?`, name); err != nil {
			return err
		}
		return dropped(tx.ExecContext(ctx, `DELETE FROM authority WHERE name = ?`, name))
	})
}

// Account is an account at an authority.
type Account struct {
	Authority string
	authority.Account
	Key   string    // id of the key in the safe by which it is signed in
	Crew  string    // which of its crews is used
	Used  bool      // it is the account that the bench uses
	Out   bool      // it is signed out
	Since time.Time // when somebody signed in
}

// Accounts returns the accounts, by authority and id.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	return query(ctx, s.db, func(r row) (a Account, err error) {
		var record, state, since string
		if err = r.Scan(&a.Authority, &a.ID, &a.Key, &record, &a.Crew, &a.Used, &state, &since); err != nil {
			return a, err
		}
		a.Out, a.Since = state == "out", moment(since)
		return a, json.Unmarshal([]byte(record), &a.Account)
	}, `SELECT authority, id, key, record, crew, used, state, since FROM account ORDER BY authority, id`)
}

// SaveAccount keeps an account. The one that is used is the only one.
func (s *Store) SaveAccount(ctx context.Context, a Account) error {
	record, err := json.Marshal(a.Account)
	if err != nil {
		return err
	}
	state := "in"
	if a.Out {
		state = "out"
	}
	return s.change(ctx, "account.changed", a.Authority+"/"+a.ID, func(tx *sql.Tx) error {
		if a.Used {
			if _, err := tx.ExecContext(ctx, `UPDATE account SET used = 0`); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO account (authority, id, key, record, crew, used, state, since) VALUES (?,?,?,?,?,?,?,?)
			ON CONFLICT (authority, id) DO UPDATE SET key = excluded.key, record = excluded.record, crew = excluded.crew, used = excluded.used, state = excluded.state, since = excluded.since`,
			a.Authority, a.ID, a.Key, string(record), a.Crew, a.Used, state, stamp(a.Since))
		return err
	})
}

// DropAccount forgets an account.
func (s *Store) DropAccount(ctx context.Context, authority, id string) error {
	return s.change(ctx, "account.changed", authority+"/"+id, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM account WHERE authority = ? AND id = ?`, authority, id))
	})
}
