// Package excerpt keeps the beginning and the end of a log that may have no end.
package excerpt

import (
	"fmt"
	"slices"

	"earlybench.invalid/earlybench/core/plain"
)

// MostLine is how much is kept of a line, in bytes.
const MostLine = 4 << 10

// How many lines are kept.
const (
	firstLines = 200
	lastLines  = 1800
)

// Excerpt is the beginning and the end of a log. The zero value is empty.
type Excerpt struct {
	first, last []string
	next        int // where in last the next line comes
	all         int
}

// Add adds a line, cut where it is too long.
func (e *Excerpt) Add(line string) {
	line = plain.Cut(line, MostLine)
	e.all++
	switch {
	case len(e.first) < firstLines:
		e.first = append(e.first, line)
	case len(e.last) < lastLines:
		e.last = append(e.last, line)
	default:
		e.last[e.next] = line
		e.next = (e.next + 1) % lastLines
	}
}

// Lines are what is kept, with a line in the place of what is left out.
func (e *Excerpt) Lines() []string {
	out := slices.Clone(e.first)
	if more := e.all - len(e.first) - len(e.last); more > 0 {
		out = append(out, fmt.Sprintf("(%d lines are left out here)", more))
	}
	out = append(out, e.last[e.next:]...)
	return append(out, e.last[:e.next]...)
}
