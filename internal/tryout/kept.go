package tryout

import (
	"fmt"

	"earlybench.invalid/earlybench/core/plain"
)

// What a tryout keeps of a log: an app may say without end.
const (
	firstLines = 200
	lastLines  = 1800
	mostLine   = 4 << 10 // bytes
	mostNote   = 200     // bytes of a line beside a phase that runs
)

// logKept is the beginning and the end of a log. The zero value is empty.
type logKept struct {
	first, last []string
	next        int // where in last the next line comes
	all         int
}

func (k *logKept) add(line string) {
	line = plain.Cut(line, mostLine)
	k.all++
	switch {
	case len(k.first) < firstLines:
		k.first = append(k.first, line)
	case len(k.last) < lastLines:
		k.last = append(k.last, line)
	default:
		k.last[k.next] = line
		k.next = (k.next + 1) % lastLines
	}
}

// lines are what is kept, with a line in the place of what is left out.
func (k *logKept) lines() []string {
	out := k.first
	if more := k.all - len(k.first) - len(k.last); more > 0 {
		out = append(out, fmt.Sprintf("(%d lines are left out here)", more))
	}
	out = append(out, k.last[k.next:]...)
	return append(out, k.last[:k.next]...)
}
