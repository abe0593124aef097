// Package body is a stand-in device: a handset whose pages, words and hidden
// ways are data, with a screen that is drawn and touched, a device key, an
// admission list, apps that really run, and the device's side of the device link.
//
// It knows nothing about the bench: it is reached over a bulk pipe and operated on its
// screen.
package body

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/strict"
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
	Port     string               `yaml:"port"`     // "data", or "power": a cradle
	Lock     LockSpec             `yaml:"lock"`
	Sleep    string               `yaml:"sleep"` // goes dark after that long off power; "": never
	Boot     string               `yaml:"boot"`  // how long a restart takes
	Battery  BatterySpec          `yaml:"battery"`
	Settings map[string]string    `yaml:"settings"` // as it comes, and once it is closed again
	Facts    map[string]FactSpec  `yaml:"facts"`    // that it tells of its settings
	Installs conditions           `yaml:"installs"` // when computers may install
	Restart  []RestartSpec        `yaml:"restart"`
	Models   map[string]ModelSpec `yaml:"models"`
	Ifaces   []IfaceSpec          `yaml:"interfaces"`
	Hidden   HiddenSpec           `yaml:"hidden"`
	Admit    AdmitSpec            `yaml:"admission"`
	Air      *AirSpec             `yaml:"without a cable"` // nil: by cable only
	// Companion is how it is reached through another body; nil: it is not.
	Companion *CompanionSpec       `yaml:"through another"`
	Accept    *AcceptSpec          `yaml:"acceptance"` // nil: any developer's apps run
	Covers    *CoverSpec           `yaml:"statements"` // nil: apps run without a grant or debug token
	Words     map[string]string    `yaml:"words"`      // of its dialogs and toasts, in its language
	Pages     map[string]*PageSpec `yaml:"pages"`
}

// CoverSpec says which kind of statement must cover an app that is started.
type CoverSpec struct {
	Signed   string `yaml:"signed"`   // for apps that an identity has signed: grant, or "" for none
	Unsigned string `yaml:"unsigned"` // for those that a bare key has signed: debug-token, grant (never), or "" for none
	Most     int    `yaml:"most"`     // how many statements it holds; 0 stands for 8
	Text     string `yaml:"text"`     // that it shows when it stops one; {app} is its name
}

// Look is how the maker's screens look: a style that the package knows, with a
// hue of its own.
type Look struct {
	Style string  `yaml:"style"` // water, inn, plate, candle
	Size  string  `yaml:"size"`  // phone, tablet, keys, round
	Hue   float64 `yaml:"hue"`
	Mark  string  `yaml:"mark"`
}

// LockSpec is how its screen is locked.
type LockSpec struct {
	Kind   string `yaml:"kind"` // none, pin, dial, password
	Secret string `yaml:"secret"`
	Idle   string `yaml:"idle"` // locks itself after; "": never
	Wait   string `yaml:"wait"` // after three wrong ones
}

// BatterySpec is its battery.
type BatterySpec struct {
	Level  int    `yaml:"level"`  // as it comes, in per cent
	Drain  string `yaml:"drain"`  // time for one per cent off power
	Charge string `yaml:"charge"` // and for one on power; a quarter of drain
}

// FactSpec says how a setting is reported as a fact.
type FactSpec struct {
	Of string         `yaml:"of"` // the setting
	As map[string]any `yaml:"as"` // what its values are told as; others as they are
}

// RestartSpec is what a restart does: if a condition holds it changes settings and
// opens a page afterwards.
type RestartSpec struct {
	When conditions        `yaml:"when"`
	Set  map[string]string `yaml:"set"`
	Page string            `yaml:"page"`
}

// conditions names settings and the values with which something holds; besides
// settings there are opened, locked and asleep, which are yes or no.
type conditions map[string][]string

// ModelSpec is one model.
type ModelSpec struct {
	Name     string `yaml:"name"`
	USB      string `yaml:"usb"`
	Revision string `yaml:"revision"`
	Release  string `yaml:"release"`
	Next     string `yaml:"next"` // the release that an update brings
	Size     string `yaml:"size"` // "": as the look says
}

// IfaceSpec is an interface on the cable.
type IfaceSpec struct {
	Name  string     `yaml:"name"`
	Class string     `yaml:"class"`
	When  conditions `yaml:"when"`
}

// HiddenSpec is the hidden way in; a body without a row has none.
type HiddenSpec struct {
	Row     string `yaml:"row"`
	Taps    int    `yaml:"taps"`
	Within  string `yaml:"within"`
	Notches bool   `yaml:"notches"` // each touch fills one beside the row; else it counts in silence
	Secret  bool   `yaml:"secret"`  // then the unlock secret is wanted
	Opened  string `yaml:"opened"`  // what the row's value is afterwards, where it leads to a page
}

// AdmitSpec is the question whether to admit a computer.
type AdmitSpec struct {
	Title   string        `yaml:"title"`
	Text    string        `yaml:"text"`
	Options []AdmitOption `yaml:"options"`
	Pick    *PickSpec     `yaml:"pick"` // instead of options
	Hold    *HoldSpec     `yaml:"hold"` // likewise
}

// PickSpec has the owner pick, of four numbers, the one that the bench shows.
type PickSpec struct {
	For  string `yaml:"for"`
	None string `yaml:"none"` // the word that refuses
}

// HoldSpec has the owner hold two keys together.
type HoldSpec struct {
	For  string `yaml:"for"`
	Text string `yaml:"text"` // {one} and {other} are the keys
	Away string `yaml:"away"` // the word that refuses
}

// AcceptSpec is how its owner accepts a developer, by four figures that the bench
// shows; before that the developer's apps are stopped when they are started.
type AcceptSpec struct {
	Mark    string `yaml:"mark"`    // of such an app in the app list
	Stopped string `yaml:"stopped"` // said when one is stopped
	Text    string `yaml:"text"`    // on the page where the figures are typed; {app}
	Button  string `yaml:"button"`
	Right   string `yaml:"right"`
	Wrong   string `yaml:"wrong"`
	Anew    string `yaml:"anew"` // after three wrong ones, when there are other figures
}

// AdmitOption is one answer; For is visit, 30 days, until withdrawn or no.
type AdmitOption struct {
	Text string `yaml:"text"`
	For  string `yaml:"for"`
}

// PageSpec is a page of the settings.
type PageSpec struct {
	Title string     `yaml:"title"`
	Above string     `yaml:"above"`
	Text  string     `yaml:"text"`
	List  string     `yaml:"list"` // rows made from admissions, apps or developers; ledger: apps with their crews
	Code  *CodeSpec  `yaml:"code"`
	Entry *EntrySpec `yaml:"entry"`
	Rows  []RowSpec  `yaml:"rows"`
}

// CodeSpec shows a fresh code of four letters large over the rows of a page.
type CodeSpec struct {
	When conditions `yaml:"when"`
	Text string     `yaml:"text"`
}

// EntrySpec asks for text on a page before it shows the page's rows.
type EntrySpec struct {
	Of     string            `yaml:"of"` // code: the one that was shown; crew: the crew's number
	When   conditions        `yaml:"when"`
	Text   string            `yaml:"text"`
	Button string            `yaml:"button"`
	Right  string            `yaml:"right"`
	Wrong  string            `yaml:"wrong"`
	Asking string            `yaml:"asking"` // while somebody else is asked
	Nobody string            `yaml:"nobody"` // when that one does not answer
	Set    map[string]string `yaml:"set"`
}

// RowSpec is one row of a page.
type RowSpec struct {
	Text    string                       `yaml:"text"`
	Value   string                       `yaml:"value"`
	Page    string                       `yaml:"page"`
	When    conditions                   `yaml:"when"`
	From    string                       `yaml:"from"`  // first release that has it
	Below   string                       `yaml:"below"` // first release that has it no more
	Hidden  bool                         `yaml:"hidden"`
	Choose  string                       `yaml:"choose"`
	Options []string                     `yaml:"options"`
	Switch  string                       `yaml:"switch"`
	Sets    map[string]map[string]string `yaml:"sets"`   // what else a value of it sets
	Action  string                       `yaml:"action"` // wipe, close, restart, update, lock
	Risk    riskSpec                     `yaml:"risk"`
	Yes     string                       `yaml:"yes"` // the word that accepts the risk
	Secret  bool                         `yaml:"secret"`
	Says    string                       `yaml:"says"` // once it is switched on
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
		if err := strict.YAML(raw, &s); err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
		if err := s.check(); err != nil {
			return nil, fmt.Errorf("%s: %w", path.Base(n), err)
		}
		out[s.Body] = &s
	}
	return out, nil
}

// check finds mistakes in a spec from which no body could be built.
func (s *Spec) check() error {
	for what, d := range map[string]string{"answer within": s.Answer, "hidden: within": s.Hidden.Within, "lock: idle": s.Lock.Idle,
		"lock: wait": s.Lock.Wait, "sleep": s.Sleep, "boot": s.Boot, "battery: drain": s.Battery.Drain, "battery: charge": s.Battery.Charge} {
		if d == "" && what != "answer within" {
			continue
		}
		if _, err := time.ParseDuration(d); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
	}
	if _, err := parseBytes(s.Capacity); err != nil {
		return fmt.Errorf("capacity: %w", err)
	}
	if styles[s.Look.Style] == nil {
		return fmt.Errorf("look: style: there is no %q; there are candle, inn, plate, water", s.Look.Style)
	}
	if !slices.Contains([]string{"", "none", "pin", "dial", "password"}, s.Lock.Kind) {
		return fmt.Errorf("lock: kind: %q is none of none, pin, dial, password", s.Lock.Kind)
	}
	if s.Lock.Kind == "dial" {
		var short, long int
		if n, err := fmt.Sscan(s.Lock.Secret, &short, &long); n != 2 || err != nil || min(short, long) < 0 || max(short, long) >= dialMarks {
			return fmt.Errorf("lock: secret: %q is not two marks of a dial, such as 10 4", s.Lock.Secret)
		}
	}
	for _, i := range s.Ifaces {
		if _, err := parseClass(i.Class); err != nil {
			return err
		}
	}
	for code, m := range s.Models {
		if _, err := usb.ParseID(m.USB); err != nil && s.Port != "power" {
			return fmt.Errorf("model %s: %w", code, err)
		}
		if _, err := strconv.ParseUint(m.Revision, 16, 16); err != nil {
			return fmt.Errorf("model %s: revision: %w", code, err)
		}
	}
	return s.checkPages()
}

func (s *Spec) checkPages() error {
	known := func(where string, c conditions) error {
		for name := range c {
			if _, ok := s.Settings[name]; !ok && !slices.Contains([]string{"opened", "locked", "asleep"}, name) {
				return fmt.Errorf("%s: there is no setting %q", where, name)
			}
		}
		return nil
	}
	for id, p := range s.Pages {
		for _, r := range p.Rows {
			where := "page " + id + ": row " + r.Text
			if r.Page != "" && s.Pages[r.Page] == nil {
				return fmt.Errorf("%s leads to page %q, which is not there", where, r.Page)
			}
			for _, setting := range []string{r.Choose, r.Switch} {
				if _, ok := s.Settings[setting]; setting != "" && !ok {
					return fmt.Errorf("%s: there is no setting %q", where, setting)
				}
			}
			if err := known(where, r.When); err != nil {
				return err
			}
		}
		if p.Code != nil {
			if err := known("page "+id+": code", p.Code.When); err != nil {
				return err
			}
		}
		if p.Entry != nil {
			if !slices.Contains([]string{"code", "crew"}, p.Entry.Of) {
				return fmt.Errorf("page %s: entry: of: %q is none of code, crew", id, p.Entry.Of)
			}
			if err := known("page "+id+": entry", p.Entry.When); err != nil {
				return err
			}
		}
	}
	if s.Pages["settings"] == nil {
		return fmt.Errorf("there is no page settings")
	}
	for _, i := range s.Ifaces {
		if err := known("interface "+i.Name, i.When); err != nil {
			return err
		}
	}
	if s.Air != nil {
		if err := known("without a cable", s.Air.When); err != nil {
			return err
		}
	}
	return known("installs", s.Installs)
}

// word is a word of its screens; English where the data has none.
func (s *Spec) word(id string) string {
	if w := s.Words[id]; w != "" {
		return w
	}
	return english[id]
}

// english holds the words that every body needs.
var english = map[string]string{
	"back": "Back", "leave": "Leave it", "yes": "Yes", "wake": "Wake", "unlock": "Unlock", "find": "Find", "field": "Look for",
	"nothing": "Nothing is called that", "wrong": "That was not it", "wait": "Three wrong ones. Wait {wait}", "locked": "Locked",
	"booting": "Starting", "secret pin": "PIN", "secret dial": "Dial", "secret password": "Password", "away": "Send it away?",
	"sent": "It is sent away", "risk": "At your own risk", "this": "this device", "done": "Done", "delete": "Delete", "settings": "Settings",
	"here": "I am {name}", "forget": "Forget it?", "updated": "It now has {release}", "current": "There is nothing newer", "running": "running",
	"visit": "this visit", "30 days": "for 30 days", "until withdrawn": "until withdrawn", "loan": "on loan", "none": "none", "one": "one",
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
