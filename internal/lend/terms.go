package lend

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/internal/store"
)

// notice is how long before its end a borrower is reminded of a loan.
const notice = 15 * time.Minute

// Terms are the current loans.
func (l *Lend) Terms(context.Context) ([]ending.Term, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []ending.Term
	for _, one := range l.loans {
		r := one.Loan
		if r.State != store.LoanActive {
			continue
		}
		handle := r.Handle
		if k := l.cfg.Rack.ByID(r.Device); k != nil {
			handle = k.Device().Handle
		}
		t := ending.Term{ID: fmt.Sprintf("loan-%s-%d", r.ID, r.Ends.Unix()), Kind: ending.Loan, Name: handle, Holder: r.Peer, Devices: []string{handle}, Begins: r.Began.UTC(), Ends: r.Ends.UTC(), Notice: notice, Mine: !r.Lent}
		if r.Lent {
			t.Stops = fmt.Sprintf("%s no longer has %s; everything put on the device is removed.", r.Peer, handle)
		} else {
			t.Stops = fmt.Sprintf("%s is returned to %s, without what was put on it.", handle, r.Peer)
			t.Step, t.Command = "Extend the loan if you still need it.", fmt.Sprintf("earlybench loan extend %s --for 2h", handle)
		}
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b ending.Term) int { return strings.Compare(a.ID, b.ID) })
	return out, nil
}
