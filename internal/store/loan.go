package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// LoanState is how far a loan is.
type LoanState string

// The states of a loan.
const (
	LoanWaiting   LoanState = "waiting"   // for the device to be free
	LoanActive    LoanState = "active"    // the borrower may use it
	LoanReturning LoanState = "returning" // it is over, and the device is cleaned once it is reached
	LoanEnded     LoanState = "ended"
)

// Loan is a device that is lent to a peer, or borrowed from one.
type Loan struct {
	ID      string    `json:"id"`
	Lent    bool      `json:"lent"` // else it is borrowed
	State   LoanState `json:"state"`
	Peer    string    `json:"peer"`     // its name here
	PeerKey string    `json:"peer_key"` // fingerprint
	Device  string    `json:"device"`   // id of the record here; "" for one that is borrowed and was not reached yet
	Handle  string    `json:"handle"`   // on the lender's rack
	Rights  string    `json:"rights"`   // look or use
	Seconds int       `json:"seconds"`  // for how long it was asked
	Asked   time.Time `json:"asked"`
	Began   time.Time `json:"began,omitzero"`
	Ends    time.Time `json:"ends,omitzero"`
	Ended   time.Time `json:"ended,omitzero"`
	Reason  string    `json:"reason,omitempty"` // why it has ended, or what it waits for

	// Lapse is for how many seconds the borrower may not be connected before it ends; 0 for as long as it lasts.
	Lapse int `json:"lapse,omitempty"`

	// Exclusive is one of the device's USB itself.
	Exclusive bool `json:"exclusive,omitempty"`

	// Hands is what the borrower has asked those for who are near the device, the newest last.
	Hands []Hands `json:"hands,omitempty"`

	// Of one that is lent.
	Epoch      uint64            `json:"epoch,omitempty"`
	Apps       map[string]string `json:"apps,omitempty"`       // digests of those that were on the device before, by id
	Statements []string          `json:"statements,omitempty"` // that were on it before
	Taken      bool              `json:"taken,omitempty"`      // Apps and Statements are known
	Uses       uint64            `json:"uses,omitempty"`       // number of the last use by the borrower that is in the audit
	In         int64             `json:"in,omitempty"`         // bytes that the borrower has sent
	Out        int64             `json:"out,omitempty"`        // bytes that it was sent
	Left       string            `json:"left,omitempty"`       // what could not be cleaned

	// Of one that is borrowed.
	Far    string `json:"far,omitempty"` // its id at the lender
	Family string `json:"family,omitempty"`
	Code   string `json:"code,omitempty"` // of its model
	Serial string `json:"serial,omitempty"`
	Key    string `json:"key,omitempty"`   // the device's
	Place  int    `json:"place,omitempty"` // in the queue, from 1
	Wait   int    `json:"wait,omitempty"`  // how many seconds it will likely wait
	Made   bool   `json:"made,omitempty"`  // the record of the device was made for it
	Away   string `json:"away,omitempty"`  // why its lender cannot reach it now; "" while it does
	Step   string `json:"step,omitempty"`  // what hands over there have to do then
}

// HandsState is how far a request for hands is.
type HandsState string

// The states of a request for hands.
const (
	HandsAsked     HandsState = "asked"
	HandsSeen      HandsState = "seen" // somebody near has opened it
	HandsDone      HandsState = "done" // as that person says; what the device tells counts
	HandsCannot    HandsState = "cannot"
	HandsWithdrawn HandsState = "withdrawn"
)

// Hands is a request to whoever is near a device: a step that somebody's hands must do.
type Hands struct {
	ID       string     `json:"id"` // of the lender's
	Title    string     `json:"title"`
	Text     string     `json:"text,omitempty"`
	State    HandsState `json:"state"`
	By       string     `json:"by,omitempty"`   // who has answered
	Note     string     `json:"note,omitempty"` // what that person adds
	Asked    time.Time  `json:"asked"`
	Answered time.Time  `json:"answered,omitzero"`
}

// Open reports whether it waits for an answer.
func (h Hands) Open() bool { return h.State == HandsAsked || h.State == HandsSeen }

// Over reports whether nothing is left to be done for it.
func (l Loan) Over() bool { return l.State == LoanEnded }

func scanLoan(r row) (l Loan, err error) {
	var raw string
	if err = r.Scan(&raw); err != nil {
		return l, err
	}
	return l, json.Unmarshal([]byte(raw), &l)
}

// OpenLoans returns the loans that are not over, in the order in which they were asked for.
func (s *Store) OpenLoans(ctx context.Context) ([]Loan, error) {
	return query(ctx, s.db, scanLoan, `SELECT record FROM loan WHERE state <> 'ended' ORDER BY asked, id`)
}

// EndedLoans returns the loans that are over, the newest first, at most limit.
func (s *Store) EndedLoans(ctx context.Context, limit int) ([]Loan, error) {
	return query(ctx, s.db, scanLoan, `SELECT record FROM loan WHERE state = 'ended' ORDER BY asked DESC, id LIMIT ?`, limit)
}

// SaveLoan keeps a loan.
func (s *Store) SaveLoan(ctx context.Context, l Loan) error {
	raw, err := json.Marshal(l)
	if err != nil {
		return err
	}
	side := "borrowed"
	if l.Lent {
		side = "lent"
	}
	return s.change(ctx, "loan.changed", l.ID, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO loan (id, side, state, asked, record) VALUES (?,?,?,?,?) ON CONFLICT (id) DO UPDATE SET state = excluded.state, record = excluded.record`,
			l.ID, side, string(l.State), stamp(l.Asked), string(raw))
		if err == nil && l.Over() { // of those that are over the last ones are kept
			_, err = tx.ExecContext(ctx, `DELETE FROM loan WHERE state = 'ended' AND id NOT IN (SELECT id FROM loan WHERE state = 'ended' ORDER BY asked DESC LIMIT ?)`, keptLoans)
		}
		if err != nil {
			return err
		}
		return made(ctx, tx, "loan/"+l.ID)
	})
}

// DropLoan forgets a loan that was not given.
func (s *Store) DropLoan(ctx context.Context, id string) error {
	return s.change(ctx, "loan.changed", id, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM loan WHERE id = ?`, id))
	})
}

// keptLoans is how many loans are kept that are over.
const keptLoans = 500

// Loan returns a loan.
func (s *Store) Loan(ctx context.Context, id string) (Loan, error) {
	all, err := query(ctx, s.db, scanLoan, `SELECT record FROM loan WHERE id = ?`, id)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Loan{}, err
	}
	return all[0], nil
}
