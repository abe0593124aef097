package outlook

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/facts"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/rack"
	"earlybench.invalid/earlybench/internal/store"
)

// Standing is what is known of a device at one moment, and what follows from it.
type Standing struct {
	Device    store.Device
	Sheet     *sheet.Sheet
	Readiness ready.Readiness
	Why       cause.Explanation
	Question  cause.Question // that Why answers
	View      fact.View
	Ways      []keeper.Reached // the one that is used first
	Apps      []device.App
	Working   string // titles of the work that has the device
	Reserved  string // by whom it is reserved, and for what; "" if it is not
	Revision  int64
	Words     map[string]string
	Offered   *driver.Candidate // to be installed; nil while a driver is bound
	Now       time.Time

	weighed cause.Weighed
}

// Look computes the standing of a device now, with its causes; with an app, for that too.
func (o *Outlook) Look(k *keeper.Keeper, app string) Standing {
	s := o.explained(k, app)
	o.begin(k, app, &s)
	return s
}

func (o *Outlook) explained(k *keeper.Keeper, app string) Standing {
	s := o.stand(k, app)
	s.Why = s.weighed.Explain()
	return s
}

// Glance is Look without causes: Why only says what is wrong.
func (o *Outlook) Glance(k *keeper.Keeper, app string) Standing {
	s := o.stand(k, app)
	s.Why = cause.Say(s.Question)
	o.begin(k, app, &s)
	return s
}

// begin notes how a device stands when somebody sees it for the first time, so that its revision
// counts what changes from then on.
func (o *Outlook) begin(k *keeper.Keeper, app string, s *Standing) {
	m := o.mind(k)
	if m.trace.Load() != 0 {
		return
	}
	if app != "" { // a trace is of the device alone
		o.Glance(k, "")
		return
	}
	m.trace.CompareAndSwap(0, o.trace(s))
}

// ErrNoApp is the error for an app that is not known here.
var ErrNoApp = problem.New(problem.NotFound, "no project, app file or device here has this app")

// CheckApp returns an error for an app that is not known here; "" stands for no app.
func (o *Outlook) CheckApp(app string) error {
	if app == "" || o.cfg.Book.Known(facts.Subject{Kind: facts.App, ID: app}) {
		return nil
	}
	for _, k := range o.cfg.Rack.All() {
		if slices.ContainsFunc(k.Apps(), func(a device.App) bool { return a.ID == app }) || o.cfg.Book.Known(facts.OnDevice(k.Device().ID, app)) {
			return nil
		}
	}
	return fmt.Errorf("app %.80q: %w", app, ErrNoApp)
}

// stand reads memory only.
func (o *Outlook) stand(k *keeper.Keeper, app string) Standing {
	revision := o.revision(k) // first: what is read after it is no older
	s := Standing{Device: k.Device(), View: k.Facts().View(), Ways: k.Ways(), Apps: k.Apps(), Working: k.Working(), Reserved: k.Reserved(), Revision: revision, Now: o.cfg.Clock.Now()}
	series := k.Series()
	release, _ := s.View.Get(fact.OSRelease, s.Now)
	s.Sheet = series.At(fact.Release(release.Value.Text()))
	subject := ready.Subject{Busy: s.Working != "", Attributes: sheet.Attributes{Family: series.Family, Maker: series.Maker, Code: series.Model.Code, App: app, Means: o.cfg.Means(k)}}
	if r := s.Device.Retirement; r != nil {
		if subject.Ends = ready.Retiring; !r.Ended.IsZero() {
			subject.Ends = ready.Retired
		}
	}
	if len(s.Ways) > 0 {
		subject.Attributes.Host = s.Ways[0].Place.Host
		subject.Attributes.Shared = o.cfg.Rack.Shared(subject.Attributes.Host)
	}
	if app != "" {
		s.View = s.View.With(o.appFacts(&s, app)...).With(o.cfg.Allowed(k, app)...)
		if f, ok := s.View.Get(fact.AppNeeds, s.Now); ok {
			subject.Attributes.Needs = fact.Release(f.Value.Text())
		}
		if f, ok := s.View.Get(fact.AppFamilies, s.Now); ok {
			subject.Attributes.MadeFor = f.Value
		}
		if f, ok := s.View.Get(fact.AppDeveloper, s.Now); ok {
			subject.Attributes.By = f.Value.Text()
		}
	}
	bound, _ := s.View.Get(fact.DriverBound, s.Now)
	if !bound.Value.IsTrue() {
		s.Offered = o.cfg.Offered(k)
	}
	s.Words = o.words(s)
	s.Words["app"] = app
	if f, ok := s.View.Get(fact.AppName, s.Now); ok {
		s.Words["app"] = f.Value.Text()
	}
	s.Readiness = ready.Evaluate(s.Sheet, subject, s.View, s.Now)
	s.Question = cause.Question{Sheet: s.Sheet, Subject: subject, Readiness: &s.Readiness, View: s.View, Now: s.Now, Words: s.Words,
		Learned: o.learned(series.Family, k.Host())}
	s.weighed = cause.Weigh(s.Question)
	s.remedy()
	return s
}

// remedies is the prefix of the ids of steps that are the remedy of a cause.
const remedies = "remedy-"

// remedy makes the remedy of a cause that is certain the next step, so that what is asked for
// is what helps.
func (s *Standing) remedy() {
	c, proved := s.weighed.Certain()
	if c == nil {
		return
	}
	r := &s.Readiness
	for i := range r.Steps {
		if r.Steps[i].ID == c.Remedy.Step {
			if !r.Steps[i].Done {
				r.Next = &r.Steps[i]
			}
			return
		}
	}
	step := &sheet.Step{Sure: proved, ID: remedies + c.ID, Gate: r.First, Who: c.Remedy.Who, Title: strings.TrimSuffix(c.Remedy.Text, "."), Text: strings.TrimSuffix(c.Remedy.Text, "."),
		Sight: c.Remedy.Sight, Action: c.Remedy.Action, Minutes: int(math.Ceil(c.Remedy.Seconds / 60))}
	r.Next = &ready.Step{Step: step}
}

// appFacts are what is known of an app, and of it on this device.
func (o *Outlook) appFacts(s *Standing, app string) []fact.Fact {
	out := o.cfg.Book.Of(facts.Subject{Kind: facts.App, ID: app}).View().All()
	out = append(out, o.cfg.Book.Of(facts.OnDevice(s.Device.ID, app)).View().All()...)
	for _, a := range s.Apps {
		if a.ID == app {
			out = append(out, fact.Fact{Key: fact.AppInstalled, Value: fact.Of(a.Digest), Source: fact.Device, At: s.Now})
		}
	}
	return out
}

// known are the words that stand for a fact in the texts of sheets, and what stands there
// where nothing is known; "" leaves the word as it is.
var known = []struct {
	word    string
	key     fact.Key
	without string
}{
	{"holder", fact.USBHolder, ""},
	{"denied", fact.USBDenied, "its node is closed"},
	{"shown", fact.LinkShown, "FINGERPRINT"},
	{"number", fact.AdmitNumber, "the number that is shown here"},
	{"battery", fact.Battery, "fewer than 10"},
	{"signer", fact.SignerOf, "the other bench"},
	{"kit", fact.KitName, "NAME"},
	{"amiss", fact.KitAmiss, "something that its build needs is missing"},
	{"copy", fact.KitOffer, "PATH"},
	{"crew", fact.CrewNumber, "the one on your account at the authority (page Keys, or earlybench account)"},
	{"companion", fact.CompanionOf, "its handset"},
	{"lender", fact.LoanOf, "the peer that lends it"},
	{"away", fact.LoanAway, "it does not say why"},
	{"there", fact.LoanStep, "see what it needs"},
	{"trouble", fact.LinkTrouble, ""},
	{"set", fact.DriverSet, "(none here fits)"},
}

// words are the sheet's in the device's language, and what only this device
// knows, for the sheet's texts.
func (o *Outlook) words(s Standing) map[string]string {
	language, _ := s.View.Get(fact.Language, s.Now)
	w := s.Sheet.Words(language.Value.Text())
	for _, k := range known {
		text := k.without
		if f, ok := s.View.Get(k.key, s.Now); ok && f.Value.String() != "" {
			text = f.Value.String()
		}
		if text != "" {
			w[k.word] = text
		}
	}
	w["handle"], w["bench"], w["fingerprint"] = s.Device.Handle, o.cfg.Bench(), o.cfg.Fingerprint
	if s.Device.ID == rack.UnseenID {
		w["handle"] = "the device"
	}
	if s.Offered != nil {
		w["set"] = s.Offered.Manifest.Name + " " + s.Offered.Manifest.Version
	}
	w["copy"] = kit.Argument(w["copy"])
	w["figures"] = figures(s)
	return w
}

// figures are what the owner types to accept the app's developer; in words where the
// device did not ask for any.
func figures(s Standing) string {
	challenge, asked := s.View.Get(fact.AcceptChallenge, s.Now)
	by, named := s.View.Get(fact.AppDeveloper, s.Now)
	if !asked || !named || challenge.Value.Text() == "" || s.Device.Key == "" {
		return "the figures that are shown here"
	}
	return developer.Figures(challenge.Value.Text(), s.Device.Key, by.Value.Text())
}

// Fill puts the device's words into a text of its sheet.
func (s Standing) Fill(text string) string { return sheet.Fill(text, s.Words) }

// Unnamed is the standing in words that do not name the device, so that several can
// share them: "Plug it in".
func (s Standing) Unnamed() Standing {
	s.Words = maps.Clone(s.Words)
	s.Words["handle"] = "it"
	s.Question.Words = s.Words
	s.Why = cause.Say(s.Question)
	return s
}

// Reached reports whether any way reaches the device.
func (s Standing) Reached() bool { return len(s.Ways) > 0 }

// Linked reports whether there is a session on which this bench is admitted.
func (s Standing) Linked() bool { return len(s.Ways) > 0 && s.Ways[0].Linked }

// Lacks returns what the way in use cannot do: a sentence for each of apps, files, log
// and screen that it lacks. It is empty while there is no session.
func Lacks(k *keeper.Keeper) map[string]string {
	out := map[string]string{}
	s := k.Session()
	if s == nil {
		return out
	}
	for what, ask := range map[string]func() error{
		"apps":   func() error { _, err := s.Apps(); return err },
		"files":  func() error { _, err := s.Files(); return err },
		"log":    func() error { _, err := s.Log(); return err },
		"screen": func() error { _, err := s.Screen(); return err },
	} {
		if err := ask(); errors.Is(err, errors.ErrUnsupported) {
			out[what] = problem.Of(err).Text
		}
	}
	return out
}

// Host is the host by which the device is reached; "" for none.
func (s Standing) Host() string {
	if len(s.Ways) == 0 {
		return ""
	}
	return s.Ways[0].Place.Host
}

// Blocked is the error of work that cannot start because the first gate is not open.
func (s Standing) Blocked() *problem.Problem { return s.blocked(s.Why) }

// BlockedAt is the error of work that is stopped by the named gate.
func (s Standing) BlockedAt(gate string) *problem.Problem {
	return s.blocked(cause.SayOf(s.Question, gate))
}

func (s Standing) blocked(why cause.Explanation) *problem.Problem {
	p := &problem.Problem{Kind: problem.Blocked, Gate: why.Gate, Text: unmarked(why.Text), Remedy: unmarked(why.Remedy)}
	if p.Text == "" {
		p.Text = fmt.Sprintf("There is no link to %s just now.", s.Device.Handle)
		p.Remedy = "Wait until it is back, then try again."
	}
	return p
}

// unmarked takes the marks for emphasis out of a sheet's text.
func unmarked(s string) string { return strings.NewReplacer("**", "", "*", "").Replace(s) }

// Session is the best session on which this bench is admitted, or the problem that
// stands in the way. A device that sleeps is woken, where that can be done from here.
func (o *Outlook) Session(ctx context.Context, k *keeper.Keeper) (device.Session, error) {
	s, err := k.Wake(ctx)
	if s == nil && err == nil {
		err = o.Look(k, "").Blocked()
	}
	return s, err
}

// Reachable is the problem that stands in the way of a session; nil where there is one, or where the
// device sleeps and is woken for it.
func (o *Outlook) Reachable(k *keeper.Keeper) error {
	if k.Sleeps() {
		return nil
	}
	_, err := o.SessionNow(k)
	return err
}

// SessionNow is Session without waking anybody.
func (o *Outlook) SessionNow(k *keeper.Keeper) (device.Session, error) {
	if s := k.Session(); s != nil {
		return s, nil
	}
	return nil, o.Look(k, "").Blocked()
}

// Await is Session for work that goes on: it waits for a session until ctx ends.
func (o *Outlook) Await(ctx context.Context, k *keeper.Keeper) (device.Session, error) {
	if s := k.Await(ctx); s != nil {
		return s, nil
	}
	if !errors.Is(context.Cause(ctx), context.DeadlineExceeded) {
		return nil, context.Cause(ctx)
	}
	return nil, o.Look(k, "").Blocked()
}
