package cli

import (
	"fmt"
	"regexp"
	"strconv"
	"time"
)

// span is the value of an option that is a time span: a duration of Go, which may begin with days.
type span time.Duration

var spanDays = regexp.MustCompile(`^([+-]?)(\d+)d(.*)$`)

// Set reads a span such as 40d, +2d12h, -30m.
func (s *span) Set(text string) error {
	rest, days := text, time.Duration(0)
	if m := spanDays.FindStringSubmatch(text); m != nil {
		n, err := strconv.Atoi(m[2])
		if err != nil || n > 36500 {
			return fmt.Errorf("%.40q is too long a time", text)
		}
		days, rest = time.Duration(n)*24*time.Hour, m[1]+m[3]
		if m[1] == "-" {
			days = -days
		}
		if m[3] == "" {
			*s = span(days)
			return nil
		}
	}
	d, err := time.ParseDuration(rest)
	if err != nil {
		return fmt.Errorf("%.40q is not a time span: write it like 30m, 26h or 40d", text)
	}
	*s = span(days + d)
	return nil
}

func (s *span) String() string { return time.Duration(*s).String() }
func (s *span) Type() string   { return "span" }
