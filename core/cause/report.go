package cause

import (
	"fmt"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
)

// Report writes all that helps a colleague to see what is wrong, in plain text:
// gates, evidence, causes, answers, what else is known. It leaves out what tells
// who somebody is: keys, serials, addresses, names of people.
func Report(title string, q Question, e Explanation) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("%s", title)
	line("%s UTC, sheet %s, path %s", q.Now.UTC().Format("2006-01-02 15:04:05"), q.Sheet.Name, q.Readiness.Path.Name)
	line("")
	line("Gates, in the order of the walk")
	for _, name := range q.Readiness.Path.Walk {
		if g := q.Readiness.Gate(name); g.Name != "" {
			line("  %-11s %s%s", name, g.State, waiting(g))
		}
	}
	if e.Gate == "" {
		line("")
		line("Nothing is shut.")
	} else {
		line("")
		line("First gate that is not open: %s", e.Gate)
		line("  %s", plain(e.Text))
	}
	section(&b, "Causes", len(e.Causes))
	for _, c := range e.Causes {
		line("  %3.0f %%  %s (%s)", 100*c.Probability, plain(c.Text), c.ID)
	}
	section(&b, "Answers", len(e.Answers))
	for _, g := range e.Answers {
		line("  %s - %s (%s)", plain(sheet.Fill(g.Check.Text, q.Words)), plain(g.Answer.Text), how(g.Fact, g.Seen))
	}
	if m := Next(q, e); m != nil {
		section(&b, "What to do next", 1)
		line("  %s", plain(m.Text))
	}
	section(&b, "What is known", 1)
	for _, f := range q.View.All() {
		q.known(&b, f)
	}
	return b.String()
}

func waiting(g ready.Gate) string {
	if len(g.Waits) == 0 {
		return ""
	}
	return ", waits for " + strings.Join(g.Waits, ", ")
}

func section(b *strings.Builder, title string, items int) {
	if items > 0 {
		fmt.Fprintf(b, "\n%s\n", title)
	}
}

// known writes one fact, if it tells nothing of who or where somebody is.
func (q *Question) known(b *strings.Builder, f fact.Fact) {
	spec, ok := q.View.Registry().Lookup(f.Key)
	if !ok || spec.Private {
		return
	}
	old := ""
	if !q.View.Good(f, q.Now) {
		old = ", no longer good"
	}
	fmt.Fprintf(b, "  %s = %s (%s, %s%s)\n", f.Key, hidden(f.Value.String()), how(f, false), f.At.UTC().Format(time.TimeOnly), old)
}

func how(f fact.Fact, seen bool) string {
	if f.Source == fact.Person && !seen {
		return "told"
	}
	return "observed, " + string(f.Source)
}

// hidden takes fingerprints out of a value.
func hidden(s string) string {
	words := strings.Fields(s)
	for i, w := range words {
		if strings.Contains(w, "SHA256:") {
			words[i] = "SHA256:(left out)"
		}
	}
	return strings.Join(words, " ")
}

func plain(s string) string {
	return hidden(strings.NewReplacer("**", "", "*", "").Replace(s))
}
