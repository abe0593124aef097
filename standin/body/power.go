package body

import (
	"context"
	"crypto/rand"
	"slices"
	"strconv"
	"strings"
	"time"
)

// tickEvery is how often a body checks for what changes with time alone.
const tickEvery = 250 * time.Millisecond

// live runs what happens with time until ctx ends: the body locks itself and falls
// asleep, its battery drains, admissions end, toasts disappear.
func (b *Body) live(ctx context.Context) {
	t := time.NewTicker(tickEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			b.mu.Lock()
			b.tick()
			b.mu.Unlock()
		}
	}
}

func (b *Body) tick() {
	now, spec := b.cfg.Clock.Now(), b.cfg.Spec
	idle := now.Sub(b.used)
	switch {
	case b.booting:
		if now.After(b.booted) {
			b.boot()
		}
	case spec.Sleep != "" && !b.asleep && !b.power && b.question == nil && b.meeting == nil && idle > durationOr(spec.Sleep, 0):
		b.sleep()
		b.redraw()
	case !b.resting && b.restsAfter() > 0 && idle > b.restsAfter() && b.screen.pad == nil:
		b.rest()
	case !b.locked && spec.Lock.Idle != "" && idle > durationOr(spec.Lock.Idle, 0) && b.screen.pad == nil:
		b.lock()
		b.redraw()
	}
	for key, a := range b.st.Admissions {
		if !a.Until.IsZero() && now.After(a.Until) {
			delete(b.st.Admissions, key)
			b.touchState()
		}
	}
	if b.screen.taps > 0 && now.Sub(b.screen.tapped) > durationOr(spec.Hidden.Within, 2*time.Second) {
		b.screen.taps = 0 // its notches empty
		b.redraw()
	}
	if q := b.question; q != nil && q.held > 0 && now.Sub(q.heldAt) > holdFor {
		q.held = 0
		b.redraw()
	}
	if b.screen.toast != "" && now.After(b.screen.ends) {
		b.screen.toast = ""
		b.redraw()
	}
	if level := b.charge(); level != b.shown {
		b.shown = level
		b.redraw()
	}
}

// restsAfter is how long the body waits untouched before it rests; 0 means that it
// never does. The lock is held.
func (b *Body) restsAfter() time.Duration {
	if minutes, _, ok := strings.Cut(b.st.Settings["rests"], " minute"); ok {
		n, _ := strconv.Atoi(minutes)
		return time.Duration(n) * time.Minute
	}
	return 0
}

// rest locks the body and turns its screen off; until it is woken it accepts no files
// and starts no apps. The lock is held.
func (b *Body) rest() {
	b.lock()
	b.sleep()
	b.resting = true
	b.touchState()
}

// sleep has the body fall asleep. The lock is held.
func (b *Body) sleep() {
	if !b.asleep {
		b.slept = b.cfg.Clock.Now()
	}
	b.asleep = true
}

// lock locks the screen, where it can be locked. The lock is held.
func (b *Body) lock() {
	if k := b.cfg.Spec.Lock.Kind; k == "" {
		return
	}
	b.locked = true
	b.screen.dialog, b.screen.pad, b.screen.toast = nil, nil, ""
}

// unlock asks for the secret, unlocks the screen and then calls then, unless that is nil.
func (b *Body) unlock(then func()) {
	b.wantSecret(b.secretTitle(), func() {
		b.locked = false
		b.redraw()
		if then != nil {
			then()
		}
	})
}

func (b *Body) rouse() {
	b.asleep, b.resting = false, false
	b.used = b.cfg.Clock.Now()
}

// charge is the battery's level, in per cent. The lock is held.
func (b *Body) charge() int {
	drain := durationOr(b.cfg.Spec.Battery.Drain, 10*time.Minute)
	passed := b.cfg.Clock.Now().Sub(b.st.LevelAt)
	if b.power {
		return min(b.st.Level+int(passed/durationOr(b.cfg.Spec.Battery.Charge, drain/4)), 100)
	}
	return max(b.st.Level-int(passed/drain), 1)
}

// setPower records that power was connected or lost. The lock is held.
func (b *Body) setPower(on bool) {
	b.st.Level = b.charge()
	b.st.LevelAt = b.cfg.Clock.Now()
	b.power = on
	b.used = b.cfg.Clock.Now()
	if on {
		b.asleep, b.resting = false, false
	}
}

// restart switches the body off and on again: it leaves the bus meanwhile.
func (b *Body) restart() {
	b.booting = true
	b.booted = b.cfg.Clock.Now().Add(durationOr(b.cfg.Spec.Boot, 3*time.Second))
	for _, p := range b.running {
		p.stop()
	}
	b.screen.home()
	b.forgetVisits()
	b.redraw()
}

// boot ends a restart.
func (b *Body) boot() {
	b.booting = false
	b.used = b.cfg.Clock.Now()
	b.locked = b.cfg.Spec.Lock.Kind != "" && b.cfg.Spec.Lock.Kind != "none"
	for _, r := range b.cfg.Spec.Restart {
		if !b.holds(r.When) {
			continue
		}
		for k, v := range r.Set {
			b.st.Settings[k] = v
		}
		if r.Page != "" {
			b.screen.pages = append([]string{"home"}, b.wayTo(r.Page)...)
		}
		break
	}
	b.touchState()
}

// wayTo is the pages from the settings to one of them, by rows that show.
func (b *Body) wayTo(page string) []string {
	ways := [][]string{{"settings"}}
	seen := map[string]bool{}
	for ; len(ways) > 0; ways = ways[1:] {
		last := ways[0][len(ways[0])-1]
		if last == page {
			return ways[0]
		}
		for _, r := range b.rows(last) {
			if to := b.leads(r); to != "" && !seen[to] {
				seen[to] = true
				ways = append(ways, append(slices.Clone(ways[0]), to))
			}
		}
	}
	return []string{"settings", page}
}

// freshCode is four letters that can be read out: consonants and vowels in turn.
func freshCode() string {
	const consonants, vowels = "BDFGHKLMNPRSTVWZ", "AEIOU"
	raw := make([]byte, 4)
	_, _ = rand.Read(raw) // it never fails
	pick := func(from string, b byte) string { return string(from[int(b)%len(from)]) }
	return pick(consonants, raw[0]) + pick(vowels, raw[1]) + pick(consonants, raw[2]) + pick(consonants, raw[3])
}

// forgetVisits drops the admissions for one visit. The lock is held.
func (b *Body) forgetVisits() {
	for key, a := range b.st.Admissions {
		if a.For == "visit" {
			delete(b.st.Admissions, key)
		}
	}
}
