package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// Device is a device on record.
type Device struct {
	ID       string
	Handle   string
	USB      string // vendor:product
	Serial   string // a hint: the device key tells who it is
	Family   string
	Maker    string
	Code     string
	Model    string
	HandsURL string
	Key      string // fingerprint of the pinned device key; "" before the first meeting
	Place    string // where it was seen last, in the words of its way
	Created  time.Time
	// Retirement tells how far retiring it has come; nil for one that stays.
	Retirement *Retirement
}

// Retirement is how far retiring a device has come.
type Retirement struct {
	Since time.Time       `json:"since"`
	Done  map[string]Mark `json:"done"` // by step
	Ended time.Time       `json:"ended,omitzero"`
}

// Mark is when a thing was done: seen, or confirmed by a person.
type Mark struct {
	At time.Time `json:"at"`
	By string    `json:"by,omitempty"`
}

// With is the retirement with one more thing done.
func (r *Retirement) With(step string, m Mark) *Retirement {
	next := *r
	next.Done = maps.Clone(r.Done)
	next.Done[step] = m
	return &next
}

const deviceColumns = `id, handle, usb, serial, family, maker, code, model, hands_url, key, place, created, retirement`

func scanDevice(r row) (d Device, err error) {
	var created, retirement string
	err = r.Scan(&d.ID, &d.Handle, &d.USB, &d.Serial, &d.Family, &d.Maker, &d.Code, &d.Model, &d.HandsURL, &d.Key, &d.Place, &created, &retirement)
	d.Created = moment(created)
	if retirement != "" && err == nil {
		err = json.Unmarshal([]byte(retirement), &d.Retirement)
	}
	return d, err
}

// Devices returns all devices, by handle.
func (s *Store) Devices(ctx context.Context) ([]Device, error) {
	return query(ctx, s.db, scanDevice, `SELECT `+deviceColumns+` FROM device ORDER BY handle`)
}

// ErrTaken is a handle that another device has.
var ErrTaken = problem.New(problem.Taken, "another device has that handle")

// AddDevice puts a device on record.
func (s *Store) AddDevice(ctx context.Context, d Device) error {
	return s.change(ctx, "device.changed", d.Handle, func(tx *sql.Tx) error {
		if err := freeHandle(ctx, tx, d.ID, d.Handle); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO device (`+deviceColumns+`) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,'')`,
			d.ID, d.Handle, d.USB, d.Serial, d.Family, d.Maker, d.Code, d.Model, d.HandsURL, d.Key, d.Place, stamp(d.Created))
		if err != nil {
			return err
		}
		return made(ctx, tx, "device/"+d.ID)
	})
}

func freeHandle(ctx context.Context, tx *sql.Tx, id, handle string) error {
	var other string
	err := tx.QueryRowContext(ctx, `SELECT id FROM device WHERE handle = ? AND id <> ?`, handle, id).Scan(&other)
	switch {
	case err == nil:
		return fmt.Errorf("handle %s: %w", handle, ErrTaken)
	case errors.Is(err, sql.ErrNoRows):
		return nil
	}
	return err
}

// DeviceChange is what is to be changed of a device's record; nil leaves a
// column as it is.
type DeviceChange struct {
	Handle   *string
	HandsURL *string
	Key      *string
	Serial   *string
	Place    *string
	// First makes Key count only where no key is pinned yet.
	First bool
	// Retirement is how far retiring it has come; a nil one behind the pointer
	// takes it back.
	Retirement **Retirement
}

// ErrPinned is a device that has a key already.
var ErrPinned = problem.New(problem.Taken, "another device key is pinned")

// ChangeDevice changes just the given columns of a device's record.
func (s *Store) ChangeDevice(ctx context.Context, id, handle string, c DeviceChange) error {
	before := handle
	if c.Handle != nil {
		handle = *c.Handle
	}
	return s.change(ctx, "device.changed", handle, func(tx *sql.Tx) error {
		if before != handle { // those who know it by the one before hear of it, too
			if _, err := tx.ExecContext(ctx, `INSERT INTO outbox (type, subject, at) VALUES ('device.changed', ?, ?)`, before, stamp(time.Now())); err != nil {
				return err
			}
		}
		set := func(column string, value any) error {
			r, err := tx.ExecContext(ctx, `UPDATE device SET `+column+` = ? WHERE id = ?`, value, id)
			if err != nil {
				return err
			}
			if n, _ := r.RowsAffected(); n == 0 {
				return fmt.Errorf("device %s: %w", handle, ErrNotFound)
			}
			return nil
		}
		if c.Handle != nil {
			if err := freeHandle(ctx, tx, id, handle); err != nil {
				return err
			}
		}
		if c.Key != nil && c.First {
			var pinned string
			if err := tx.QueryRowContext(ctx, `SELECT key FROM device WHERE id = ?`, id).Scan(&pinned); err != nil {
				return err
			}
			if pinned != "" && pinned != *c.Key {
				return fmt.Errorf("device %s: %w", handle, ErrPinned)
			}
		}
		for column, value := range map[string]*string{"handle": c.Handle, "hands_url": c.HandsURL, "key": c.Key, "serial": c.Serial, "place": c.Place} {
			if value != nil {
				if err := set(column, *value); err != nil {
					return err
				}
			}
		}
		if c.Retirement == nil {
			return nil
		}
		raw := ""
		if r := *c.Retirement; r != nil {
			text, err := json.Marshal(r)
			if err != nil {
				return err
			}
			raw = string(text)
		}
		return set("retirement", raw)
	})
}

// MergeDevice makes one record of two: what was said and seen of the device from
// is taken over by to, where that knows nothing of the same key and source.
func (s *Store) MergeDevice(ctx context.Context, from, to Device) error {
	return s.change(ctx, "device.changed", to.Handle, func(tx *sql.Tx) error {
		for _, q := range []string{`UPDATE OR IGNORE fact SET subject = ?2 WHERE subject = ?1`, `DELETE FROM fact WHERE subject = ?1`,
			`UPDATE history SET subject = ?2 WHERE subject = ?1`, `UPDATE tryout SET device = ?2 WHERE device = ?1`, `DELETE FROM device WHERE id = ?1`} {
			if _, err := tx.ExecContext(ctx, q, from.ID, to.ID); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO outbox (type, subject, at) VALUES ('device.changed', ?, ?)`, from.Handle, stamp(time.Now()))
		return err
	})
}

// DropDevice deletes a device with all that is known of it, its history and its tryouts.
func (s *Store) DropDevice(ctx context.Context, d Device) error {
	return s.change(ctx, "device.changed", d.Handle, func(tx *sql.Tx) error {
		for _, q := range []string{`DELETE FROM fact WHERE subject = ?1 OR subject LIKE 'trial/' || ?1 || '/%'`,
			`DELETE FROM history WHERE subject = ?1 OR subject LIKE 'trial/' || ?1 || '/%'`, `DELETE FROM tryout WHERE device = ?1`,
			`DELETE FROM address WHERE device = ?1 AND NOT given`, `UPDATE address SET device = '' WHERE device = ?1`} {
			if _, err := tx.ExecContext(ctx, q, d.ID); err != nil {
				return err
			}
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM device WHERE id = ?`, d.ID)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return fmt.Errorf("device %s: %w", d.Handle, ErrNotFound)
		}
		return nil
	})
}

// Host is a host on record.
type Host struct {
	Name    string
	USBIP   string // address of its exporter
	Control string // address of its host protocol
	SSH     string // server through which both are reached, as ssh://USER@HOST:PORT; "" for none
	SSHKey  string // fingerprint of the server's key that was accepted
	Shared  bool   // several people use it: it asks devices for this visit only
}

// Own reports whether it is the bench's own computer, which has no addresses.
func (h Host) Own() bool { return h.USBIP == "" && h.Control == "" }

// Hosts returns the hosts, by name.
func (s *Store) Hosts(ctx context.Context) ([]Host, error) {
	return query(ctx, s.db, func(r row) (h Host, err error) {
		return h, r.Scan(&h.Name, &h.USBIP, &h.Control, &h.Shared, &h.SSH, &h.SSHKey)
	}, `SELECT name, usbip, control, shared, ssh, ssh_key FROM host ORDER BY name`)
}

// SaveHost keeps a host.
func (s *Store) SaveHost(ctx context.Context, h Host) error {
	return s.change(ctx, "host.changed", h.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO host (name, usbip, control, shared, ssh, ssh_key) VALUES (?,?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET usbip = excluded.usbip, control = excluded.control, shared = excluded.shared, ssh = excluded.ssh, ssh_key = excluded.ssh_key`,
			h.Name, h.USBIP, h.Control, h.Shared, h.SSH, h.SSHKey)
		return err
	})
}

// DropHost forgets a host.
func (s *Store) DropHost(ctx context.Context, name string) error {
	return s.change(ctx, "host.changed", name, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM host WHERE name = ?`, name)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return fmt.Errorf("host %s: %w", name, ErrNotFound)
		}
		return nil
	})
}
