// Package depot reads the index of a depot: a service from which driver sets and support packs
// are fetched. docs/formats/depot.md describes it.
package depot

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/strict"
)

// Where the index and its signature are, relative to the depot's address.
const (
	IndexPath     = "index.json"
	SignaturePath = "index.json.p7s"
)

// Limits of what is read.
const (
	MaxIndex   = 4 << 20 // bytes
	MaxOffers  = 10_000
	MaxLicence = 1 << 20  // bytes
	MaxFile    = 64 << 30 // bytes
)

// Index is what a depot offers.
type Index struct {
	Format int       `json:"format"` // 1
	Name   string    `json:"name"`   // of the depot
	Made   time.Time `json:"made"`   // when; an index that is older than the one before is refused
	Offers []Offer   `json:"offers"`
}

// The kinds of offers.
const (
	Driver  = "driver"
	Support = "support"
)

// Offer is one thing to fetch.
type Offer struct {
	Kind    string   `json:"kind"`
	Name    string   `json:"name"`
	Version string   `json:"version"`
	Maker   string   `json:"maker"`
	About   string   `json:"about,omitempty"`
	File    File     `json:"file"`
	Licence *Licence `json:"licence,omitempty"`
	For     *For     `json:"for,omitempty"` // of a support pack
	// Of a driver set.
	Fits     []driver.Match  `json:"fits,omitempty"`
	Systems  []driver.System `json:"systems,omitempty"`
	Unsigned bool            `json:"unsigned,omitempty"` // its file carries no signature of its own
}

// File is a file of a depot. Path is relative to the depot's address.
type File struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

// Licence is a text that a person has to accept before the file is fetched.
type Licence struct {
	Name string `json:"name"`
	File
}

// For names the OS release that a support pack is made for, exactly.
type For struct {
	Family  string   `json:"family"`
	Release string   `json:"release"`
	Models  []string `json:"models,omitempty"` // codes; none stands for all models of the family
}

// Consent identifies what a person accepts: this file under this licence. It is the SHA-256
// of both digests, in hexadecimal.
func (o *Offer) Consent() string {
	text := o.File.SHA256
	if o.Licence != nil {
		text += " " + o.Licence.SHA256
	}
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// ErrIndex is the error for an index that cannot be used.
var ErrIndex = errors.New("the depot's index is invalid")

// Open checks the signature of an index, reads it, and returns it with its publisher's
// certificate.
func Open(raw, signature []byte) (*Index, *x509.Certificate, error) {
	publisher, err := cms.Verify(raw, signature)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrIndex, err)
	}
	x, err := Parse(raw)
	return x, publisher, err
}

// Parse reads an index. Members that are not known here are ignored.
func Parse(raw []byte) (*Index, error) {
	if len(raw) > MaxIndex {
		return nil, fmt.Errorf("%w: it has %d bytes, over the limit of %d", ErrIndex, len(raw), MaxIndex)
	}
	var x Index
	if err := strict.NewerJSON(raw, &x); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrIndex, err)
	}
	switch {
	case x.Format != 1:
		return nil, fmt.Errorf("%w: format %d is not supported, only format 1 is", ErrIndex, x.Format)
	case x.Name == "" || len(x.Name) > 80:
		return nil, fmt.Errorf("%w: its name must have 1 to 80 bytes", ErrIndex)
	case x.Made.IsZero():
		return nil, fmt.Errorf("%w: it has no date", ErrIndex)
	case len(x.Offers) > MaxOffers:
		return nil, fmt.Errorf("%w: it has %d offers, over the limit of %d", ErrIndex, len(x.Offers), MaxOffers)
	}
	for i := range x.Offers {
		if err := x.Offers[i].check(); err != nil {
			return nil, fmt.Errorf("%w: offer %d: %w", ErrIndex, i+1, err)
		}
	}
	return &x, nil
}

var (
	nameShape   = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	digestShape = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

func (o *Offer) check() error {
	switch {
	case !nameShape.MatchString(o.Name):
		return fmt.Errorf("name %.80q: use lower-case letters, digits and hyphens", o.Name)
	case o.Version == "" || len(o.Version) > 64:
		return fmt.Errorf("%s: the version must have 1 to 64 bytes", o.Name)
	case len(o.Maker) > 80 || len(o.About) > 400:
		return fmt.Errorf("%s: the maker may have 80 bytes, about 400", o.Name)
	}
	if err := o.File.check(MaxFile); err != nil {
		return fmt.Errorf("%s: %w", o.Name, err)
	}
	if o.Licence != nil {
		if o.Licence.Name == "" || len(o.Licence.Name) > 120 {
			return fmt.Errorf("%s: the licence's name must have 1 to 120 bytes", o.Name)
		}
		if err := o.Licence.check(MaxLicence); err != nil {
			return fmt.Errorf("%s: licence: %w", o.Name, err)
		}
	}
	switch o.Kind {
	case Support:
		if o.For == nil || o.For.Family == "" || o.For.Release == "" {
			return fmt.Errorf("%s: a support pack must name a family and a release", o.Name)
		}
	case Driver:
		m := driver.Manifest{Format: 1, Kind: "driver", Name: o.Name, Version: o.Version, Fits: o.Fits, Systems: o.Systems}
		if err := m.Check(); err != nil {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
	default:
		return fmt.Errorf("%s: kind %.40q is not supported: use driver or support", o.Name, o.Kind)
	}
	return nil
}

// check refuses a path that leads out of the depot, since the bench would fetch from
// somewhere that nobody has accepted.
func (f *File) check(most int64) error {
	u, err := url.Parse(f.Path)
	switch {
	case err != nil || u.IsAbs() || u.Host != "" || u.RawQuery != "" || f.Path == "" || len(f.Path) > 400 ||
		strings.HasPrefix(u.Path, "/") || path.Clean(u.Path) != u.Path || u.Path == ".." || strings.HasPrefix(u.Path, "../"):
		return fmt.Errorf("path %.80q must be relative to the depot and stay in it", f.Path)
	case !digestShape.MatchString(f.SHA256):
		return fmt.Errorf("sha256 %.80q must be 64 hexadecimal digits, in lower case", f.SHA256)
	case f.Size <= 0 || f.Size > most:
		return fmt.Errorf("a size of %d bytes is not between 1 and %d", f.Size, most)
	}
	return nil
}

// Suits reports whether a support pack is made for a device of a family and model with a
// release.
func (f *For) Suits(family, model, release string) bool {
	return f.SuitsModel(family, model) && f.Release == release
}

// SuitsModel is Suits whatever the release.
func (f *For) SuitsModel(family, model string) bool {
	if f.Family != family {
		return false
	}
	for _, m := range f.Models {
		if m == model {
			return true
		}
	}
	return len(f.Models) == 0
}
