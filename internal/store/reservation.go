package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// ReservationState is how far a reservation is.
type ReservationState string

// The states of a reservation.
const (
	ReservationWaiting ReservationState = "waiting" // for devices to be free
	ReservationActive  ReservationState = "active"  // its devices are kept for it
	ReservationEnded   ReservationState = "ended"
)

// Reservation keeps devices for one run of a command.
type Reservation struct {
	ID      string           `json:"id"`
	Number  int64            `json:"number"` // in the order of asking
	State   ReservationState `json:"state"`
	Actor   string           `json:"actor"` // who has asked for it
	Title   string           `json:"title"` // what it is for
	Where   string           `json:"where"` // which devices will do
	Count   int              `json:"count"` // how many are needed
	Peers   bool             `json:"peers"` // those of peers will do, too
	Seconds int              `json:"seconds"`
	Within  int              `json:"within"` // how many seconds it waits at most
	Asked   time.Time        `json:"asked"`
	Began   time.Time        `json:"began,omitzero"`
	Ends    time.Time        `json:"ends,omitzero"`
	Ended   time.Time        `json:"ended,omitzero"`
	Reason  string           `json:"reason,omitempty"` // why it has ended, or what it waits for
	Devices []ReservedDevice `json:"devices"`
	// Aside holds why devices are not suitable, by their ids, or by peer and handle there.
	Aside map[string]string `json:"aside,omitempty"`
}

// ReservedDevice is a device that is kept for a reservation.
type ReservedDevice struct {
	Device string `json:"device,omitempty"` // id of its record; "" for one of a peer that is not here yet
	Handle string `json:"handle"`
	Peer   string `json:"peer,omitempty"` // that lends it; "" for none
	Loan   string `json:"loan,omitempty"`
	Lost   string `json:"lost,omitempty"` // why it was lost; "" if it was not
}

// Over reports whether it has ended.
func (r Reservation) Over() bool { return r.State == ReservationEnded }

func scanReservation(r row) (out Reservation, err error) {
	var raw string
	if err = r.Scan(&raw); err != nil {
		return out, err
	}
	return out, json.Unmarshal([]byte(raw), &out)
}

// OpenReservations returns those that have not ended, in the order of asking.
func (s *Store) OpenReservations(ctx context.Context) ([]Reservation, error) {
	return query(ctx, s.db, scanReservation, `SELECT record FROM reservation WHERE state <> 'ended' ORDER BY number`)
}

// EndedReservations returns those that have ended, what was asked for last first, at most limit.
func (s *Store) EndedReservations(ctx context.Context, limit int) ([]Reservation, error) {
	return query(ctx, s.db, scanReservation, `SELECT record FROM reservation WHERE state = 'ended' ORDER BY number DESC LIMIT ?`, limit)
}

// Reservation returns one of them.
func (s *Store) Reservation(ctx context.Context, id string) (Reservation, error) {
	all, err := query(ctx, s.db, scanReservation, `SELECT record FROM reservation WHERE id = ?`, id)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Reservation{}, err
	}
	return all[0], nil
}

// keptReservations is how many are kept that have ended.
const keptReservations = 200

// SaveReservation keeps one. A new one, without a number, gets the next, which is returned.
func (s *Store) SaveReservation(ctx context.Context, r Reservation) (number int64, err error) {
	err = s.change(ctx, "reservation.changed", r.ID, func(tx *sql.Tx) error {
		if r.Number == 0 {
			if err := tx.QueryRowContext(ctx, `SELECT COALESCE(MAX(number), 0) + 1 FROM reservation`).Scan(&r.Number); err != nil {
				return err
			}
		}
		raw, err := json.Marshal(r)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO reservation (id, number, state, record) VALUES (?,?,?,?) ON CONFLICT (id) DO UPDATE SET state = excluded.state, record = excluded.record`,
			r.ID, r.Number, string(r.State), string(raw))
		if err == nil && r.Over() {
			_, err = tx.ExecContext(ctx, `DELETE FROM reservation WHERE state = 'ended' AND id NOT IN (SELECT id FROM reservation WHERE state = 'ended' ORDER BY number DESC LIMIT ?)`, keptReservations)
		}
		if err != nil {
			return err
		}
		return made(ctx, tx, "reservation/"+r.ID)
	})
	return r.Number, err
}
