package appfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"

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
	Try       Try        `yaml:"try"`
	Features  []string   `yaml:"features"`  // app features that it uses
	Identity  string     `yaml:"identity"`  // name of the signing identity; "" for the development key
	Templates []Template `yaml:"templates"` // files that are made at each build
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
			return errors.New("templates: the project file itself is not made of a template")
		}
	}
	if _, err := regexp.Compile(p.Try.Log); err != nil {
		return fmt.Errorf("try: log: %w", err)
	}
	return nil
}

// Manifest returns the manifest of the project, without its files.
func (p *Project) Manifest() Manifest {
	return Manifest{ID: p.ID, Name: p.Name, Version: p.Version, Families: p.Families, Minimum: fact.Release(p.Minimum), Entry: p.Entry, Features: slices.Sorted(slices.Values(p.Features))}
}
