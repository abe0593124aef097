package store

import (
	"fmt"
	"regexp"
	"slices"
	"sync"

	"earlybench.invalid/earlybench/core/problem"
)

// damages are the records that could not be read since the store was opened.
type damages struct {
	mu    sync.Mutex
	texts []string
}

// mostDamages is how many of them are remembered.
const mostDamages = 100

var tableOf = regexp.MustCompile(`FROM (\w+)`)

// found notes that a record cannot be read, and is the error for it.
func (d *database) found(q string, err error) error {
	table := "a table"
	if m := tableOf.FindStringSubmatch(q); m != nil {
		table = m[1]
	}
	text := fmt.Sprintf("a record of %s: %v", table, err)
	d.damaged.mu.Lock()
	defer d.damaged.mu.Unlock()
	if !slices.Contains(d.damaged.texts, text) && len(d.damaged.texts) < mostDamages {
		d.damaged.texts = append(d.damaged.texts, text)
	}
	return &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("In %s a record of %s cannot be read (%v).", d.file, table, err),
		Remedy: "All others can. Restore it from an earlier backup: earlybench backup restore FILE."}
}

// Damaged returns what could not be read of the records since the start, and was left out, such as "a
// record of job: unexpected end of JSON input".
func (s *Store) Damaged() []string {
	s.db.damaged.mu.Lock()
	defer s.db.damaged.mu.Unlock()
	return slices.Clone(s.db.damaged.texts)
}
