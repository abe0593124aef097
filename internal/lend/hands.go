package lend

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds requests for hands: what a borrower asks somebody near the device to do.

// Bounds of requests for hands.
const (
	mostHandsTitle = 120
	mostHandsText  = 1000
	mostHandsNote  = 300
	mostOpenHands  = 5
	keptHands      = 20 // of a loan
)

// cleaned is a text of a person elsewhere, on one line.
func cleaned(text string, most int) string {
	return plain.Cut(plain.Line(strings.TrimSpace(text)), most)
}

// toldHands are requests for hands as the borrower is told of them.
func toldHands(all []store.Hands) (out []core.Hands) {
	for _, h := range all {
		out = append(out, core.Hands{ID: h.ID, Title: h.Title, Text: h.Text, State: string(h.State), By: h.By, Note: h.Note})
	}
	return out
}

// heardHands are requests for hands as the lender tells of them; when each was asked and answered goes by this
// bench's clock.
func heardHands(had []store.Hands, told []core.Hands, now time.Time) (out []store.Hands) {
	for _, t := range told[:min(len(told), keptHands)] {
		h := store.Hands{ID: cleaned(t.ID, 60), Title: cleaned(t.Title, mostHandsTitle), Text: cleaned(t.Text, mostHandsText), State: handsState(t.State),
			By: cleaned(t.By, 60), Note: cleaned(t.Note, mostHandsNote), Asked: now}
		if i := slices.IndexFunc(had, func(o store.Hands) bool { return o.ID == h.ID }); i >= 0 {
			h.Asked, h.Answered = had[i].Asked, had[i].Answered
		}
		if !h.Open() && h.Answered.IsZero() {
			h.Answered = now
		}
		out = append(out, h)
	}
	return out
}

// handsState is a state that a peer reports; an unknown one counts as asked.
func handsState(told string) store.HandsState {
	switch s := store.HandsState(told); s {
	case store.HandsSeen, store.HandsDone, store.HandsCannot, store.HandsWithdrawn:
		return s
	}
	return store.HandsAsked
}

// callForHands answers a peer.
func (l *Lend) callForHands(ctx context.Context, from store.Peer, method string, params json.RawMessage) (any, error) {
	if method == core.MethodHandsWithdraw {
		r, err := decode[core.HandsRef](params)
		if err != nil {
			return nil, err
		}
		one, err := l.ofPeer(from, r.Loan)
		if err != nil {
			return nil, err
		}
		if err := l.setHands(ctx, one, r.Hands, func(h *store.Hands) bool {
			if !h.Open() {
				return false
			}
			h.State, h.Answered = store.HandsWithdrawn, l.cfg.Clock.Now().UTC()
			return true
		}); err != nil {
			return nil, err
		}
		return l.told(one), nil
	}
	a, err := decode[core.AskHands](params)
	if err != nil {
		return nil, err
	}
	return l.takeHands(ctx, from, a)
}

// takeHands takes a peer's request for hands.
func (l *Lend) takeHands(ctx context.Context, from store.Peer, a core.AskHands) (core.Loan, error) {
	one, err := l.ofPeer(from, a.Loan)
	if err != nil {
		return core.Loan{}, err
	}
	h := store.Hands{ID: store.NewID(), Title: cleaned(a.Title, mostHandsTitle), Text: cleaned(a.Text, mostHandsText), State: store.HandsAsked, Asked: l.cfg.Clock.Now().UTC()}
	switch {
	case !from.Rights.Hands(one.of.Device):
		return core.Loan{}, problem.Errorf(problem.Refused, "you may not request hands for %s", one.of.Handle)
	case h.Title == "":
		return core.Loan{}, problem.Errorf(problem.Invalid, "it does not say what to do")
	}
	var refused error
	err = l.change(ctx, one, func(r *store.Loan) bool {
		open := 0
		for _, o := range r.Hands {
			if o.Open() {
				open++
			}
		}
		switch {
		case r.State != store.LoanActive:
			refused = problem.Errorf(problem.Blocked, "the loan is not active")
		case open >= mostOpenHands:
			refused = problem.Errorf(problem.Refused, "%d requests are already waiting", open)
		default:
			r.Hands = append(slices.Clone(r.Hands), h)
			r.Hands = r.Hands[max(0, len(r.Hands)-keptHands):]
			return true
		}
		return false
	})
	if err == nil {
		err = refused
	}
	if err != nil {
		return core.Loan{}, err
	}
	l.audit(from.Name, "ask-for-hands", one.of.Handle, 202)
	return l.told(one), nil
}

// setHands changes a request for hands.
func (l *Lend) setHands(ctx context.Context, one *loan, id string, f func(*store.Hands) bool) error {
	found := false
	err := l.change(ctx, one, func(r *store.Loan) bool {
		i := slices.IndexFunc(r.Hands, func(h store.Hands) bool { return h.ID == id })
		if i < 0 {
			return false
		}
		found = true
		r.Hands = slices.Clone(r.Hands)
		return f(&r.Hands[i])
	})
	if err == nil && !found {
		err = noHands(id)
	}
	return err
}

func noHands(id string) error {
	return &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("There is no request for hands %.60q, or its loan has ended.", id), Remedy: "List them: earlybench hands"}
}

// HandsOf is a request for hands with its loan.
type HandsOf struct {
	store.Hands
	Loan store.Loan
}

// Hands are the requests for hands of all current loans, in the order in which they were made.
func (l *Lend) Hands() (out []HandsOf) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.loans {
		if one.State != store.LoanActive {
			continue
		}
		for _, h := range one.Hands {
			out = append(out, HandsOf{h, one.Loan})
		}
	}
	slices.SortFunc(out, func(a, b HandsOf) int {
		if d := a.Asked.Compare(b.Asked); d != 0 {
			return d
		}
		return strings.Compare(a.ID, b.ID)
	})
	return out
}

// ofHands is a request for hands and its loan, of one that is lent or of one that is borrowed.
func (l *Lend) ofHands(id string, lent bool) (HandsOf, *loan, error) {
	for _, h := range l.Hands() {
		if h.ID == id && h.Loan.Lent == lent {
			l.mu.Lock()
			one := l.loans[h.Loan.ID]
			l.mu.Unlock()
			if one != nil {
				return h, one, nil
			}
		}
	}
	return HandsOf{}, nil, noHands(id)
}

// AskForHands asks somebody near a borrowed device to do something.
func (l *Lend) AskForHands(ctx context.Context, name, title, text string) (HandsOf, error) {
	one, err := l.borrowedOne(name)
	if err != nil {
		return HandsOf{}, err
	}
	r := l.record(one)
	var t core.Loan
	if err := l.cfg.Peers.Ask(ctx, r.Peer, core.MethodHandsAsk, core.AskHands{Loan: r.Far, Title: title, Text: text}, &t); err != nil {
		return HandsOf{}, err
	}
	if err := l.apply(one, t); err != nil {
		return HandsOf{}, err
	}
	if r = l.record(one); len(r.Hands) == 0 {
		return HandsOf{}, problem.Errorf(problem.Unavailable, "%s does not tell of the request", r.Peer)
	}
	return HandsOf{r.Hands[len(r.Hands)-1], r}, nil
}

// StepThere is what hands have to do, as the lender says, so that it can reach the borrowed device; "" for nothing.
func (l *Lend) StepThere(name string) string {
	one, err := l.borrowedOne(name)
	if err != nil {
		return ""
	}
	return l.record(one).Step
}

// WithdrawHands withdraws a request for hands.
func (l *Lend) WithdrawHands(ctx context.Context, id string) error {
	h, one, err := l.ofHands(id, false)
	if err != nil {
		return err
	}
	var t core.Loan
	if err := l.cfg.Peers.Ask(ctx, h.Loan.Peer, core.MethodHandsWithdraw, core.HandsRef{Loan: h.Loan.Far, Hands: id}, &t); err != nil {
		return err
	}
	return l.apply(one, t)
}

// Seen notes that somebody near has opened a request for hands, and returns it.
func (l *Lend) Seen(ctx context.Context, id string) (HandsOf, error) {
	h, one, err := l.ofHands(id, true)
	if err != nil || h.State != store.HandsAsked {
		return h, err
	}
	err = l.setHands(ctx, one, id, func(h *store.Hands) bool {
		if h.State != store.HandsAsked {
			return false
		}
		h.State = store.HandsSeen
		return true
	})
	h.State = store.HandsSeen
	return h, err
}

// FindHands is a request for hands.
func (l *Lend) FindHands(id string) (HandsOf, error) {
	for _, h := range l.Hands() {
		if h.ID == id {
			return h, nil
		}
	}
	return HandsOf{}, noHands(id)
}

// AnswerHands records the answer of somebody near the device.
func (l *Lend) AnswerHands(ctx context.Context, id, by string, done bool, note string) (HandsOf, error) {
	_, one, err := l.ofHands(id, true)
	if err != nil {
		return HandsOf{}, err
	}
	answered := false
	err = l.setHands(ctx, one, id, func(h *store.Hands) bool {
		if !h.Open() {
			return false
		}
		h.State, h.By, h.Note, h.Answered = store.HandsCannot, by, cleaned(note, mostHandsNote), l.cfg.Clock.Now().UTC()
		if done {
			h.State = store.HandsDone
		}
		answered = true
		return true
	})
	if err != nil {
		return HandsOf{}, err
	}
	h, err := l.FindHands(id)
	if err == nil && !answered {
		err = problem.Errorf(problem.Taken, "it was already answered, or withdrawn: %s", h.State)
	}
	return h, err
}
