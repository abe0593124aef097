// Package authority is what a bench and an authority say to each other (docs/formats/authority.md):
// accounts, crews and their standing, the register of devices, app ids. Certificates are
// enrolled by EST (RFC 7030), people sign in by the device flow (RFC 8628), and every request
// is bound to a key of the caller's (DPoP, RFC 9449), so that nothing that a bench keeps or
// sends can be used by somebody else.
package authority

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/developer"
)

// Paths, relative to the address of an authority.
const (
	MetadataPath = ".well-known/oauth-authorization-server" // RFC 8414, section 3
	AboutPath    = "v1/about"
	AccountPath  = "v1/account"
	StatusPath   = "v1/status-list"
	EnterPath    = "v1/enter" // for devices that enter themselves
	ESTPath      = ".well-known/est/"
)

// Grant types of the token endpoint.
const (
	DeviceGrant = "urn:ietf:params:oauth:grant-type:device_code" // RFC 8628, section 3.4
	KeyGrant    = "urn:ietf:params:oauth:grant-type:jwt-bearer"  // RFC 7523, section 2.1
)

// ClientID is the id of benches at the device authorization endpoint.
const ClientID = "early-bench"

// MaxAnswer is the largest answer that is read, in bytes.
const MaxAnswer = 4 << 20

// Metadata says where the endpoints are (RFC 8414, section 2; the members that are used).
type Metadata struct {
	Issuer        string   `json:"issuer"`
	DeviceCodes   string   `json:"device_authorization_endpoint"`
	Tokens        string   `json:"token_endpoint"`
	Revocation    string   `json:"revocation_endpoint"`
	ProofAlgs     []string `json:"dpop_signing_alg_values_supported"`
	GrantsOffered []string `json:"grant_types_supported"`
}

// DeviceCode answers a request to sign in (RFC 8628, section 3.2).
type DeviceCode struct {
	DeviceCode string `json:"device_code"`
	UserCode   string `json:"user_code"`
	Page       string `json:"verification_uri"`
	WholePage  string `json:"verification_uri_complete"`
	ExpiresIn  int    `json:"expires_in"`         // seconds
	Interval   int    `json:"interval,omitempty"` // seconds; 0 stands for 5
}

// Token answers a token request (RFC 6749, section 5.1). There is no refresh token: the key that
// is bound to the sign-in gets the next one (KeyGrant).
type Token struct {
	AccessToken string `json:"access_token"`
	Type        string `json:"token_type"` // DPoP
	ExpiresIn   int    `json:"expires_in"` // seconds
}

// OAuthError is how the OAuth endpoints refuse (RFC 6749, section 5.2).
type OAuthError struct {
	Code        string `json:"error"`
	Description string `json:"error_description,omitempty"`
}

// Problem is how all other requests are refused (RFC 9457). Type is one of the constants.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Detail string `json:"detail,omitempty"`
	// Suggestions are app ids that are free.
	Suggestions []string `json:"suggestions,omitempty"`
}

// Types of problems.
const (
	ProblemFull        = "register-full"
	ProblemTaken       = "app-id-taken"
	ProblemPlaceholder = "app-id-placeholder"
	ProblemUnlisted    = "device-not-registered" // a statement may name registered devices only
	ProblemStanding    = "standing-too-low"
	ProblemKey         = "key-unknown" // no certificate of the crew is for this key
	ProblemOther       = "about:blank"
)

// About is the authority, for everybody.
type About struct {
	Name      string     `json:"name"`
	Standings []Standing `json:"standings"`
	// Keys are those by which its statements are signed (docs/formats/statement.md).
	Keys []developer.Public `json:"keys"`
}

// Standing is what an account's crew may do.
type Standing struct {
	Name            string   `json:"name"`
	Places          int      `json:"places"`           // in the register
	GrantDays       int      `json:"grant_days"`       // how long a grant lasts
	CertificateDays int      `json:"certificate_days"` // how long a certificate lasts
	Lacks           []string `json:"lacks"`            // app features that are not to be had, in words
	Costs           string   `json:"costs"`            // in words
	Alone           string   `json:"alone"`            // what happens by itself at an end, in words
	Days            int      `json:"days"`             // how long it lasts before it has to be extended; 0 for no end
}

// Account is who has signed in.
type Account struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Crews []Crew `json:"crews"`
}

// Crew is the group to which devices, identities and apps belong.
type Crew struct {
	Name     string   `json:"name"`
	Number   string   `json:"number"` // typed into devices that enter themselves
	Standing Standing `json:"standing"`
	Used     int      `json:"used"` // places of the register
	// StandingEnds is when the standing ends unless it is extended; zero for no end.
	StandingEnds time.Time `json:"standing_ends,omitzero"`
}

// Entry is a device in the register.
type Entry struct {
	Serial string    `json:"serial"`
	Model  string    `json:"model"`
	Since  time.Time `json:"since"`
	Seen   time.Time `json:"seen"` // when anything was last asked for it
	Self   bool      `json:"self"` // it entered itself by the crew number
}

// Place is a request to register a device.
type Place struct {
	Model string `json:"model"`
}

// Entrance is how a device enters itself.
type Entrance struct {
	Number string `json:"number"` // of the crew
	Serial string `json:"serial"`
	Model  string `json:"model"`
}

// App is an app id of a crew.
type App struct {
	ID    string    `json:"id"`
	Since time.Time `json:"since"`
}

// Enrolment is a name and a password with which one certificate can be enrolled (RFC 7030,
// section 3.2.3).
type Enrolment struct {
	User     string    `json:"user"`
	Password string    `json:"password"`
	Ends     time.Time `json:"ends"`
}

// Certificate is a certificate of a crew.
type Certificate struct {
	Serial  string    `json:"serial"` // hexadecimal
	Subject string    `json:"subject"`
	Ends    time.Time `json:"ends"`
	Revoked time.Time `json:"revoked,omitzero"`
}

// Kinds of statements that are asked for.
const (
	KindGrant = "grant"
	KindToken = "debug-token"
)

// Wanted asks for a grant or a debug token. Its id is chosen by who asks, so that a request that is
// repeated gets the same statement.
type Wanted struct {
	Kind     string   `json:"kind"`
	Key      string   `json:"key"`     // thumbprint of the developer's key
	App      string   `json:"app"`     // CREW/APP, or *
	Devices  []string `json:"devices"` // serials, or * alone
	Debug    bool     `json:"debug"`
	Features []string `json:"features"`
}

// Issued is a grant or a debug token that an authority has signed.
type Issued struct {
	ID        string    `json:"id"`
	Kind      string    `json:"kind"`
	Text      string    `json:"text"` // docs/formats/statement.md
	Withdrawn time.Time `json:"withdrawn,omitzero"`
}

// StatusList is the signed list of what was withdrawn.
type StatusList struct {
	Text string `json:"text"`
}

var (
	crewShape = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)
	appShape  = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	serial    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{2,63}$`)
)

// placeholders are words that stand in templates and tell nothing.
var placeholders = []string{"app", "example", "myapp", "my-app", "test", "sample", "demo", "template", "changeme", "todo", "placeholder", "yourname", "your-app", "hello-world"}

// ErrPlaceholder is the error for an app id that came from a template.
var ErrPlaceholder = errors.New("it is a placeholder: give the app its own name")

// CheckAppID reports whether id is an app id: crew/app.
func CheckAppID(id string) error {
	crew, app, ok := strings.Cut(id, "/")
	if !ok || !crewShape.MatchString(crew) || !appShape.MatchString(app) {
		return fmt.Errorf("app id %.100q is invalid: write CREW/APP, each of lower-case letters, digits and hyphens", id)
	}
	if slices.Contains(placeholders, app) || slices.Contains(placeholders, crew) {
		return fmt.Errorf("app id %q is refused: %w", id, ErrPlaceholder)
	}
	return nil
}

// Suggest makes app ids that are like name and not taken.
func Suggest(crew, name string, taken func(id string) bool) (out []string) {
	base := strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(name), "-"), "-0123456789")
	if base == "" || slices.Contains(placeholders, base) {
		base = crew
	}
	for _, more := range []string{"", "-field", "-team", "-2", "-3", "-4"} {
		id := crew + "/" + base + more
		if CheckAppID(id) == nil && !taken(id) && len(out) < 3 {
			out = append(out, id)
		}
	}
	return out
}

// CheckSerial reports whether a text can be the serial of a device.
func CheckSerial(s string) error {
	if !serial.MatchString(s) {
		return fmt.Errorf("serial %.80q is invalid: 3 to 64 letters, digits, spaces, dots and hyphens", s)
	}
	return nil
}

// CheckCrew reports whether a text can be the name of a crew.
func CheckCrew(s string) error {
	if !crewShape.MatchString(s) {
		return fmt.Errorf("crew %.60q is invalid: start with a lower-case letter, then use letters, digits or hyphens, 40 in all", s)
	}
	if slices.Contains(placeholders, s) {
		return fmt.Errorf("crew %q is refused: %w", s, ErrPlaceholder)
	}
	return nil
}
