package service

import (
	"context"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/internal/endings"
)

// endingSources are all who know of something that ends.
func (in *Insides) endingSources() []endings.Source {
	return []endings.Source{in.Belong.Terms, in.Statements.Terms, in.Supply.Terms, in.admissionTerms, in.accessTerms, in.Lend.Terms}
}

const (
	admissionNotice = 72 * time.Hour
	accessNotice    = 7 * 24 * time.Hour
	pageNotice      = 10 * time.Minute // of a person who has no bench
)

// admissionTerms are the admissions of this bench on devices.
func (in *Insides) admissionTerms(context.Context) ([]ending.Term, error) {
	var out []ending.Term
	now := in.Clock.Now()
	for _, k := range in.Rack.All() {
		d, view := k.Device(), k.Facts().View()
		state, ok := view.Get(fact.AdmitState, now)
		if !ok || state.Value.Text() != string(device.Admitted) || d.Retirement != nil {
			continue
		}
		if _, lent := view.Get(fact.LoanSeen, now); lent { // it ends with the loan
			continue
		}
		t := ending.Term{ID: "admission-" + d.ID, Kind: ending.Admission, Name: "this bench", Holder: d.Handle, Devices: []string{d.Handle}, Mine: true, Notice: admissionNotice}
		if f, ok := view.Get(fact.AdmitEnds, now); ok {
			t.Ends, t.Stops = f.Value.Time().UTC(), d.Handle+" no longer admits this bench."
			t.ID += "-" + t.Ends.Format("20060102")
			t.Step, t.Command = "Let it ask again, and answer on its screen.", "earlybench prep "+d.Handle
		}
		out = append(out, t)
	}
	return out, nil
}

// accessTerms are the keys of programs that use this bench.
func (in *Insides) accessTerms(ctx context.Context) ([]ending.Term, error) {
	all, err := in.Store.Accesses(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the access keys: %w", err)
	}
	var out []ending.Term
	for _, a := range all {
		t := ending.Term{ID: "access-" + a.ID, Kind: ending.Access, Name: a.Name, Holder: "this bench", Begins: a.Created.UTC(), Ends: a.Ends.UTC(), Mine: true, Notice: accessNotice,
			Stops: "Programs that use the access key " + a.Name + " are refused.", Step: "Make a new key, and give it to these programs.", Command: "earlybench access add NAME"}
		if a.Page != nil {
			t.Notice, t.Stops = pageNotice, "The page of "+a.Name+", who has no bench, ends."
			t.Step, t.Command = "Open a new one if it is still needed.", "earlybench console --person "+a.Name
		}
		out = append(out, t)
	}
	return out, nil
}
