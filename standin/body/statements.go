package body

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/statement"
)

// statementCall answers the methods about grants, debug tokens and status lists.
func (b *Body) statementCall(method string, params json.RawMessage) (any, error) {
	if b.cfg.Spec.Covers == nil {
		return nil, rpc.Errorf(rpc.CodeMethodNotFound, "this device takes no grants and debug tokens")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if method == link.MethodStatements {
		return append([]string{}, b.st.Statements...), nil
	}
	ref, err := rpc.Decode[link.StatementRef](params)
	if err != nil {
		return nil, err
	}
	switch method {
	case link.MethodDrop:
		b.st.Statements = slices.DeleteFunc(b.st.Statements, func(text string) bool {
			s, err := b.cfg.Authority.Read(text)
			return err != nil || s.ID == ref.ID
		})
		b.touchState()
		return nil, nil
	case link.MethodStatus:
		return nil, b.takeStatus(ref.Text)
	}
	return nil, b.takeStatement(ref.Text)
}

// takeStatement puts a statement on the device, in place of the oldest for which there is no
// room. The lock is held.
func (b *Body) takeStatement(text string) error {
	if b.resting {
		return errResting
	}
	s, err := b.cfg.Authority.Read(text)
	if err != nil {
		return rpc.Errorf(rpc.CodeUnsigned, "%s", err)
	}
	const day = "2 January 2006 15:04 MST"
	switch now := b.now(); {
	case !s.Names(b.serial()):
		return rpc.Errorf(rpc.CodeUncovered, "it does not name this device, whose serial is %s", b.serial())
	case !now.Before(s.End()):
		return rpc.Errorf(rpc.CodeUncovered, "it ended on %s, and the clock of this device says %s", s.End().Format(day), now.UTC().Format(day))
	case now.Before(s.Begin()):
		return rpc.Errorf(rpc.CodeUncovered, "it begins on %s, and the clock of this device says %s", s.Begin().Format(day), now.UTC().Format(day))
	case slices.Contains(b.withdrawn(), s.ID):
		return rpc.Errorf(rpc.CodeUncovered, "it was withdrawn by %s", s.Issuer)
	}
	most := b.cfg.Spec.Covers.Most
	if most == 0 {
		most = 8
	}
	kept := slices.DeleteFunc(b.st.Statements, func(t string) bool { return t == text })
	for len(kept) >= most {
		kept = kept[1:]
	}
	b.st.Statements = append(kept, text)
	b.touchState()
	return nil
}

// takeStatus keeps a status list, if it is newer than the one that is here. The lock is held.
func (b *Body) takeStatus(text string) error {
	list, err := b.cfg.Authority.ReadStatus(text)
	if err != nil {
		return rpc.Errorf(rpc.CodeUnsigned, "%s", err)
	}
	if old, err := b.cfg.Authority.ReadStatus(b.st.Status); err == nil && old.Made >= list.Made {
		return nil
	}
	b.st.Status = text
	b.touchState()
	return nil
}

// withdrawn are the ids of what was withdrawn, as far as this device has heard. The lock is held.
func (b *Body) withdrawn() []string {
	list, err := b.cfg.Authority.ReadStatus(b.st.Status)
	if err != nil {
		return nil
	}
	return list.Withdrawn
}

// held are the statements on the device of a kind. The lock is held.
func (b *Body) held(kind statement.Kind) (out []*statement.Statement) {
	for _, text := range b.st.Statements {
		if s, err := b.cfg.Authority.Read(text); err == nil && s.Kind == kind {
			out = append(out, s)
		}
	}
	return out
}

// covering is the statement under which an app may be started here; an error if none covers it,
// and nil without an error where none is needed. The lock is held.
func (b *Body) covering(a *app) (*statement.Statement, error) {
	spec := b.cfg.Spec.Covers
	if spec == nil {
		return nil, nil
	}
	kind := spec.Unsigned
	if a.Signed {
		kind = spec.Signed
	}
	if kind == "" {
		return nil, nil
	}
	s, objection := statement.Best(b.held(statement.Kind(kind+"+jwt")), statement.Start{App: a.ID, Developer: a.By, Signed: a.Signed, Features: a.Features, Debug: a.Debug,
		Serial: b.serial(), At: b.now(), Withdrawn: b.withdrawn()})
	switch {
	case objection != nil:
		return s, objection
	case s == nil:
		return nil, fmt.Errorf("there is no %s on this device", statement.Kind(kind+"+jwt").Noun())
	}
	return s, nil
}

// stopUncovered stops the start of an app that no statement covers. The lock is held.
func (b *Body) stopUncovered(a *app) error {
	_, err := b.covering(a)
	if err == nil {
		return nil
	}
	b.line(a.ID, "error", "stopped at its start: "+err.Error())
	b.rouse()
	b.say(strings.ReplaceAll(b.cfg.Spec.Covers.Text, "{app}", a.Name))
	return rpc.Errorf(rpc.CodeUncovered, "%s", err)
}

// ledgerOf is whose an app is, and until when it may run here. The lock is held.
func (b *Body) ledgerOf(a *app) (whose, until string) {
	crew, _, _ := strings.Cut(a.ID, "/")
	s, err := b.covering(a)
	switch {
	case err != nil && s == nil:
		return crew, "no token"
	case err != nil:
		return s.Subject, "not any more"
	case s == nil:
		return crew, "no end"
	}
	return s.Subject, "to " + s.End().Local().Format("2 Jan 2006")
}
