package authority

import (
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"regexp"

	"earlybench.invalid/earlybench/core/strict"
)

// List is how several things are answered.
type List[T any] struct {
	Items []T `json:"items"`
}

// answer is a type that an authority answers with, which knows what it must say.
type answer interface{ check() error }

// Read reads an answer into v, a pointer to one of the types of this package. An answer that lacks
// something, or has impossible values, is refused as a whole.
func Read(raw []byte, v any) error {
	if err := strict.NewerJSON(raw, v); err != nil {
		return fmt.Errorf("the answer is not JSON of the expected form: %w", err)
	}
	if a, ok := v.(answer); ok {
		return a.check()
	}
	return nil
}

const (
	maxStatement = 64 << 10 // bytes

	mostItems = 20_000
	mostText  = 400 // bytes of a text for people
	mostDays  = 3660
)

var (
	crewNumber = regexp.MustCompile(`^[0-9]{4} [0-9]{4}$`)
	issuedID   = regexp.MustCompile(`^[A-Za-z0-9_-]{16,64}$`)
	userCode   = regexp.MustCompile(`^[A-Za-z0-9-]{6,40}$`)
)

func (l *List[T]) check() error {
	if l.Items == nil || len(l.Items) > mostItems {
		return fmt.Errorf("a list must have items, %d at most", mostItems)
	}
	for i := range l.Items {
		if a, ok := any(&l.Items[i]).(answer); ok {
			if err := a.check(); err != nil {
				return fmt.Errorf("item %d: %w", i+1, err)
			}
		}
	}
	return nil
}

func (m *Metadata) check() error {
	for _, e := range []string{m.Issuer, m.DeviceCodes, m.Tokens, m.Revocation} {
		if u, err := url.Parse(e); err != nil || u.Scheme != "https" || u.Host == "" {
			return fmt.Errorf("endpoint %.100q is not an https address", e)
		}
	}
	return nil
}

func (d *DeviceCode) check() error {
	page, err := url.Parse(d.Page)
	switch {
	case err != nil || page.Scheme != "https" || page.Host == "":
		return fmt.Errorf("the page %.100q is not an https address", d.Page)
	case len(d.DeviceCode) < 20 || len(d.DeviceCode) > 1000 || !userCode.MatchString(d.UserCode):
		return errors.New("the codes of the sign-in are missing or too short")
	case d.ExpiresIn <= 0 || d.ExpiresIn > 3600 || d.Interval < 0 || d.Interval > 60:
		return errors.New("a code must last between a second and an hour, and be polled at least once a minute")
	}
	return nil
}

func (t *Token) check() error {
	if len(t.AccessToken) < 20 || len(t.AccessToken) > 4000 || t.Type != "DPoP" || t.ExpiresIn <= 0 || t.ExpiresIn > 86400 {
		return errors.New("an access token must have 20 to 4000 characters, be of the type DPoP and last a day at most")
	}
	return nil
}

func (a *About) check() error {
	if a.Name == "" || len(a.Name) > mostText || len(a.Standings) == 0 || len(a.Standings) > 20 {
		return errors.New("an authority must have a name and 1 to 20 standings")
	}
	for i := range a.Standings {
		if err := a.Standings[i].check(); err != nil {
			return err
		}
	}
	if len(a.Keys) > 20 {
		return errors.New("an authority may have 20 signing keys at most")
	}
	for _, k := range a.Keys {
		if err := k.Check(); err != nil {
			return err
		}
	}
	return nil
}

func (i *Issued) check() error {
	if !issuedID.MatchString(i.ID) || i.Kind != KindGrant && i.Kind != KindToken || i.Text == "" || len(i.Text) > maxStatement {
		return fmt.Errorf("the statement %.80q has no id, kind or text", i.ID)
	}
	return nil
}

func (s *StatusList) check() error {
	if s.Text == "" || len(s.Text) > maxStatement {
		return errors.New("the status list is empty, or longer than 64 KiB")
	}
	return nil
}

func (s *Standing) check() error {
	inRange := func(days int) bool { return days >= 1 && days <= mostDays }
	if s.Name == "" || len(s.Name)+len(s.Costs)+len(s.Alone) > 3*mostText || s.Places < 0 || !inRange(s.GrantDays) || !inRange(s.CertificateDays) || s.Days < 0 || s.Days > mostDays || len(s.Lacks) > 50 {
		return fmt.Errorf("the standing %.40q has impossible values", s.Name)
	}
	return nil
}

func (a *Account) check() error {
	if err := CheckCrew(a.ID); err != nil && !errors.Is(err, ErrPlaceholder) {
		return fmt.Errorf("the account: %w", err)
	}
	if len(a.Crews) == 0 || len(a.Crews) > 100 || len(a.Name) > mostText {
		return errors.New("an account must belong to 1 to 100 crews")
	}
	for i := range a.Crews {
		if err := a.Crews[i].check(); err != nil {
			return err
		}
	}
	return nil
}

func (c *Crew) check() error {
	if err := CheckCrew(c.Name); err != nil && !errors.Is(err, ErrPlaceholder) {
		return err
	}
	if !crewNumber.MatchString(c.Number) || c.Used < 0 {
		return fmt.Errorf("the number of crew %s does not have eight digits, or its register is impossible", c.Name)
	}
	return c.Standing.check()
}

func (e *Entry) check() error {
	if err := CheckSerial(e.Serial); err != nil {
		return err
	}
	if e.Since.IsZero() || e.Seen.IsZero() || len(e.Model) > 64 {
		return fmt.Errorf("the entry of %s has no date", e.Serial)
	}
	return nil
}

func (a *App) check() error {
	if err := CheckAppID(a.ID); err != nil {
		return err
	}
	if a.Since.IsZero() {
		return fmt.Errorf("the app id %s has no date", a.ID)
	}
	return nil
}

func (e *Enrolment) check() error {
	if e.User == "" || len(e.User) > mostText || len(e.Password) < 20 || len(e.Password) > 1000 || e.Ends.IsZero() {
		return errors.New("an enrolment must have a user, a password of 20 characters or more, and an end")
	}
	return nil
}

func (c *Certificate) check() error {
	if _, err := hex.DecodeString(evenly(c.Serial)); err != nil || c.Serial == "" || len(c.Serial) > 64 || len(c.Subject) > mostText || c.Ends.IsZero() {
		return fmt.Errorf("certificate %.80q has no serial number in hexadecimal, or no end", c.Serial)
	}
	return nil
}

// evenly is a hexadecimal number with an even number of digits.
func evenly(s string) string {
	if len(s)%2 == 1 {
		return "0" + s
	}
	return s
}
