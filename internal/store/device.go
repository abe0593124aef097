package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"earlybench.invalid/earlybench/core/fact"
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
	Created  time.Time
	// Retirement tells how far putting it away has come; nil for one that stays.
	Retirement *Retirement
}

// Retirement is putting a device away.
type Retirement struct {
	Since time.Time       `json:"since"`
	Done  map[string]Mark `json:"done"` // by step
	Ended time.Time       `json:"ended,omitzero"`
}

// Mark is when a thing was done: seen, or told by somebody.
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

const deviceColumns = `id, handle, usb, serial, family, maker, code, model, hands_url, key, created, retirement`

func scanDevice(r row) (d Device, err error) {
	var created, retirement string
	err = r.Scan(&d.ID, &d.Handle, &d.USB, &d.Serial, &d.Family, &d.Maker, &d.Code, &d.Model, &d.HandsURL, &d.Key, &created, &retirement)
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
var ErrTaken = errors.New("another device has that handle")

// SaveDevice keeps a device.
func (s *Store) SaveDevice(ctx context.Context, d Device) error {
	var retirement []byte
	if d.Retirement != nil {
		var err error
		if retirement, err = json.Marshal(d.Retirement); err != nil {
			return err
		}
	}
	return s.change(ctx, "device.changed", d.Handle, func(tx *sql.Tx) error {
		var other string
		err := tx.QueryRowContext(ctx, `SELECT id FROM device WHERE handle = ? AND id <> ?`, d.Handle, d.ID).Scan(&other)
		if err == nil {
			return fmt.Errorf("handle %s: %w", d.Handle, ErrTaken)
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO device (`+deviceColumns+`) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)
			ON CONFLICT (id) DO UPDATE SET retirement = excluded.retirement, handle = excluded.handle, family = excluded.family, maker = excluded.maker, code = excluded.code,
			model = excluded.model, hands_url = excluded.hands_url, key = excluded.key`,
			d.ID, d.Handle, d.USB, d.Serial, d.Family, d.Maker, d.Code, d.Model, d.HandsURL, d.Key, stamp(d.Created), string(retirement))
		return err
	})
}

// Touch tells others that a device is to be looked at anew, without a record's
// having changed.
func (s *Store) Touch(ctx context.Context, handle string) error {
	return s.change(ctx, "device.changed", handle, func(*sql.Tx) error { return nil })
}

// Facts returns the latest facts of a device. Ones whose value no longer reads
// as its type are left out.
func (s *Store) Facts(ctx context.Context, id string) ([]fact.Fact, error) {
	all, err := query(ctx, s.db, func(r row) (f fact.Fact, err error) {
		var typ, value, at string
		if err = r.Scan(&f.Key, &f.Source, &typ, &value, &at, &f.By, &f.Scope); err != nil {
			return f, err
		}
		f.At = moment(at)
		f.Value, _ = fact.ParseValue(fact.Type(typ), []byte(value))
		return f, nil
	}, `SELECT key, source, type, value, at, told_by, scope FROM fact WHERE subject = ?`, id)
	if err != nil {
		return nil, err
	}
	return all, nil
}

// TrimHistory drops replaced facts that are older than they are kept.
func (s *Store) TrimHistory(ctx context.Context, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM history WHERE at < ?`, stamp(now.Add(-historyKeep)))
	return err
}

// Host is a host on record.
type Host struct {
	Name    string
	USBIP   string // address of its exporter
	Control string // address of its host protocol
	Shared  bool   // several people use it: it asks devices for this visit only
}

// Hosts returns the hosts, by name.
func (s *Store) Hosts(ctx context.Context) ([]Host, error) {
	return query(ctx, s.db, func(r row) (h Host, err error) {
		return h, r.Scan(&h.Name, &h.USBIP, &h.Control, &h.Shared)
	}, `SELECT name, usbip, control, shared FROM host ORDER BY name`)
}

// SaveHost keeps a host.
func (s *Store) SaveHost(ctx context.Context, h Host) error {
	return s.change(ctx, "host.changed", h.Name, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO host (name, usbip, control, shared) VALUES (?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET usbip = excluded.usbip, control = excluded.control, shared = excluded.shared`, h.Name, h.USBIP, h.Control, h.Shared)
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
