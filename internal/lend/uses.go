package lend

import (
	"context"
	"errors"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/internal/store"
)

// followUses writes what the borrower has done, as the device reports it, to the audit as long as the loan and the
// session last.
func (l *Lend) followUses(s device.Session, lending device.Lending, one *loan) {
	ctx, cancel := context.WithCancel(l.ctx)
	defer cancel()
	l.work.Go(func() {
		defer cancel()
		for {
			changed := l.nextChange()
			l.mu.Lock()
			lasts := one.State == store.LoanActive && one.settled == s
			l.mu.Unlock()
			if !lasts {
				return
			}
			select {
			case <-ctx.Done():
				return
			case <-s.Done():
				return
			case <-changed:
			}
		}
	})
	l.tellUses(ctx, lending, one)
}

// lateWithin is how long a device may take to report what was done while only its borrower had its USB.
const lateWithin = time.Second

// lateUses is followUses for what is over.
func (l *Lend) lateUses(ctx context.Context, lending device.Lending, one *loan) {
	ctx, cancel := context.WithTimeout(ctx, lateWithin)
	defer cancel()
	l.tellUses(ctx, lending, one)
}

// tellUses writes what the device tells into the audit until ctx ends.
func (l *Lend) tellUses(ctx context.Context, lending device.Lending, one *loan) {
	kept := time.Time{}
	err := lending.Uses(ctx, l.record(one).Uses, func(u device.Use) {
		if u.Key != one.of.PeerKey {
			return
		}
		outcome := 200
		if !u.Done {
			outcome = 403
		}
		l.audit(one.of.Peer, "device-"+plainName(u.What), strings.TrimSpace(one.of.Handle+" "+u.About), outcome)
		if time.Since(kept) > time.Second { // after a crash some are told twice, and none is left out
			kept = time.Now()
			l.warn(one, l.change(ctx, one, func(r *store.Loan) bool { r.Uses = max(r.Uses, u.Seq); return true }))
		}
	})
	if err != nil && ctx.Err() == nil && !errors.Is(err, device.ErrEnded) {
		l.warn(one, err)
	}
}

// plainName is the name of a method or a channel of the device link.
func plainName(what string) string {
	name, _, _ := strings.Cut(what, "@")
	return strings.ReplaceAll(name, ".", "-")
}

// audit writes a line about what a peer does.
func (l *Lend) audit(who, operation, subject string, outcome int) {
	failed := func(err error) { l.cfg.Log.Error("write the audit", "error", err) }
	id := l.cfg.Store.BeginAudit(store.AuditLine{At: l.cfg.Clock.Now(), Actor: "peer/" + who, Operation: operation, Subject: subject}, failed)
	l.cfg.Store.EndAudit(id, outcome, failed)
}
