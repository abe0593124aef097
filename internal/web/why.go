package web

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/store"
)

// This file answers why, takes down what people say, and tells what was learned.
// The handle unseen stands for a device that does not show up at all.

func (s *Server) whyRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/facts", "facts", "Everything known about a device"), s.facts)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/history", "history", "What was known about a device before, newest first"), s.history)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/tellable", "tellable", "The facts that a person may state about a device"), s.tellable)
	huma.Register(a, silent(access.Use, "/devices/{handle}/facts", "tell-fact", "State facts about a device"), s.tellFact)
	huma.Register(a, silent(access.Use, "/devices/{handle}/told", "tell", "Confirm that a step was done"), s.tell)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/why", "why", "Why a device is not ready; for the handle unseen: why one does not show up"), s.why)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/report", "report", "A report for a colleague, without secrets"), s.report)
	huma.Register(a, silent(access.Use, "/devices/{handle}/answers", "answer", "Answer a check"), s.answer)
	takeBack := silent(access.Use, "/devices/{handle}/answers/{id}", "take-back", "Undo an answer")
	takeBack.Method = http.MethodDelete
	huma.Register(a, takeBack, s.takeBack)
	huma.Register(a, silent(access.Use, "/devices/{handle}/remedies", "remedied", "Report that the remedy of a cause was tried"), s.remedied)
	huma.Register(a, operation(access.Look, "GET", "/learned", "learned", "Which causes were found, and how often"), s.learned)
	huma.Register(a, operation(access.Maintain, "DELETE", "/learned", "unlearn", "Forget what was learned"), s.unlearn)
}

func (s *Server) facts(ctx context.Context, in *struct {
	OfDevice
	Select
}) (*out[client.List[client.Fact]], error) {
	st, err := s.look(ctx, &in.OfDevice)
	if err != nil {
		return nil, err
	}
	return factList.of(in.Select, factsOf(st, st.View.All()))
}

func (s *Server) tellable(ctx context.Context, in *struct {
	OfDevice
	Select
}) (*out[client.List[client.Tellable]], error) {
	st, err := s.look(ctx, &in.OfDevice)
	if err != nil {
		return nil, err
	}
	return tellableList.of(in.Select, each(outlook.Tellable(st.View.Registry()), func(spec fact.Spec) client.Tellable {
		return client.Tellable{Key: string(spec.Key), Text: spec.Label(), Type: string(spec.Type), Values: spec.Values()}
	}))
}

func (s *Server) history(ctx context.Context, in *struct {
	OfDevice
	Select
}) (*out[client.List[client.Fact]], error) {
	st, err := s.look(ctx, &in.OfDevice)
	if err != nil {
		return nil, err
	}
	k, err := s.Rack.Find(in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	if _, err := strconv.ParseInt(cmp.Or(in.After, "0"), 10, 64); err != nil {
		return nil, problem(noSuch(in.After))
	}
	registry := k.Facts().View().Registry()
	types := func(key fact.Key) (fact.Type, bool) {
		spec, ok := registry.Lookup(key)
		return spec.Type, ok
	}
	lines := paged(ctx, in.After, func(l store.Known) string { return strconv.FormatInt(l.ID, 10) }, func(ctx context.Context, after string, n int) ([]store.Known, error) {
		before, _ := strconv.ParseInt(cmp.Or(after, "0"), 10, 64)
		return s.Store.History(ctx, k.Device().ID, types, before, n)
	})
	return historyList.from(in.Select, func(yield func(client.Fact, error) bool) {
		for l, err := range lines {
			if err == nil && l.Fact.Value == (fact.Value{}) {
				continue // of a key that no sheet has any more
			}
			f := factOf(st, l.Fact)
			f.ID = strconv.FormatInt(l.ID, 10)
			if !yield(f, err) {
				return
			}
		}
	})
}

func (s *Server) why(ctx context.Context, in *OfDevice) (*out[client.Why], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	return &out[client.Why]{whyOf(st)}, nil
}

func (s *Server) report(ctx context.Context, in *OfDevice) (*out[client.Report], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	title := fmt.Sprintf("%s: %s", st.Device.Handle, strings.TrimSpace(strings.Join([]string{st.Device.Maker, st.Device.Model, st.Device.Family}, " ")))
	if in.App != "" {
		title += ", with " + in.App
	}
	return &out[client.Report]{client.Report{Text: cause.Report(title, st.Question, st.Why)}}, nil
}

// says finds the device that something is said of, by whom, and on which of its
// revisions that was decided.
func (s *Server) says(ctx context.Context, handle string, on OnRevision, take func(outlook.Said) error) (*struct{}, error) {
	k, err := s.Rack.Find(handle)
	if err != nil {
		return nil, problem(err)
	}
	decided, err := on.decided()
	if err != nil {
		return nil, problem(err)
	}
	return nil, problem(take(outlook.Said{Of: k, By: access.From(ctx).Name, Revision: decided}))
}

func (s *Server) tell(ctx context.Context, in *struct {
	OfDevice
	OnRevision
	Body struct {
		Step string `json:"step" maxLength:"60"`
	}
}) (*struct{}, error) {
	return s.says(ctx, in.Handle, in.OnRevision, func(said outlook.Said) error { return s.Outlook.Tell(ctx, said, in.Body.Step) })
}

func (s *Server) tellFact(ctx context.Context, in *struct {
	OfDevice
	OnRevision
	Body struct {
		Key   string `json:"key" maxLength:"60"`
		Value string `json:"value" maxLength:"200" doc:"as people write it: yes, no, a number, or text"`
	}
}) (*struct{}, error) {
	return s.says(ctx, in.Handle, in.OnRevision, func(said outlook.Said) error { return s.Outlook.TellFact(ctx, said, in.Body.Key, in.Body.Value) })
}

func (s *Server) answer(ctx context.Context, in *struct {
	OfDevice
	OnRevision
	Body client.Answer
}) (*struct{}, error) {
	return s.says(ctx, in.Handle, in.OnRevision, func(said outlook.Said) error { return s.Outlook.Answer(ctx, said, in.Body.Check, in.Body.Answer) })
}

func (s *Server) takeBack(ctx context.Context, in *struct {
	OfDevice
	OnRevision
	OfID
}) (*struct{}, error) {
	return s.says(ctx, in.Handle, in.OnRevision, func(said outlook.Said) error { return s.Outlook.TakeBack(ctx, said, in.ID) })
}

func (s *Server) remedied(ctx context.Context, in *struct {
	OfDevice
	OnRevision
	Body struct {
		Cause string `json:"cause" maxLength:"60"`
	}
}) (*struct{}, error) {
	return s.says(ctx, in.Handle, in.OnRevision, func(said outlook.Said) error { return s.Outlook.Remedied(ctx, said, in.Body.Cause) })
}

func (s *Server) learned(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Learned]], error) {
	all, err := s.Store.Learned(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return learnedList.of(in.Select, each(all, func(l store.Learned) client.Learned { return client.Learned(l) }))
}

// forgotten tells how many cases were forgotten.
type forgotten struct {
	Forgotten int64 `json:"forgotten" doc:"causes whose cases were forgotten"`
}

func (s *Server) unlearn(ctx context.Context, in *struct {
	Family string `query:"family" doc:"of this family only"`
	All    bool   `query:"all"`
}) (*out[forgotten], error) {
	n, err := s.Outlook.Unlearn(ctx, in.Family, in.All)
	if err != nil {
		return nil, problem(err)
	}
	return &out[forgotten]{forgotten{n}}, nil
}

func factsOf(st outlook.Standing, facts []fact.Fact) []client.Fact {
	out := []client.Fact{}
	for _, f := range facts {
		out = append(out, factOf(st, f))
	}
	return out
}

func factOf(st outlook.Standing, f fact.Fact) client.Fact {
	text := cmp.Or(f.Value.String(), "none")
	if spec, ok := st.View.Registry().Lookup(f.Key); ok {
		text = spec.Label() + ": " + text
	}
	return client.Fact{ID: string(f.Key) + "/" + string(f.Source), Key: string(f.Key), Value: f.Value.Any(), Text: text, Source: string(f.Source), At: f.At.UTC(), By: f.By, Good: st.View.Good(f, st.Now)}
}

func whyOf(st outlook.Standing) client.Why {
	w := client.Why{Device: st.Device.Handle, App: st.Question.Subject.Attributes.App, Gate: st.Why.Gate, State: string(st.Why.State), Text: st.Why.Text, Remedy: st.Why.Remedy,
		Evidence: factsOf(st, st.Why.Evidence), Denied: []client.Denied{}, Causes: []client.Cause{}, Answers: []client.Given{}}
	if st.Why.Gate == "" {
		w.State = "open"
	}
	for _, c := range st.Why.Contradictions {
		w.Denied = append(w.Denied, client.Denied{Told: factOf(st, c.Told), Observed: factOf(st, c.Observed)})
	}
	for _, c := range st.Why.Causes {
		w.Causes = append(w.Causes, client.Cause{ID: c.ID, Probability: c.Probability, Text: c.Text, Remedy: c.Remedy.Text, Who: string(c.Remedy.Who),
			Seconds: c.Remedy.Seconds, Sight: c.Remedy.Sight, Done: c.Done, Because: factsOf(st, c.Because)})
	}
	for _, g := range st.Why.Answers {
		w.Answers = append(w.Answers, client.Given{Check: g.Check.ID, Text: st.Fill(g.Check.Text), Answer: g.Answer.ID, Said: st.Fill(g.Answer.Text),
			Seen: g.Seen, Fact: factOf(st, g.Fact)})
	}
	w.Next = moveOf(st, cause.Next(st.Question, st.Why))
	return w
}

func moveOf(st outlook.Standing, m *cause.Move) *client.Move {
	if m == nil {
		return nil
	}
	out := &client.Move{Kind: string(m.Kind), ID: m.ID, Who: string(m.Who), Seconds: m.Seconds, Text: m.Text, Note: m.Note, Sight: m.Sight, Action: m.Action, Answers: []client.Choice{}}
	for _, a := range m.Answers {
		out.Answers = append(out.Answers, client.Choice{ID: a.ID, Text: a.Text})
	}
	if m.Step != nil {
		step := stepOf(*m.Step, st)
		out.Step = &step
	}
	return out
}
