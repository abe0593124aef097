package kits

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/kit"
)

// mostCopies is how many copies of a kit are looked at.
const mostCopies = 32

// copies looks at every copy of a kit: those that the owner has named, then those in the
// usual places and on the search path.
func (k *Kits) copies(ctx context.Context, d *kit.Description) []kit.Copy {
	var out []kit.Copy
	seen := map[string]bool{}
	onPath := copyOnPath(d)
	look := func(dir string, named bool) {
		real := dir
		if r, err := filepath.EvalSymlinks(dir); err == nil {
			real = r
		}
		if seen[real] || len(out) == mostCopies {
			return
		}
		seen[real] = true
		c := kit.Copy{Path: dir, Named: named, OnPath: real == onPath}
		k.inspect(ctx, d, &c)
		out = append(out, c)
	}
	for _, dir := range k.named(d.Name) {
		look(dir, true)
	}
	places := append([]string{filepath.Join(k.cfg.Dir, "*")}, d.Places...)
	for _, place := range places {
		found, _ := filepath.Glob(k.atHome(place)) // checked when the description was read
		slices.Reverse(found)
		for _, dir := range found {
			if hasFirst(d, dir) {
				look(dir, false)
			}
		}
	}
	if onPath != "" {
		look(onPath, false)
	}
	return out
}

// atHome puts the user's own directory in the place of ~.
func (k *Kits) atHome(place string) string {
	if rest, ok := strings.CutPrefix(place, "~/"); ok {
		return filepath.Join(k.cfg.Home, filepath.FromSlash(rest))
	}
	return filepath.FromSlash(place)
}

// first is the program by which a copy is known, else the first thing that it holds.
func first(d *kit.Description) *kit.Entry {
	if i := slices.IndexFunc(d.Holds, func(e kit.Entry) bool { return e.Program != "" }); i >= 0 {
		return &d.Holds[i]
	}
	return &d.Holds[0]
}

func hasFirst(d *kit.Description, dir string) bool {
	_, err := os.Stat(entryPath(dir, first(d)))
	return err == nil
}

// copyOnPath returns the directory of the copy to which the search path leads; "" for none.
func copyOnPath(d *kit.Description) string {
	e := first(d)
	if e.Program == "" {
		return ""
	}
	at, err := exec.LookPath(filepath.Base(filepath.FromSlash(e.Program)))
	if err != nil {
		return ""
	}
	if at, err = filepath.EvalSymlinks(at); err != nil {
		return ""
	}
	root, ok := strings.CutSuffix(strings.TrimSuffix(filepath.ToSlash(at), ".exe"), "/"+e.Program)
	if !ok {
		return ""
	}
	return filepath.FromSlash(root)
}

// near returns a directory close to one that somebody gave, in which all is that a copy
// holds; "" if there is none.
func near(d *kit.Description, dir string) string {
	whole := func(dir string) bool {
		return !slices.ContainsFunc(d.Holds, func(e kit.Entry) bool { return present(dir, &e) != "" })
	}
	if whole(dir) { // what is wrong there is not its path
		return ""
	}
	up := filepath.Dir(dir)
	for _, p := range []string{up, filepath.Dir(up)} {
		if whole(p) {
			return p
		}
	}
	for _, around := range []string{dir, up} {
		below, err := os.ReadDir(around)
		if err != nil {
			continue
		}
		for _, e := range below[:min(len(below), 200)] {
			if p := filepath.Join(around, e.Name()); whole(p) {
				return p
			}
		}
	}
	return ""
}
