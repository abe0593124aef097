package outlook

import (
	"context"
	"fmt"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
)

// Weights of what was learned elsewhere, beside one case of the same family and
// host.
const (
	otherHost = 0.25
	anyFamily = 0.5
)

// learning counts which causes were found to be the ones.
type learning struct {
	mu       sync.Mutex
	cases    []store.Learned
	weighted map[desk]cause.Learned
}

// desk is a pair of family and host.
type desk struct{ family, host string }

// learned returns the weights for a family on a host: its own cases count in full, those
// of other hosts and of devices that did not show up in part.
func (o *Outlook) learned(family, host string) cause.Learned {
	l := &o.cases
	l.mu.Lock()
	defer l.mu.Unlock()
	key := desk{family, host}
	if got, ok := l.weighted[key]; ok {
		return got
	}
	out := cause.Learned{}
	for _, c := range l.cases {
		switch {
		case c.Family == family && c.Host == host:
			out[c.Cause] += float64(c.Cases)
		case c.Family == family:
			out[c.Cause] += otherHost * float64(c.Cases)
		case c.Family == "":
			out[c.Cause] += anyFamily * float64(c.Cases)
		}
	}
	l.weighted[key] = out
	return out
}

// learnWithin bounds counting a case.
const learnWithin = 10 * time.Second

// learn counts a finding, and ends the inquiry that led to it.
func (o *Outlook) learn(k *keeper.Keeper, f *finding) {
	if f == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), learnWithin)
	defer cancel()
	if f.cause != "" {
		err := o.cfg.Store.Learn(ctx, k.Series().Family, k.Host(), f.cause, o.cfg.Clock.Now())
		if err == nil {
			err = o.readLearned(ctx)
		}
		if err != nil {
			o.cfg.Log.Error("count a cause", "cause", f.cause, "error", err)
		}
	}
	if len(f.over) > 0 {
		if err := k.Facts().Forget(ctx, fact.Person, f.over...); err != nil {
			o.cfg.Log.Error("end an inquiry", "error", err)
		}
	}
}

// Appeared records that a device has shown up on a host. Statements about a device that
// did not show up end, and what helped is counted.
func (o *Outlook) Appeared(host string) {
	k := o.cfg.Rack.Unseen()
	m := o.mind(k)
	m.busy.Lock()
	f := findingOf(m.asked, k.Facts().View())
	m.asked = cause.Explanation{}
	m.busy.Unlock()
	if len(f.over) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), learnWithin)
	defer cancel()
	if f.cause != "" {
		if err := o.cfg.Store.Learn(ctx, "", host, f.cause, o.cfg.Clock.Now()); err != nil {
			o.cfg.Log.Error("count a cause", "cause", f.cause, "error", err)
		} else if err := o.readLearned(ctx); err != nil {
			o.cfg.Log.Error("read what was learned", "error", err)
		}
	}
	if err := k.Facts().Forget(ctx, fact.Person, f.over...); err != nil {
		o.cfg.Log.Error("end an inquiry", "error", err)
	}
}

// Unlearn forgets all cases, or those of one family, and returns how many.
func (o *Outlook) Unlearn(ctx context.Context, family string, all bool) (int64, error) {
	n, err := o.cfg.Store.Unlearn(ctx, family, all)
	if err != nil {
		return 0, err
	}
	return n, o.readLearned(ctx)
}

func (o *Outlook) readLearned(ctx context.Context) error {
	cases, err := o.cfg.Store.Learned(ctx)
	if err != nil {
		return fmt.Errorf("read what was learned: %w", err)
	}
	o.cases.mu.Lock()
	defer o.cases.mu.Unlock()
	o.cases.cases, o.cases.weighted = cases, map[desk]cause.Learned{}
	return nil
}
