package store

import (
	"context"
	"database/sql"
	"time"
)

// Address is where a device is reached without a cable.
type Address struct {
	Address string // with its port
	Device  string // id of the one that answered there last; "" for none
	Given   bool   // by a person; else it is where the device answered last
	At      time.Time
}

// Addresses returns all addresses, in the order in which they came.
func (s *Store) Addresses(ctx context.Context) ([]Address, error) {
	return query(ctx, s.db, func(r row) (a Address, err error) {
		var at string
		err = r.Scan(&a.Address, &a.Device, &a.Given, &at)
		a.At = moment(at)
		return a, err
	}, `SELECT address, device, given, at FROM address ORDER BY at, address`)
}

// GiveAddress keeps an address that a person gives.
func (s *Store) GiveAddress(ctx context.Context, address string, at time.Time) error {
	return s.change(ctx, "network.changed", address, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO address (address, given, at) VALUES (?,1,?) ON CONFLICT (address) DO UPDATE SET given = 1`, address, stamp(at))
		return err
	})
}

// DropAddress forgets an address.
func (s *Store) DropAddress(ctx context.Context, address string) error {
	return s.change(ctx, "network.changed", address, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM address WHERE address = ?`, address))
	})
}

// Answered keeps that a device has answered at an address. Where it answered before is forgotten,
// unless a person has given that.
func (s *Store) Answered(ctx context.Context, address, device string, at time.Time) error {
	return s.change(ctx, "network.changed", address, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM address WHERE device = ? AND NOT given AND address <> ?`, device, address); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO address (address, device, at) VALUES (?,?,?)
			ON CONFLICT (address) DO UPDATE SET device = excluded.device, at = excluded.at`, address, device, stamp(at))
		return err
	})
}
