package store

import "time"

// A subject whose facts change without end must not fill the disk with what they were before: its
// history grows by a budget of bytes. What goes beyond is left out, and how many changes that were is
// noted at the next one that is kept.
const (
	historyBurst = 256 << 10 // bytes at once
	historyRate  = 256       // bytes a second, 22 MB a day
	historyRow   = 100       // bytes that a line costs beside its value
)

// budgets are those of subjects. Only the writer uses them.
type budgets map[string]*budget

type budget struct {
	left    float64
	at      time.Time
	skipped int
}

// back gives back what was taken for a line that was not written.
func (b budgets) back(subject string, bytes, skipped int) {
	of := b[subject]
	of.left += float64(bytes + historyRow)
	of.skipped += skipped
}

// take reports whether a line of that many bytes is within the budget of a subject, and how many were
// left out before it.
func (b budgets) take(subject string, bytes int, now time.Time) (ok bool, skipped int) {
	of := b[subject]
	if of == nil {
		of = &budget{left: historyBurst, at: now}
		b[subject] = of
	}
	if passed := now.Sub(of.at).Seconds(); passed > 0 {
		of.left = min(of.left+passed*historyRate, historyBurst)
	}
	of.at = now
	cost := float64(bytes + historyRow)
	if of.left < cost {
		of.skipped++
		return false, 0
	}
	of.left -= cost
	skipped, of.skipped = of.skipped, 0
	return true, skipped
}
