package sheet

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
)

// This file builds the single parts of a sheet: gates, steps, causes, checks, with
// their conditions and texts.

func (b *builder) gate(g gateFile, path string) *Gate {
	note := ""
	if out := b.gates[g.Name]; out != nil {
		return out
	}
	out := &Gate{Name: g.Name.S, NotNeeded: g.NotNeeded, Ends: fact.Key(g.Ends.S), Notice: b.length(g.Notice, 72*time.Hour)}
	b.gates[g.Name] = out
	if len(b.sheet.Paths) > 0 { // what another path overrides is named with it
		note = " (" + path + ")"
	}
	what := g.Open.S
	if g.NotNeeded {
		what = "not needed"
	}
	b.part("gate", g.Name.S+note, what, g.Name)
	if g.NotNeeded {
		return out
	}
	if spec, ok := b.registry.Lookup(out.Ends); out.Ends != "" && (!ok || spec.Type != fact.Moment) {
		b.wrong(g.Ends, "ends: %q is no fact that is a time", g.Ends.S)
	}
	out.Needed, out.Waiting = b.condition(g.Needed), b.condition(g.Waiting)
	if out.Open = b.condition(g.Open); out.Open == nil && g.Open.S == "" {
		b.missing(g.Name, "gate %s has no condition: open", g.Name.S)
	} else if out.Open != nil {
		nothing := fact.NewView(b.registry, nil).At(time.Time{})
		if len(out.Open.Facts) == 0 || out.Open.Eval(&Attributes{}, nothing) == True {
			b.wrong(g.Open, "gate %s would open with nothing known; a gate is opened by a fact", g.Name.S)
		}
	}
	for _, n := range g.Needs {
		if !slices.Contains(Order, n.S) && !OfHost(n.S) {
			b.hinted(n, Order, "there is no gate %q", n.S)
		}
		out.Needs = append(out.Needs, n.S)
	}
	for _, s := range g.Says {
		out.Says = append(out.Says, Saying{When: b.condition(s.When), Text: b.text(s.Text), Remedy: b.text(s.Remedy)})
	}
	return out
}

// forms are the device forms that a drawing can show.
var forms = []string{"phone", "tablet", "keys", "round"}

// actions are what the bench itself can do for a step.
var actions = []string{InstallDriver, FetchSupport, GiveBack, RestartLink, Register, PutStatement, AskAdmission, Introduce, TryApp, RemoveApps, TakeOff, Withdraw, Leave}

func (b *builder) step(v stepFile) *Step {
	switch {
	case !idShape.MatchString(v.ID.S):
		b.missing(cmp.Or(v.ID, v.Title, v.Text), "a step has an id of lower-case letters, digits and hyphens")
	case !slices.Contains(Order, v.Gate.S) && !OfHost(v.Gate.S):
		b.hinted(v.Gate, Order, "step %s: there is no gate %q", v.ID.S, v.Gate.S)
	case v.Action.S != "" && !slices.Contains(actions, v.Action.S):
		b.hinted(v.Action, actions, "step %s: there is no action %q", v.ID.S, v.Action.S)
	case v.Title.S == "" || v.Text.S == "":
		b.missing(v.ID, "step %s has no title or text", v.ID.S)
	}
	out := &Step{ID: v.ID.S, Gate: v.Gate.S, Who: b.who(v.Who, v.ID), Title: b.text(v.Title), Text: b.text(v.Text),
		Note: b.text(v.Note), Search: b.text(v.Search), Sight: b.text(v.Sight), Risk: b.text(v.Risk),
		Action: v.Action.S, Minutes: v.Minutes, Sure: v.Sure, Again: v.Again, Later: v.Later, Lasts: v.Lasts, Word: b.registry.Index(Told(v.ID.S)), Done: b.condition(v.Done), When: b.condition(v.When)}
	out.Restarts = b.length(v.Restarts, 0)
	if out.Means, out.Lacking = v.Means.S, b.text(v.Lacking); out.Means != "" || out.Lacking != "" {
		switch {
		case !slices.Contains(Means, out.Means):
			b.hinted(cmp.Or(v.Means, v.Lacking), Means, "step %s: there are no means %q", v.ID.S, out.Means)
		case out.Lacking == "":
			b.missing(v.Means, "step %s: lacking says what to do without its means", v.ID.S)
		}
	}
	if v.Tells.S != "" {
		out.Tells = fact.Key(v.Tells.S)
		if spec, ok := b.registry.Lookup(out.Tells); !ok || spec.Type != fact.Bool || !slices.Contains(spec.Sources, fact.Person) {
			b.missing(v.Tells, "step %s: %s is no yes-or-no fact that people may tell", v.ID.S, v.Tells.S)
		}
	}
	for _, w := range v.Where {
		out.Where = append(out.Where, b.text(w))
	}
	if d := v.Draw; d != nil {
		if d.Rows == 0 || d.Row > d.Rows {
			b.missing(cmp.Or(d.Title, v.ID), "step %s: its drawing has %d rows and marks row %d", v.ID.S, d.Rows, d.Row)
		}
		form := cmp.Or(d.Form.S, forms[0])
		if !slices.Contains(forms, form) {
			b.hinted(d.Form, forms, "step %s: its drawing has no form %q", v.ID.S, form)
		}
		out.Draw = &Drawing{Form: form, Title: b.text(d.Title), Word: b.text(d.Word), Rows: d.Rows, Row: d.Row, Taps: d.Taps}
	}
	return out
}

func (b *builder) who(t, id text) Who {
	if !slices.Contains([]Who{Hands, Computer, Automatic}, Who(t.S)) {
		e := mistake(cmp.Or(t, id, b.own.Sheet), "", "%s: who is hands, computer or automatic, not %q", id.S, t.S)
		e.follows = t.S == ""
		b.errs = append(b.errs, e)
	}
	return Who(t.S)
}

func (b *builder) cause(c causeFile) *Cause {
	if !idShape.MatchString(c.ID.S) || c.Text.S == "" || len(c.Gates) == 0 {
		b.missing(cmp.Or(c.ID, c.Text), "a cause has an id (lower-case letters, digits, hyphens), gates and a text")
	}
	b.part("cause", c.ID.S, c.Text.S, c.ID)
	out := &Cause{ID: c.ID.S, Weight: c.Weight, Text: b.text(c.Text), Proved: b.condition(c.Proved), Excluded: b.condition(c.Excluded),
		Remedy: Remedy{Who: b.who(c.Remedy.Who, c.ID), Seconds: c.Remedy.Seconds, Text: b.text(c.Remedy.Text), Step: c.Remedy.Step.S, Action: c.Remedy.Action.S, Sight: b.text(c.Remedy.Sight), Cures: c.Remedy.Cures}}
	for _, g := range c.Gates {
		if !slices.Contains(Order, g.S) && !OfHost(g.S) {
			b.hinted(g, append(slices.Clone(Order), HostOrder...), "cause %s: there is no gate %q", c.ID.S, g.S)
		}
		out.Gates = append(out.Gates, g.S)
	}
	if c.Remedy.Seconds == 0 || c.Remedy.Text.S == "" {
		b.missing(c.ID, "cause %s has a remedy with a text and seconds", c.ID.S)
	}
	if a := c.Remedy.Action; a.S != "" && !slices.Contains(actions, a.S) {
		b.hinted(a, actions, "cause %s: there is no action %q", c.ID.S, a.S)
	}
	if b.sheet.Step(out.Remedy.Step) == nil && b.general(c.ID.File) {
		out.Remedy.Step = "" // not every family has that step
	}
	if out.Remedy.Step != "" && b.sheet.Step(out.Remedy.Step) == nil {
		b.wrong(c.Remedy.Step, "cause %s: there is no step %q", c.ID.S, c.Remedy.Step.S)
	}
	for _, l := range c.Likely {
		if f := (Factor{When: b.condition(l.When), Times: l.Times}); f.When != nil && l.Times > 0 {
			out.Likely = append(out.Likely, f)
		} else if l.When.S == "" || l.Times == 0 {
			b.missing(cmp.Or(l.When, c.ID), "what makes cause %s likely has when and times", c.ID.S)
		}
	}
	return out
}

func (b *builder) check(c checkFile) *Check {
	if !idShape.MatchString(c.ID.S) || c.Text.S == "" || c.Seconds == 0 || len(c.Answers) < 2 {
		b.missing(cmp.Or(c.ID, c.Text), "a check has an id (lower-case letters, digits, hyphens), a text, seconds and at least two answers")
	}
	b.part("check", c.ID.S, c.Text.S, c.ID)
	out := &Check{ID: c.ID.S, Who: b.who(c.Who, c.ID), Seconds: c.Seconds, Text: b.text(c.Text), Note: b.text(c.Note),
		When: b.condition(c.When), Good: b.length(c.Good, time.Hour), means: map[string][]float64{}}
	for _, a := range c.Answers {
		if !idShape.MatchString(a.ID.S) || a.Text.S == "" {
			b.missing(a.ID, "check %s: an answer has a name (lower-case letters, digits, hyphens) and a text", c.ID.S)
		}
		out.Answers = append(out.Answers, Answer{ID: a.ID.S, Text: b.text(a.Text), Seen: b.condition(a.Seen)})
	}
	out.others = b.shares(out, c.ID, c.Others)
	for _, m := range c.Means {
		if b.sheet.Cause(m.Cause.S) == nil && !b.anyCause(m.Cause.S) {
			var names []string
			for _, c := range b.sheet.Causes {
				names = append(names, c.ID)
			}
			b.hinted(m.Cause, names, "check %s: there is no cause %q", c.ID.S, m.Cause.S)
		}
		out.means[m.Cause.S] = b.shares(out, m.Cause, m.Shares)
	}
	return out
}

// general reports whether a file belongs to no single family.
func (b *builder) general(path string) bool {
	return slices.ContainsFunc(b.chain, func(f *file) bool { return f.path == path && f.Family.S == "" && f.Maker.S == "" && len(f.Models) == 0 })
}

// anyCause reports whether any layer has a cause, even if another layer removes it.
func (b *builder) anyCause(id string) bool {
	return slices.ContainsFunc(b.layers(), func(l *layer) bool {
		return slices.ContainsFunc(l.Causes, func(c causeFile) bool { return c.ID.S == id })
	})
}

// shares fills what is written of the shares of the answers up to 1, the rest
// equally among those that are not named.
func (b *builder) shares(c *Check, at text, written []shareFile) []float64 {
	out := make([]float64, len(c.Answers))
	named, sum := map[int]bool{}, 0.0
	for _, s := range written {
		i := slices.IndexFunc(c.Answers, func(a Answer) bool { return a.ID == s.Answer.S })
		if i < 0 {
			b.wrong(s.Answer, "check %s has no answer %q", c.ID, s.Answer.S)
			continue
		}
		out[i], named[i] = s.Share, true
		sum += s.Share
	}
	rest := len(out) - len(named)
	if sum > 1+1e-9 || rest == 0 && math.Abs(sum-1) > 1e-9 {
		b.wrong(at, "check %s: the shares of %s sum to %.3g, not to 1", c.ID, cmp.Or(at.S, "the others"), sum)
		return out
	}
	for i := range out {
		if !named[i] {
			out[i] = (1 - sum) / float64(rest)
		}
	}
	return out
}

// condition compiles a condition; nil if there is none or it is wrong.
func (b *builder) condition(t text) *Condition {
	if t.S == "" {
		return nil
	}
	c, err := b.lang.compile(t.S)
	if err == nil {
		return c
	}
	e, ok := errorAs[*Error](err)
	if !ok {
		b.wrong(t, "%s", err)
		return nil
	}
	placed := mistake(t, cmp.Or(e.Hint, b.hint(e.Text)), "%s", e.Text)
	if m := undeclared.FindStringSubmatch(e.Text); m != nil {
		placed.Text = fmt.Sprintf("there is no %s", m[1])
		if e.Line <= 1 { // CEL points at the last part of a dotted name
			if at := strings.LastIndex(t.S[:min(e.Col+len(m[1]), len(t.S))], m[1]); at >= 0 {
				placed.Near, e.Col = m[1], at
			}
		}
	}
	if e.Line > 1 {
		placed.Line, placed.Col = t.Line+e.Line-1, e.Col+1
	} else {
		placed.Col = t.Col + e.Col
		if t.quoted {
			placed.Col++
		}
	}
	b.errs = append(b.errs, placed)
	return nil
}

var undeclared = regexp.MustCompile(`undeclared reference to '([^']+)'`)

// hint suggests the known name that is nearest to an unknown one.
func (b *builder) hint(message string) string {
	m := undeclared.FindStringSubmatch(message)
	if m == nil {
		return ""
	}
	names := []string{"device.family", "device.maker", "device.code", "host.name", "host.shared", "app.id", "app.release", "app.features", "app.developer"}
	for _, s := range b.registry.All() {
		names = append(names, "fact."+string(s.Key), "known."+string(s.Key))
	}
	return cmp.Or(plain.Meant(m[1], names), "facts are written fact.KEY")
}

// text checks that every {word} of a text is known.
func (b *builder) text(t text) string {
	for _, at := range placeholder.FindAllStringSubmatchIndex(t.S, -1) {
		name := t.S[at[2]:at[3]]
		if _, ok := b.sheet.words[""][name]; ok || slices.Contains(OfDevice, name) {
			continue
		}
		place := t
		place.S = t.S[at[0]:at[1]]
		if place.Col += at[0]; t.quoted {
			place.Col++
		}
		names := slices.Clone(OfDevice)
		for w := range b.sheet.words[""] {
			names = append(names, w)
		}
		slices.Sort(names)
		b.errs = append(b.errs, mistake(place, plain.Meant(name, names), "%s", fmt.Sprintf("there is no word %q in this sheet", name)))
	}
	return t.S
}
