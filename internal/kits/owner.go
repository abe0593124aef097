package kits

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// Kit is what is known of a kit.
type Kit struct {
	Name        string
	Description *kit.Description // nil if nothing describes it
	Copies      []kit.Copy
	Apps        map[string]Used // that need it
}

// All returns the kits that are known or that an app needs, by name, as they were seen last.
func (k *Kits) All() []Kit {
	k.mu.Lock()
	defer k.mu.Unlock()
	names := map[string]bool{}
	for name := range k.known {
		names[name] = true
	}
	for name := range k.needs {
		names[name] = true
	}
	var out []Kit
	for _, name := range slices.Sorted(maps.Keys(names)) {
		out = append(out, Kit{Name: name, Description: k.known[name], Copies: k.found[name], Apps: k.needs[name]})
	}
	return out
}

func (k *Kits) readKits(ctx context.Context) error {
	described, err := k.cfg.Store.KitDescriptions(ctx)
	if err != nil {
		return fmt.Errorf("read the descriptions of kits: %w", err)
	}
	for name, raw := range described {
		d, err := kit.Parse(raw)
		if err != nil { // it was checked when it was added
			k.cfg.Log.Error("read the description of a kit", "kit", name, "error", err)
			continue
		}
		k.known[name], k.texts[name] = d, raw
	}
	all, err := k.cfg.Store.KitPlaces(ctx)
	if err != nil {
		return fmt.Errorf("read the places of kits: %w", err)
	}
	for _, p := range all {
		k.places[p.Kit] = append(k.places[p.Kit], p.Path)
	}
	return nil
}

// named returns the directories that the owner has named for a kit.
func (k *Kits) named(name string) []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Clone(k.places[name])
}

// Add puts a copy of a kit on record. raw describes the kit; nil if it is described
// already. Nothing is recorded unless the copy is complete.
func (k *Kits) Add(ctx context.Context, name, path string, raw []byte) (kit.Copy, error) {
	d, err := k.describe(name, raw)
	if err != nil {
		return kit.Copy{}, err
	}
	if !filepath.IsAbs(path) {
		return kit.Copy{}, problem.Errorf(problem.Invalid, "%.400q: give the absolute path of the kit's directory", path)
	}
	if strings.ContainsFunc(path, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return kit.Copy{}, problem.Errorf(problem.Invalid, "the path %.400q holds a control character", path)
	}
	c := kit.Copy{Path: filepath.Clean(path), Named: true}
	k.looking.Lock()
	k.inspect(ctx, d, &c)
	k.looking.Unlock()
	if wrong := c.Wrong(); wrong != "" {
		remedy := "Give the directory that contains all of it."
		if other := near(d, c.Path); other != "" {
			remedy = fmt.Sprintf("There is a %s in %s; give that path.", name, other)
		}
		return c, &problem.Problem{Kind: problem.Invalid, Text: fmt.Sprintf("This is not a complete %s: %s.", name, wrong), Remedy: remedy}
	}
	if err := k.cfg.Store.SaveKit(ctx, store.KitPlace{Kit: name, Path: c.Path}, raw); err != nil {
		return c, fmt.Errorf("keep the kit: %w", err)
	}
	k.mu.Lock()
	k.known[name] = d
	if len(raw) > 0 {
		k.texts[name] = raw
	}
	if !slices.Contains(k.places[name], c.Path) {
		k.places[name] = append(k.places[name], c.Path)
	}
	k.mu.Unlock()
	return c, k.look(ctx)
}

// Text is the description of a kit, as it was written; nil if nothing describes it.
func (k *Kits) Text(name string) []byte {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.texts[name]
}

// describe returns the description of a kit: the given one, or the one that is known.
func (k *Kits) describe(name string, raw []byte) (*kit.Description, error) {
	if err := kit.CheckName(name); err != nil {
		return nil, problem.Errorf(problem.Invalid, "%w", err)
	}
	if len(raw) > 0 {
		d, err := kit.Parse(raw)
		if err != nil {
			return nil, problem.Errorf(problem.Invalid, "the description was refused: %w", err)
		}
		if d.Name != name {
			return nil, problem.Errorf(problem.Invalid, "the description is for the kit %s, not for %s", d.Name, name)
		}
		return d, nil
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if d := k.known[name]; d != nil {
		return d, nil
	}
	return nil, &problem.Problem{Kind: problem.NotFound, Text: fmt.Sprintf("There is no description of a kit %s, only of %s.", name, strings.Join(slices.Sorted(maps.Keys(k.known)), ", ")),
		Remedy: "Use one of these, or add a description: earlybench kit add NAME PATH --description FILE (docs/formats/kit.md)."}
}

// Drop takes a copy of a kit off the record. Nothing of it is removed from the disk.
func (k *Kits) Drop(ctx context.Context, name, path string) error {
	path = filepath.Clean(path)
	if !slices.Contains(k.named(name), path) {
		return problem.Errorf(problem.NotFound, "no %s in %.400s was added; see earlybench kit", name, path)
	}
	if err := k.cfg.Store.DropKit(ctx, store.KitPlace{Kit: name, Path: path}); err != nil {
		return fmt.Errorf("forget the kit: %w", err)
	}
	k.mu.Lock()
	k.places[name] = slices.DeleteFunc(slices.Clone(k.places[name]), func(p string) bool { return p == path })
	k.mu.Unlock()
	return k.look(ctx)
}

// Chosen is a copy of a kit with what a process needs in order to use it.
type Chosen struct {
	Copy        kit.Copy
	Environment kit.Environment
}

// Choose returns the copy for a need, or why there is none.
func (k *Kits) Choose(ctx context.Context, n kit.Need) (Chosen, error) {
	d, copies := k.fresh(ctx, n.Name)
	if d == nil {
		return Chosen{}, Used{n, kit.Choice{State: kit.Unknown}}.Problem()
	}
	c := kit.Choose(n, copies)
	if c.State == kit.Here {
		return Chosen{*c.Copy, d.Environment(c.Copy.Path)}, nil
	}
	return Chosen{}, Used{n, c}.Problem()
}

// fresh looks at the copies of a kit; it has no description if nothing describes it.
func (k *Kits) fresh(ctx context.Context, name string) (*kit.Description, []kit.Copy) {
	k.mu.Lock()
	d := k.known[name]
	k.mu.Unlock()
	if d == nil {
		return nil, nil
	}
	k.looking.Lock()
	defer k.looking.Unlock()
	return d, k.copies(ctx, d)
}

// ForProject returns the copy of the kit that a project's build needs, or nil if it names
// none.
func (k *Kits) ForProject(ctx context.Context, p *appfile.Project) (*Chosen, error) {
	if p.Kit.Name == "" {
		return nil, nil
	}
	c, err := k.Choose(ctx, p.Kit)
	return &c, err
}

// Problem says why the need is not met, and what to do; nil if it is met.
func (u Used) Problem() *problem.Problem {
	why := amiss(u.Need, u.Choice)
	switch u.Choice.State {
	case kit.Here:
		return nil
	case kit.Broken:
		why = fmt.Sprintf("The %s on this computer is incomplete: %s", u.Need.Name, why)
	case kit.Unknown:
		why = "Nothing describes the kit " + u.Need.Name
	}
	p := &problem.Problem{Kind: problem.Blocked, Gate: "kit", Text: why + ".", Remedy: "Install it. If it is not found then, name its directory: earlybench kit add " + u.Need.Name + " PATH"}
	switch {
	case u.Choice.Offer != nil:
		p.Remedy = fmt.Sprintf("Use the other copy that is here: earlybench kit add %s %s", u.Need.Name, kit.Argument(u.Choice.Offer.Path))
	case u.Need.At != "":
		p.Remedy = fmt.Sprintf("The next build fetches it from %s. To fetch it now: earlybench kit fetch %s --from %[1]s", u.Need.At, u.Need.Name)
	case u.Choice.State == kit.Broken:
		p.Remedy = "Restore that, or name another copy: earlybench kit add " + u.Need.Name + " PATH"
	case u.Choice.State == kit.Unknown:
		p.Remedy = "Name its directory and its description: earlybench kit add " + u.Need.Name + " PATH --description FILE"
	}
	return p
}

// Version returns the complete copy of a kit that has exactly that version.
func (k *Kits) Version(ctx context.Context, name string, v fact.Release) (Chosen, error) {
	n := kit.Need{Name: name}
	d, copies := k.fresh(ctx, name)
	if d == nil {
		return Chosen{}, Used{n, kit.Choice{State: kit.Unknown}}.Problem()
	}
	var have []string
	for _, c := range copies {
		if c.Wrong() != "" {
			if c.Version == v {
				return Chosen{}, Used{n, kit.Choice{State: kit.Broken, Copy: &c}}.Problem()
			}
			continue
		}
		if c.Version == v {
			return Chosen{c, d.Environment(c.Path)}, nil
		}
		have = append(have, string(c.Version))
	}
	if len(have) == 0 {
		return Chosen{}, Used{n, kit.Choose(n, copies)}.Problem()
	}
	return Chosen{}, problem.Errorf(problem.NotFound, "there is no %s %s here; there is %s", name, v, strings.Join(have, ", "))
}
