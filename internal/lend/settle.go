package lend

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// This file holds what is done on a lent device: admitting the borrower, ending that, and removing what the borrower put there.

// settle does what the loans of a device need now.
func (l *Lend) settle(ctx context.Context, id string) {
	k := l.cfg.Rack.ByID(id)
	l.mu.Lock()
	all := l.sorted(id)
	l.mu.Unlock()
	var has *loan // who has the device
	for _, one := range all {
		if why := l.whyOver(one, k); why != "" {
			l.warn(one, l.finish(ctx, one, why))
		}
		if state := l.stateOf(one); has == nil && (state == store.LoanActive || state == store.LoanReturning) {
			has = one
		}
	}
	if k == nil {
		if has != nil { // there is nothing to be cleaned
			l.warn(has, l.ended(ctx, has, ""))
		}
		return
	}
	if has == nil {
		for _, one := range all {
			if l.stateOf(one) == store.LoanWaiting {
				l.warn(one, l.begin(ctx, k, one))
				has = one
				break
			}
		}
	}
	if has == nil {
		return
	}
	for _, one := range all {
		if one != has && l.stateOf(one) == store.LoanWaiting {
			l.warn(one, l.waits(ctx, one, "somebody else has it"))
		}
	}
	l.hold(k, has)
	l.mu.Lock()
	early := time.Now().Before(has.again)
	l.mu.Unlock()
	if early {
		return
	}
	var err error
	switch l.stateOf(has) {
	case store.LoanActive:
		err = l.letIn(ctx, k, has)
	case store.LoanReturning:
		err = l.clean(ctx, k, has)
	}
	if err != nil {
		l.warn(has, err)
		l.mu.Lock()
		has.again = time.Now().Add(tryAgain)
		l.mu.Unlock()
	}
}

// tryAgain is how long to wait before retrying what failed on a device.
const tryAgain = 5 * time.Second

// record is what is on record of a loan now.
func (l *Lend) record(one *loan) store.Loan {
	l.mu.Lock()
	defer l.mu.Unlock()
	return one.Loan
}

func (l *Lend) stateOf(one *loan) store.LoanState { return l.record(one).State }

func (l *Lend) warn(one *loan, err error) {
	if err != nil && l.ctx.Err() == nil {
		l.cfg.Log.Warn("look after a loan", "device", one.of.Handle, "peer", one.of.Peer, "error", err)
	}
}

// whyOver is why a loan should end now; "" if it continues.
func (l *Lend) whyOver(one *loan, k *keeper.Keeper) string {
	l.mu.Lock()
	r := one.Loan
	l.mu.Unlock()
	if r.State != store.LoanActive && r.State != store.LoanWaiting {
		return ""
	}
	p, known := l.cfg.Peers.ByKey(r.PeerKey)
	switch {
	case k == nil:
		return "the device is no longer on the lender's rack"
	case !known:
		return "the borrower is no longer a peer"
	case p.Rights.Of(r.Device) == "" || r.Rights == string(device.RightsUse) && p.Rights.Of(r.Device) != r.Rights:
		return "the right was withdrawn"
	case r.Lapse > 0 && l.awayFor(one) > time.Duration(r.Lapse)*time.Second:
		return fmt.Sprintf("%s was not connected for longer than %d s", r.Peer, r.Lapse)
	case r.State == store.LoanActive && !l.cfg.Clock.Now().Before(r.Ends):
		if r.Reason != "" {
			return r.Reason
		}
		return "its time is up"
	}
	return ""
}

// awayFor is how long the borrower has not been connected.
func (l *Lend) awayFor(one *loan) time.Duration {
	link, _, err := l.cfg.Peers.Link(one.of.Peer)
	l.mu.Lock()
	defer l.mu.Unlock()
	if link != nil && err == nil {
		one.away = time.Time{}
		return 0
	}
	if one.away.IsZero() {
		one.away = time.Now()
	}
	return time.Since(one.away)
}

// hold takes the lease on a device that is lent, unless work that had it before has not ended yet.
func (l *Lend) hold(k *keeper.Keeper, one *loan) {
	l.mu.Lock()
	held := one.release != nil || one.State == store.LoanWaiting || one.Over()
	l.mu.Unlock()
	if held {
		return
	}
	if release, err := k.Lease(l.ctx, "lent to "+one.of.Peer, keeper.Exclusive); err == nil {
		l.mu.Lock()
		one.release = release
		l.mu.Unlock()
	}
}

// waits notes what a loan waits for.
func (l *Lend) waits(ctx context.Context, one *loan, reason string) error {
	return l.change(ctx, one, func(r *store.Loan) bool {
		if r.Reason == reason {
			return false
		}
		r.Reason = reason
		return true
	})
}

// begin begins a loan, if the device is reached and free.
func (l *Lend) begin(ctx context.Context, k *keeper.Keeper, one *loan) error {
	s := k.Session()
	if one.of.Exclusive && !slices.ContainsFunc(k.Ways(), keeper.Reached.Cabled) {
		return l.waits(ctx, one, "it is not connected to its lender by cable now")
	}
	if s == nil {
		return l.waits(ctx, one, "its lender cannot reach it now")
	}
	if _, err := s.Lending(); err != nil {
		return l.finish(ctx, one, "it cannot be lent: "+err.Error())
	}
	release, err := k.Lease(ctx, "lent to "+one.of.Peer, keeper.Exclusive)
	if err != nil {
		return l.waits(ctx, one, "it is in use by its lender")
	}
	apps, statements, err := on(ctx, s)
	if err != nil {
		release()
		return errors.Join(err, l.waits(ctx, one, "its lender cannot find out what is on it now"))
	}
	err = l.change(ctx, one, func(r *store.Loan) bool {
		now := l.cfg.Clock.Now().UTC()
		r.State, r.Reason, r.Began, r.Ends = store.LoanActive, "", now, now.Add(time.Duration(r.Seconds)*time.Second)
		r.Apps, r.Statements, r.Taken = apps, statements, true
		return true
	})
	if err != nil {
		release()
		return err
	}
	l.mu.Lock()
	one.release = release
	l.mu.Unlock()
	return nil
}

// on is what is on a device: its apps, and its grants and debug tokens.
func on(ctx context.Context, s device.Session) (apps map[string]string, statements []string, err error) {
	apps = map[string]string{}
	a, err := s.Apps()
	if err == nil {
		list, err := a.List(ctx)
		if err != nil {
			return nil, nil, fmt.Errorf("list the apps: %w", err)
		}
		for _, app := range list {
			apps[app.ID] = app.Digest
		}
	}
	st, err := s.Statements()
	if err == nil {
		if statements, err = st.List(ctx); errors.Is(err, errors.ErrUnsupported) {
			err = nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("list the grants and debug tokens: %w", err)
		}
	}
	return apps, statements, nil
}

// letIn admits the borrower on the device, once for each session with it, and ends the admission of everybody without a loan.
func (l *Lend) letIn(ctx context.Context, k *keeper.Keeper, one *loan) error {
	s := k.Session()
	l.mu.Lock()
	settled := one.settled == s
	ends, took := one.Ends, one.usb != nil
	l.mu.Unlock()
	if one.of.Exclusive && (took || s != nil && settled) {
		return l.takeUSB(ctx, k, one)
	}
	if s == nil || settled {
		return nil
	}
	lending, err := s.Lending()
	if err != nil {
		return err
	}
	if err := l.sendAway(ctx, lending, one.of.PeerKey); err != nil {
		return err
	}
	left := int(ends.Sub(l.cfg.Clock.Now()).Round(time.Second) / time.Second)
	if left < 1 {
		return nil
	}
	if err := lending.Add(ctx, device.Added{Key: one.of.PeerKey, Name: one.of.Peer, Rights: device.Rights(one.of.Rights), Seconds: left, Epoch: l.epoch}); err != nil {
		return l.finish(ctx, one, "the device does not let the borrower in: "+err.Error())
	}
	l.mu.Lock()
	one.settled = s
	l.mu.Unlock()
	if one.of.Exclusive {
		return l.takeUSB(ctx, k, one) // which ends the session: the next one tells what was done
	}
	if l.ctx.Err() == nil {
		l.work.Go(func() { l.followUses(s, lending, one) })
	}
	return nil
}

// sendAway ends every admission by this bench on a device, except that of one key.
func (l *Lend) sendAway(ctx context.Context, lending device.Lending, but string) error {
	all, err := lending.List(ctx, l.epoch)
	if err != nil {
		return fmt.Errorf("ask whom the device lets in: %w", err)
	}
	for _, a := range all {
		if a.Key == but {
			continue
		}
		if err := lending.Drop(ctx, a.Key); err != nil {
			return fmt.Errorf("send a borrower away: %w", err)
		}
	}
	return nil
}

// clean removes the borrower from the device, with everything that it put there, and checks that it is gone.
func (l *Lend) clean(ctx context.Context, k *keeper.Keeper, one *loan) error {
	r := l.record(one)
	l.cut(one, r.Reason)
	s := k.Session()
	if s == nil {
		return nil // it is done when the device is there; it does not let the borrower in after the end
	}
	lending, err := s.Lending()
	if err != nil {
		return err
	}
	if one.of.Exclusive {
		l.lateUses(ctx, lending, one)
	}
	if err := l.sendAway(ctx, lending, ""); err != nil {
		return err
	}
	left, err := l.takeOff(ctx, s, r)
	if err != nil {
		return err
	}
	return l.ended(ctx, one, left)
}

// takeOff removes what was not on a device before a loan. left is what cannot be restored.
func (l *Lend) takeOff(ctx context.Context, s device.Session, r store.Loan) (left string, err error) {
	if !r.Taken {
		return "", nil
	}
	apps, statements, err := on(ctx, s)
	if err != nil {
		return "", err
	}
	if err := dropStatements(ctx, s, statements, r.Statements); err != nil {
		return "", err
	}
	a, err := s.Apps()
	if err != nil { // then it could put none there either
		return "", nil
	}
	for id := range apps {
		if _, there := r.Apps[id]; !there {
			if err := a.Remove(ctx, id); err != nil {
				return "", fmt.Errorf("take %s off: %w", id, err)
			}
		}
	}
	if apps, statements, err = on(ctx, s); err != nil {
		return "", err
	}
	if slices.ContainsFunc(statements, func(text string) bool { return !slices.Contains(r.Statements, text) }) {
		return "", errors.New("it still has a grant or debug token of the borrower")
	}
	var changed []string
	for id := range apps {
		if _, there := r.Apps[id]; !there {
			return "", fmt.Errorf("it still has %s", id)
		}
	}
	for id, digest := range r.Apps {
		switch now, there := apps[id]; {
		case !there:
			changed = append(changed, id+" is no longer on it")
		case now != digest:
			changed = append(changed, id+" now has another version")
		}
	}
	slices.Sort(changed)
	return strings.Join(changed, "; "), nil
}

// dropStatements removes grants and debug tokens from a device, except those to keep, no matter who signed them.
func dropStatements(ctx context.Context, s device.Session, have, keep []string) error {
	st, err := s.Statements()
	if err != nil { // then there are none
		return nil
	}
	for _, text := range have {
		if slices.Contains(keep, text) {
			continue
		}
		id, err := statement.IDOf(text)
		if err == nil {
			err = st.Drop(ctx, id)
		}
		if err != nil {
			return fmt.Errorf("take a grant or a debug token of the borrower off: %w", err)
		}
	}
	return nil
}

// ended ends a loan for which nothing is left to do.
func (l *Lend) ended(ctx context.Context, one *loan, left string) error {
	r := l.record(one)
	l.audit(r.Peer, "return-device", fmt.Sprintf("%s, %d bytes in, %d out", r.Handle, r.In, r.Out), 200)
	err := l.change(ctx, one, func(r *store.Loan) bool {
		r.State, r.Ended, r.Left = store.LoanEnded, l.cfg.Clock.Now().UTC(), left
		return true
	})
	if err != nil {
		return err
	}
	l.mu.Lock()
	release := one.release
	one.release = nil
	l.mu.Unlock()
	if release != nil {
		release()
	}
	return nil
}
