// Package statement reads and writes what an authority has signed: grants, debug tokens, and
// lists of those that were withdrawn. The format is described in docs/formats/statement.md.
package statement

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/authority"
)

// Kind is what a statement is.
type Kind string

// The kinds, by the type in their header (RFC 8725, section 3.11).
const (
	Grant      Kind = "grant+jwt"
	DebugToken Kind = "debug-token+jwt"
	StatusList Kind = "status-list+jwt"
)

// Any stands for every app, or every device.
const Any = "*"

// Statement is a grant or a debug token that was checked.
type Statement struct {
	Kind   Kind   `json:"-"`
	Text   string `json:"-"` // as it was signed
	Issuer string `json:"iss"`
	// Subject is whose apps: CREW/DEVELOPER.
	Subject      string       `json:"sub"`
	Confirmation Confirmation `json:"cnf"`
	App          string       `json:"app"`      // CREW/APP, or Any
	Devices      []string     `json:"devices"`  // serials, or Any alone
	Debug        bool         `json:"debug"`    // the apps may be debugged
	Features     []string     `json:"features"` // sorted
	Made         int64        `json:"iat"`      // seconds since 1970, as the others
	Begins       int64        `json:"nbf"`
	Ends         int64        `json:"exp"`
	ID           string       `json:"jti"`
}

// Confirmation names the developer's key (RFC 7800; RFC 9449, section 6.1).
type Confirmation struct {
	Thumbprint string `json:"jkt"`
}

// Status is a list of what was withdrawn.
type Status struct {
	Text      string   `json:"-"`
	Issuer    string   `json:"iss"`
	Made      int64    `json:"iat"`
	Ends      int64    `json:"exp"`
	Withdrawn []string `json:"withdrawn"` // sorted
}

// Crew is the crew of the subject.
func (s *Statement) Crew() string {
	crew, _, _ := strings.Cut(s.Subject, "/")
	return crew
}

// Developer is the developer of the subject.
func (s *Statement) Developer() string {
	_, name, _ := strings.Cut(s.Subject, "/")
	return name
}

// End is when it ends.
func (s *Statement) End() time.Time { return time.Unix(s.Ends, 0).UTC() }

// Begin is when it begins.
func (s *Statement) Begin() time.Time { return time.Unix(s.Begins, 0).UTC() }

// Names reports whether it names a device.
func (s *Statement) Names(serial string) bool {
	return len(s.Devices) == 1 && s.Devices[0] == Any || slices.Contains(s.Devices, serial)
}

// Limits of what a statement can say.
const (
	maxDevices  = 1000
	maxFeatures = 50
	maxTime     = 253402300799 // the end of the year 9999
	maxIssuer   = 400          // bytes
)

var (
	idShape      = regexp.MustCompile(`^[A-Za-z0-9_-]{16,64}$`)
	thumbprint   = regexp.MustCompile(`^[A-Za-z0-9_-]{43}$`)
	featureShape = regexp.MustCompile(`^[a-z][a-z0-9 -]{0,59}$`)
	nameShape    = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)
)

// check reports what a statement says that cannot be.
func (s *Statement) check() error {
	crew, name, ok := strings.Cut(s.Subject, "/")
	switch {
	case s.Issuer == "" || len(s.Issuer) > maxIssuer:
		return errors.New("iss names no authority")
	case !ok || !nameShape.MatchString(crew) || !nameShape.MatchString(name):
		return fmt.Errorf("sub %.90q is not CREW/DEVELOPER", s.Subject)
	case !thumbprint.MatchString(s.Confirmation.Thumbprint):
		return errors.New("cnf names no key")
	case s.App != Any && (authority.CheckAppID(s.App) != nil || !strings.HasPrefix(s.App, crew+"/")):
		return fmt.Errorf("app %.90q is not one of the crew %s", s.App, crew)
	case !idShape.MatchString(s.ID):
		return errors.New("jti is not 16 to 64 letters, digits, - and _")
	case s.Begins >= s.Ends:
		return errors.New("it ends before it begins")
	case !possible(s.Made, s.Begins, s.Ends):
		return errors.New("a time is not one of the years 1970 to 9999")
	case s.Features == nil || len(s.Features) > maxFeatures || !slices.IsSorted(s.Features):
		return errors.New("features is not a sorted list")
	}
	if err := each("features", s.Features, func(f string) bool { return featureShape.MatchString(f) }); err != nil {
		return err
	}
	if len(s.Devices) == 0 || len(s.Devices) > maxDevices {
		return fmt.Errorf("devices names %d devices; 1 to %d is possible", len(s.Devices), maxDevices)
	}
	if len(s.Devices) == 1 && s.Devices[0] == Any {
		return nil
	}
	return each("devices", s.Devices, func(d string) bool { return authority.CheckSerial(d) == nil })
}

func (s *Status) check() error {
	switch {
	case s.Issuer == "" || len(s.Issuer) > maxIssuer:
		return errors.New("iss names no authority")
	case !possible(s.Made, s.Ends) || s.Made >= s.Ends:
		return errors.New("iat and exp are not a time and a later one")
	case s.Withdrawn == nil || !slices.IsSorted(s.Withdrawn):
		return errors.New("withdrawn is not a sorted list")
	}
	return each("withdrawn", s.Withdrawn, func(id string) bool { return idShape.MatchString(id) })
}

func possible(times ...int64) bool {
	return !slices.ContainsFunc(times, func(t int64) bool { return t < 0 || t > maxTime })
}

// each checks the texts of a list, which occur once each.
func each(name string, list []string, ok func(string) bool) error {
	seen := map[string]bool{}
	for _, v := range list {
		if seen[v] || !ok(v) {
			return fmt.Errorf("%s holds %.80q, which cannot be, or is there twice", name, v)
		}
		seen[v] = true
	}
	return nil
}
