package outlook

import (
	"encoding/binary"
	"hash/maphash"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/ready"
)

// trace is a hash of everything that people see of a device on the rack and in its plan.
// Two that are equal mean that nothing visible has changed. It is computed for every fact
// that is recorded.
func (o *Outlook) trace(s *Standing) uint64 {
	var t tracer
	t.SetSeed(o.seed)
	t.readiness(s)
	t.text(s.Why.Text, s.Working, s.Reserved, s.Device.Handle, s.Device.Key, s.Device.HandsURL)
	t.flag(s.Device.Retirement != nil)
	for _, w := range s.Ways {
		t.text(string(w.Kind), w.Place.Host, w.Place.Port)
		t.flag(w.Linked)
	}
	t.text("apps")
	for _, a := range s.Apps {
		t.text(a.ID, a.Digest)
		t.flag(a.Running)
	}
	for _, key := range shownFacts {
		if f, ok := s.View.Get(key, s.Now); ok {
			t.text(string(key), f.Value.String())
		}
	}
	return t.Sum64()
}

// shownFacts are part of texts that people see, or decide gates of apps.
var shownFacts = []fact.Key{fact.Statements, fact.OSRelease, fact.Language, fact.LinkTrouble, fact.USBHolder, fact.AdmitNumber, fact.AcceptChallenge}

// tracer takes up what a trace is of.
type tracer struct{ maphash.Hash }

func (t *tracer) readiness(s *Standing) {
	r := &s.Readiness
	t.text(r.First, string(r.Summary), r.Path.Name)
	for _, e := range r.Ending {
		t.text(e.Gate)
		t.number(e.At.UnixNano())
		t.flag(e.Soon)
	}
	for _, gates := range [][]ready.Gate{r.Gates, r.Host} {
		for _, g := range gates {
			t.text(string(g.State))
			t.text(g.Waits...)
		}
	}
	t.text("steps")
	for _, st := range r.Steps {
		t.text(st.ID)
		t.flag(st.Done, st.Told, st.Denied != nil)
	}
	if n := r.Next; n != nil {
		t.text("next", n.ID, s.Fill(n.Text), s.Fill(n.Note), s.Fill(n.Sight))
	}
}

// text adds texts, each with its end, so that no two sequences of them are alike.
func (t *tracer) text(all ...string) {
	for _, s := range all {
		t.number(int64(len(s)))
		t.WriteString(s)
	}
}

func (t *tracer) flag(all ...bool) {
	for _, f := range all {
		b := byte(0)
		if f {
			b = 1
		}
		t.WriteByte(b)
	}
}

func (t *tracer) number(n int64) {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], uint64(n))
	t.Write(b[:])
}
