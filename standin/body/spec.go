// Package body is a stand-in device: a handset whose pages, words and hidden
// ways are data, with a screen that is drawn and touched, a device key, an
// admission list, apps that really run, and the device's side of the bench link.
//
// It knows nothing of the bench: it is reached over a bulk pipe, and touched on
// its screen.
package body

import (
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"earlybench.invalid/earlybench/core/usb"
)

// Spec is a maker's body data.
type Spec struct {
	Body     string               `yaml:"body"`
	Family   string               `yaml:"family"`
	Maker    string               `yaml:"maker"`
	Look     Look                 `yaml:"look"`
	Capacity string               `yaml:"capacity"`
	Answer   string               `yaml:"answer within"`
	Language string               `yaml:"language"` // of its screens
	Models   map[string]ModelSpec `yaml:"models"`
	Ifaces   []IfaceSpec          `yaml:"interfaces"`
	Hidden   HiddenSpec           `yaml:"hidden"`
	Pages    map[string]*PageSpec `yaml:"pages"`
}

// Look is how the maker's screens look.
type Look struct {
	Hue  float64 `yaml:"hue"`
	Mark string  `yaml:"mark"`
}

// ModelSpec is one model.
type ModelSpec struct {
	Name     string `yaml:"name"`
	USB      string `yaml:"usb"`
	Revision string `yaml:"revision"`
	Release  string `yaml:"release"`
}

// IfaceSpec is an interface on the cable; When names settings and the values
// with which it is there.
type IfaceSpec struct {
	Name  string              `yaml:"name"`
	Class string              `yaml:"class"`
	When  map[string][]string `yaml:"when"`
}

// HiddenSpec is the hidden way in.
type HiddenSpec struct {
	Row      string `yaml:"row"`
	Taps     int    `yaml:"taps"`
	Within   string `yaml:"within"`
	Counting string `yaml:"counting"`
	Opened   string `yaml:"opened"`
	Already  string `yaml:"already"`
}

// PageSpec is a page of the settings.
type PageSpec struct {
	Title string    `yaml:"title"`
	Above string    `yaml:"above"`
	List  string    `yaml:"list"` // "admissions": rows made from that list
	Rows  []RowSpec `yaml:"rows"`
}

// RowSpec is one row of a page.
type RowSpec struct {
	Text    string   `yaml:"text"`
	Value   string   `yaml:"value"`
	Page    string   `yaml:"page"`
	When    string   `yaml:"when"` // "opened": only once the hidden way was found
	Hidden  bool     `yaml:"hidden"`
	Choose  string   `yaml:"choose"`
	Options []string `yaml:"options"`
	Switch  string   `yaml:"switch"`
	Action  string   `yaml:"action"`
	Risk    riskSpec `yaml:"risk"`
}

// riskSpec is one sentence, or one for each option.
type riskSpec map[string]string

func (r *riskSpec) UnmarshalYAML(unmarshal func(any) error) error {
	var s string
	if unmarshal(&s) == nil {
		*r = riskSpec{"": s}
		return nil
	}
	m := map[string]string{}
	err := unmarshal(&m)
	*r = m
	return err
}

// LoadSpecs reads every maker's data in root, by name.
func LoadSpecs(root fs.FS) (map[string]*Spec, error) {
	names, err := fs.Glob(root, "*.yaml")
	if err != nil {
		return nil, err
	}
	out := map[string]*Spec{}
	for _, n := range names {
		raw, err := fs.ReadFile(root, n)
		if err != nil {
			return nil, err
		}
		var s Spec
		if err := yaml.UnmarshalWithOptions(raw, &s, yaml.Strict()); err != nil {
			return nil, fmt.Errorf("%s: %s", n, yaml.FormatError(err, false, true))
		}
		if err := s.check(); err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(n), err)
		}
		out[s.Body] = &s
	}
	return out, nil
}

func (s *Spec) check() error {
	if _, err := time.ParseDuration(s.Answer); err != nil {
		return fmt.Errorf("answer within: %w", err)
	}
	if _, err := time.ParseDuration(s.Hidden.Within); err != nil {
		return fmt.Errorf("hidden: within: %w", err)
	}
	if _, err := parseBytes(s.Capacity); err != nil {
		return fmt.Errorf("capacity: %w", err)
	}
	for _, i := range s.Ifaces {
		if _, err := parseClass(i.Class); err != nil {
			return err
		}
	}
	for code, m := range s.Models {
		if _, err := usb.ParseID(m.USB); err != nil {
			return fmt.Errorf("model %s: %w", code, err)
		}
		if _, err := strconv.ParseUint(m.Revision, 16, 16); err != nil {
			return fmt.Errorf("model %s: revision: %w", code, err)
		}
	}
	for id, p := range s.Pages {
		for _, r := range p.Rows {
			if r.Page != "" && s.Pages[r.Page] == nil {
				return fmt.Errorf("page %s: row %s leads to page %q, which is not there", id, r.Text, r.Page)
			}
		}
	}
	if s.Pages["settings"] == nil {
		return fmt.Errorf("there is no page settings")
	}
	return nil
}

func parseClass(s string) (usb.Class, error) {
	var c usb.Class
	if _, err := fmt.Sscanf(s, "%02x/%02x/%02x", &c.Class, &c.Subclass, &c.Protocol); err != nil {
		return c, fmt.Errorf("class %q: write three hexadecimal numbers parted by slashes", s)
	}
	return c, nil
}

func parseBytes(s string) (int64, error) {
	number, unit, _ := strings.Cut(s, " ")
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return 0, err
	}
	switch unit {
	case "kB":
		return n * 1000, nil
	case "MB":
		return n * 1000 * 1000, nil
	case "GB":
		return n * 1000 * 1000 * 1000, nil
	}
	return 0, fmt.Errorf("%q: write a number and kB, MB or GB", s)
}
