package appfile

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/core/strict"
)

// ProjectFile is the file that states how an app is built and packed.
const ProjectFile = ".earlybench.yaml"

// Project is the directory of an app with the content of its project file.
type Project struct {
	Dir       string     `yaml:"-"`
	ID        string     `yaml:"id"`
	Name      string     `yaml:"name"`
	Version   string     `yaml:"version"`
	Families  []string   `yaml:"families"`
	Minimum   string     `yaml:"minimum"`
	Kit       kit.Need   `yaml:"kit"` // what the build needs; without a name it is the build's program alone
	Build     Build      `yaml:"build"`
	Root      string     `yaml:"root"` // directory in which the files lie; default: the project's
	Files     []string   `yaml:"files"`
	Entry     string     `yaml:"entry"`
	Start     []string   `yaml:"start"` // command by which a Linux device starts it; default: the entry
	Try       Try        `yaml:"try"`
	Features  []string   `yaml:"features"`  // app features that it uses
	Identity  string     `yaml:"identity"`  // name of the signing identity; "" for the development key. NAME@PEER is that of a peer
	Templates []Template `yaml:"templates"` // files that are made at each build
	// Builds are other ways to build and sign it, by names of the project's own.
	Builds map[string]Variant `yaml:"builds"`

	Any   bool `yaml:"-"` // of the variant that was chosen: it is for any device, not for listed ones
	Debug bool `yaml:"-"` // it may be debugged
}

// Variant is one of several builds of an app. What it leaves out is as the project says.
type Variant struct {
	Devices  string    `yaml:"devices"` // listed, or any
	Debug    *bool     `yaml:"debug"`   // it may be debugged; true if it is left out
	Identity *string   `yaml:"identity"`
	Command  []string  `yaml:"command"`
	Files    []string  `yaml:"files"`
	Entry    string    `yaml:"entry"`
	Features *[]string `yaml:"features"`
}

// Devices that a variant is for.
const (
	DevicesListed = "listed"
	DevicesAny    = "any"
)

// Named returns the project as one of its builds says; "" is the project itself.
func (p *Project) Named(build string) (*Project, error) {
	out := *p
	out.Debug = true
	if build == "" {
		return &out, nil
	}
	v, ok := p.Builds[build]
	switch {
	case !ok && len(p.Builds) == 0:
		return nil, fmt.Errorf("%s has no build %.40q: its .earlybench.yaml defines none under builds", p.ID, build)
	case !ok:
		return nil, fmt.Errorf("%s has no build %.40q: there are %s", p.ID, build, strings.Join(slices.Sorted(maps.Keys(p.Builds)), ", "))
	}
	out.Any = v.Devices == DevicesAny
	if v.Debug != nil {
		out.Debug = *v.Debug
	}
	if v.Identity != nil {
		out.Identity = *v.Identity
	}
	if v.Features != nil {
		out.Features = *v.Features
	}
	if len(v.Command) > 0 {
		out.Build.Command = v.Command
	}
	if len(v.Files) > 0 {
		out.Files = v.Files
	}
	out.Entry = cmp.Or(v.Entry, out.Entry)
	return &out, nil
}

// Build is how the app is built.
type Build struct {
	Command []string          `yaml:"command"`
	Env     map[string]string `yaml:"env"`
}

// Try defines what a tryout checks.
type Try struct {
	Log    string `yaml:"log"`    // regular expression of the line that shows that it works
	Within string `yaml:"within"` // how long it may take, such as 10s
}

// ReadProject reads the project file of a directory.
func ReadProject(dir string) (*Project, error) {
	name := filepath.Join(dir, ProjectFile)
	raw, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s is not an app's directory: it has no %s", dir, ProjectFile)
	}
	if err != nil {
		return nil, fmt.Errorf("read the project: %w", err)
	}
	p := &Project{Dir: dir}
	if err := strict.YAML(raw, p); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if err := p.check(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}

var buildName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,29}$`)

func (p *Project) check() error {
	if err := CheckID(p.ID); err != nil {
		return err
	}
	if len(p.Build.Command) == 0 {
		return errors.New("build: command is missing; write it as a list")
	}
	if err := p.Kit.Check(); err != nil {
		return fmt.Errorf("kit: %w", err)
	}
	if len(p.Files) == 0 {
		return errors.New("files is missing; list the files to pack")
	}
	for _, t := range p.Templates {
		if !filepath.IsLocal(t.From) || !filepath.IsLocal(t.To) || filepath.Clean(t.From) == filepath.Clean(t.To) {
			return fmt.Errorf("templates: %.80q and %.80q are two files below the project's directory", t.From, t.To)
		}
		if filepath.Clean(t.To) == ProjectFile {
			return errors.New("templates: the project file itself cannot be made from a template")
		}
	}
	for name, v := range p.Builds {
		if !buildName.MatchString(name) {
			return fmt.Errorf("builds: name %.40q: lower-case letters, digits and hyphens, up to 30", name)
		}
		if v.Devices != "" && v.Devices != DevicesListed && v.Devices != DevicesAny {
			return fmt.Errorf("builds: %s: devices must be listed or any, not %.40q", name, v.Devices)
		}
	}
	return p.Try.Check()
}

// longestTry is the longest time in which a log may show that an app works.
const longestTry = 10 * time.Minute

// Check tells what is wrong with it.
func (t Try) Check() error {
	if _, err := regexp.Compile(t.Log); err != nil {
		return fmt.Errorf("try: log: %w", err)
	}
	if t.Within == "" {
		return nil
	}
	if d, err := time.ParseDuration(t.Within); err != nil || d <= 0 || d > longestTry {
		return fmt.Errorf("try: within: %.20q is not a duration of at most %s, such as 10s", t.Within, longestTry)
	}
	return nil
}

// Manifest returns the manifest of the project, without its files.
func (p *Project) Manifest() Manifest {
	return Manifest{ID: p.ID, Name: p.Name, Version: p.Version, Families: p.Families, Minimum: fact.Release(p.Minimum), Entry: p.Entry, Start: p.Start, Features: slices.Sorted(slices.Values(p.Features)), Debug: p.Debug}
}

// SplitIdentity splits the name of an identity that a peer has, NAME@PEER: its name over there, "" for the development key
// of that bench, and the peer. Of an identity of this bench the peer is "".
func SplitIdentity(identity string) (name, peer string) {
	if name, peer, ok := strings.Cut(identity, "@"); ok {
		return name, peer
	}
	return identity, ""
}

// Certified reports whether an identity has a certificate: a development key has none.
func Certified(identity string) bool {
	name, _ := SplitIdentity(identity)
	return name != ""
}
