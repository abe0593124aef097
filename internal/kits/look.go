package kits

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/internal/facts"
)

//go:embed *.yaml
var descriptions embed.FS

// shipped returns the descriptions that come with Early Bench.
func shipped() (out map[string]*kit.Description, texts map[string][]byte, err error) {
	out, texts = map[string]*kit.Description{}, map[string][]byte{}
	return out, texts, fs.WalkDir(descriptions, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := descriptions.ReadFile(name)
		if err != nil {
			return err
		}
		d, err := kit.Parse(raw)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		out[d.Name], texts[d.Name] = d, raw
		return nil
	})
}

// look looks at every copy of the kits that are known or needed, and records for each
// app how its need is met.
func (k *Kits) look(ctx context.Context) error {
	k.looking.Lock()
	defer k.looking.Unlock()
	k.mu.Lock()
	projects, known := maps.Clone(k.projects), maps.Clone(k.known)
	k.mu.Unlock()
	found := map[string][]kit.Copy{}
	for name, d := range known {
		found[name] = k.copies(ctx, d)
		k.follow(d, found[name])
	}
	needs := map[string]map[string]Used{}
	var failed error
	for app, dir := range projects {
		p, err := appfile.ReadProject(dir)
		if err != nil {
			continue // said when somebody runs it, and in the list of projects
		}
		seen := k.program(p)
		if p.Kit.Name != "" {
			c := choose(p.Kit, known, found)
			if needs[p.Kit.Name] == nil {
				needs[p.Kit.Name] = map[string]Used{}
			}
			needs[p.Kit.Name][app] = Used{p.Kit, c}
			seen = k.facts(p.Kit, c)
		}
		if ctx.Err() != nil { // a program that was ended says nothing of its kit
			return ctx.Err()
		}
		failed = errors.Join(failed, k.cfg.Book.Renew(ctx, facts.Subject{Kind: facts.App, ID: app}, seen...))
	}
	k.mu.Lock()
	changed := !same(k.found, found) || !sameNeeds(k.needs, needs)
	k.found, k.needs = found, needs
	k.mu.Unlock()
	if changed {
		failed = errors.Join(failed, k.cfg.Store.Tell(ctx, "kit.changed", ""))
	}
	return failed
}

func choose(n kit.Need, known map[string]*kit.Description, found map[string][]kit.Copy) kit.Choice {
	if known[n.Name] == nil {
		return kit.Choice{State: kit.Unknown}
	}
	return kit.Choose(n, found[n.Name])
}

// follow watches where copies of a kit are or would come.
func (k *Kits) follow(d *kit.Description, copies []kit.Copy) {
	for _, place := range d.Places {
		if dir := filepath.Dir(k.atHome(place)); !strings.ContainsAny(dir, "*?[") {
			k.add(dir)
		}
	}
	for _, c := range copies {
		k.add(filepath.Dir(c.Path))
		k.add(c.Path)
		for _, e := range d.Holds {
			k.add(filepath.Dir(entryPath(c.Path, &e)))
		}
	}
}

// facts are what is known of the kit that an app needs.
func (k *Kits) facts(n kit.Need, c kit.Choice) []fact.Fact {
	var version, offer string
	if c.Copy != nil {
		version = string(c.Copy.Version)
	}
	if c.Offer != nil {
		offer = c.Offer.Path
	}
	return k.all(string(c.State), n.Name, version, amiss(n, c), offer)
}

// amiss says why a need is not met, without a full stop; "" if it is.
func amiss(n kit.Need, c kit.Choice) string {
	switch c.State {
	case kit.Here:
		return ""
	case kit.Broken:
		return c.Copy.Wrong()
	case kit.Unfitting:
		return fmt.Sprintf("%s is needed, but this is version %s, in %s", n, or(string(c.Copy.Version), "unknown"), c.Copy.Path)
	case kit.Unknown:
		return "nothing describes the kit " + n.Name
	}
	return fmt.Sprintf("%s is not on this computer, or not in one of the usual places", n)
}

// program is what is known of the program of a build that names no kit.
func (k *Kits) program(p *appfile.Project) []fact.Fact {
	name := p.Build.Command[0]
	if _, err := exec.LookPath(name); err == nil {
		return k.all(string(kit.Here), name, "", "", "")
	}
	if isElsewhere(name) {
		return k.all("path", name, "", name+" is on this computer, but not on the search path of the bench", "")
	}
	return k.all("program", name, "", name+" is not on this computer", "")
}

// all is everything that is known of an app's kit.
func (k *Kits) all(state, name, version, amiss, offer string) []fact.Fact {
	return []fact.Fact{k.seen(fact.KitState, state), k.seen(fact.KitName, name), k.seen(fact.KitVersion, version), k.seen(fact.KitAmiss, amiss), k.seen(fact.KitOffer, offer)}
}

func isElsewhere(program string) bool {
	for _, pattern := range elsewhere {
		if found, _ := filepath.Glob(filepath.Join(pattern, program)); len(found) > 0 {
			return true
		}
	}
	return false
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

func same(a, b map[string][]kit.Copy) bool {
	return maps.EqualFunc(a, b, func(a, b []kit.Copy) bool { return slices.EqualFunc(a, b, sameCopy) })
}

func sameCopy(a, b kit.Copy) bool {
	return a.Path == b.Path && a.Named == b.Named && a.OnPath == b.OnPath && a.Version == b.Version &&
		slices.EqualFunc(a.Findings, b.Findings, func(a, b kit.Finding) bool { return a.Wrong == b.Wrong && a.Entry.Path() == b.Entry.Path() })
}

func sameNeeds(a, b map[string]map[string]Used) bool {
	return maps.EqualFunc(a, b, func(a, b map[string]Used) bool {
		return maps.EqualFunc(a, b, func(a, b Used) bool { return a.Need == b.Need && a.Choice.State == b.Choice.State })
	})
}
