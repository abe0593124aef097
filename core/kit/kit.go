// Package kit describes kits: the compilers and tools on a computer that the builds of
// apps need. A description says where copies of a kit usually are, what a complete copy
// holds, what its programs print when they are asked for their version, and what a shell
// has to know of it. The format is described in docs/formats/kit.md.
//
// The package looks at no disk and starts no program: what was found is handed in.
package kit

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/strict"
)

// Description is what is known of a kit before any copy of it was seen.
type Description struct {
	Name      string            `yaml:"kit"`
	About     string            `yaml:"about"`
	Places    []string          `yaml:"places"`    // patterns of directories (path.Match), absolute or with ~/ for the user's own
	Holds     []Entry           `yaml:"holds"`     // at least one; the first program tells where on the search path a copy is
	Search    []string          `yaml:"search"`    // directories of a copy that belong on the search path
	Variables map[string]string `yaml:"variables"` // environment variables, each with a path in the copy
}

// Entry is something that a complete copy holds. One of Program, File and Directory is
// its path in the copy.
type Entry struct {
	Program   string `yaml:"program"`
	File      string `yaml:"file"`
	Directory string `yaml:"directory"`
	Asked     string `yaml:"asked"`  // argument with which the program prints its version; "" if it is not started
	Prints    string `yaml:"prints"` // regular expression of that; the group "version" is the copy's version

	pattern *regexp.Regexp
}

// Path is where the entry is in a copy, with slashes.
func (e *Entry) Path() string { return e.Program + e.File + e.Directory }

// Version looks for the entry's pattern in what its program printed. The version is ""
// when the pattern has no such group.
func (e *Entry) Version(printed string) (version fact.Release, ok bool) {
	if e.pattern == nil {
		return "", true
	}
	m := e.pattern.FindStringSubmatch(printed)
	if m == nil {
		return "", false
	}
	if i := e.pattern.SubexpIndex("version"); i > 0 {
		return fact.Release(m[i]), true
	}
	return "", true
}

var (
	nameShape     = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	variableShape = regexp.MustCompile(`^[A-Z][A-Z0-9_]{0,63}$`)
	askedShape    = regexp.MustCompile(`^(version|--version|-version|-V|-v)$`)
)

// CheckName tells whether a kit may be called so.
func CheckName(name string) error {
	if !nameShape.MatchString(name) {
		return fmt.Errorf("kit name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", name)
	}
	return nil
}

// Parse reads a description.
func Parse(raw []byte) (*Description, error) {
	if len(raw) > 64<<10 {
		return nil, errors.New("the description of a kit has more than 64 KiB")
	}
	d := &Description{}
	if err := strict.YAML(raw, d); err != nil {
		return nil, err
	}
	return d, d.check()
}

func (d *Description) check() error {
	if err := CheckName(d.Name); err != nil {
		return err
	}
	if len(d.Holds) == 0 {
		return errors.New("holds is missing: list what a complete copy contains")
	}
	for i := range d.Holds {
		if err := d.Holds[i].check(); err != nil {
			return fmt.Errorf("holds, entry %d: %w", i+1, err)
		}
	}
	for _, p := range d.Places {
		if err := checkPlace(p); err != nil {
			return err
		}
	}
	for _, s := range d.Search {
		if err := checkInside(s); err != nil {
			return fmt.Errorf("search: %w", err)
		}
	}
	for name, at := range d.Variables {
		if !variableShape.MatchString(name) || name == "PATH" || strings.HasPrefix(name, "LD_") || strings.HasPrefix(name, "DYLD_") {
			return fmt.Errorf("variables: a kit cannot set %.60q", name)
		}
		if err := checkInside(at); err != nil {
			return fmt.Errorf("variables: %s: %w", name, err)
		}
	}
	return nil
}

func (e *Entry) check() error {
	named := slices.DeleteFunc([]string{e.Program, e.File, e.Directory}, func(s string) bool { return s == "" })
	if len(named) != 1 {
		return errors.New("give one of program, file and directory")
	}
	if err := checkInside(named[0]); err != nil {
		return err
	}
	if (e.Asked == "") != (e.Prints == "") || e.Asked != "" && e.Program == "" {
		return errors.New("asked and prints must be used together, with a program")
	}
	if e.Asked == "" {
		return nil
	}
	// A description must not start anything else: it may come from elsewhere.
	if !askedShape.MatchString(e.Asked) {
		return fmt.Errorf("asked: %.40q does not ask for a version: use version, --version, -version, -V or -v", e.Asked)
	}
	var err error
	if e.pattern, err = regexp.Compile("(?m)" + e.Prints); err != nil {
		return fmt.Errorf("prints: %w", err)
	}
	return nil
}

func checkInside(p string) error {
	if p == "" || strings.ContainsAny(p, "\\:;\x00\n") || path.IsAbs(p) || path.Clean(p) != p || p == ".." || strings.HasPrefix(p, "../") {
		return fmt.Errorf("%.80q is not a relative path inside the kit: use slashes, but not a leading one, and not \"..\" anywhere", p)
	}
	return nil
}

func checkPlace(p string) error {
	_, err := path.Match(p, "")
	if err != nil || !path.IsAbs(p) && !strings.HasPrefix(p, "~/") || strings.ContainsAny(p, "\x00\n") {
		return fmt.Errorf("places: %.80q is not a pattern of directories: start with / or ~/", p)
	}
	return nil
}
