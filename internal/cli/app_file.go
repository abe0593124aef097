package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/internal/replace"
)

// openApp opens and checks an app file.
func openApp(name string) (*appfile.File, error) {
	raw, err := os.ReadFile(name)
	if err != nil {
		return nil, usage("open the app file: %w", err)
	}
	a, err := appfile.Open(bytes.NewReader(raw), int64(len(raw)))
	if err != nil {
		return nil, fmt.Errorf("the app file %s is refused: %w", name, err)
	}
	return a, nil
}

// signedBy says who has signed an app file.
func signedBy(a *appfile.File) string {
	if c := a.Certificate(); c != nil {
		return fmt.Sprintf("signed by the identity %s, whose certificate was issued by %s and is valid until %s", safe(c.Subject.CommonName), safe(c.Issuer.CommonName), c.NotAfter.Local().Format("2 January 2006"))
	}
	if a.App.Developer != nil {
		return "signed by the bare key " + a.App.By() + ", for development"
	}
	return "not signed: devices that accept only known developers refuse it"
}

func (p *program) appShow() *cobra.Command {
	return &cobra.Command{Use: "show FILE", Short: "Show what is in an app file, and who signed it", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		a, err := openApp(args[0])
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(a.App)
		}
		m := a.App
		debug := "not built to be debugged"
		if m.Debug {
			debug = "built to be debugged"
		}
		features := "no special ones"
		if len(m.Features) > 0 {
			features = strings.Join(m.Features, ", ")
		}
		fmt.Fprintf(p.out, "%s %s (%s)\n", m.ID, m.Version, safe(m.Name))
		for _, line := range [][2]string{{"id", a.Digest}, {"for", strings.Join(m.Families, ", ")}, {"needs", string(m.Minimum)}, {"signed", signedBy(a)}, {"features", features}, {"debug", debug}} {
			if line[1] != "" {
				fmt.Fprintf(p.out, "  %-9s %s\n", line[0], safe(line[1]))
			}
		}
		p.printFiles(m.Files)
		return nil
	}}
}

func (p *program) printFiles(files []bundle.File) {
	var rows [][]string
	for _, f := range files {
		rows = append(rows, []string{safe(f.Path), bytesText(f.Size), f.SHA256})
	}
	p.table([]string{"file", "size", "sha256"}, rows)
}

func (p *program) appCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE", Short: "Check that an app file is complete, and show what is in it", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		a, err := openApp(args[0])
		if err != nil {
			return err
		}
		if p.json {
			return p.printJSON(a.App)
		}
		by := signedBy(a)
		fmt.Fprintf(p.out, "%s %s (%s), for %s\n%s\n", a.App.ID, a.App.Version, safe(a.App.Name), strings.Join(a.App.Families, ", "), by)
		p.printFiles(a.App.Files)
		return nil
	}}
}

func (p *program) appPack() *cobra.Command {
	build := ""
	c := &cobra.Command{Use: "pack DIR FILE", Short: "Pack what a project has built as an app file (.ebapp)", Args: cobra.ExactArgs(2), RunE: func(c *cobra.Command, args []string) error {
		project, err := appfile.ReadProject(args[0])
		if err != nil {
			return err
		}
		if project, err = project.Named(build); err != nil {
			return usage("%w", err)
		}
		b, err := p.bench()
		if err != nil {
			return err
		}
		by, err := b.Developer(c.Context(), project.Identity)
		if err != nil {
			return err
		}
		key := &remoteKey{c.Context(), b, by, project.Identity}
		out, err := os.Create(args[1])
		if err != nil {
			return fmt.Errorf("write the app file: %w", err)
		}
		digest, err := appfile.Pack(out, project.Manifest(), os.DirFS(filepath.Join(project.Dir, project.Root)), project.Files, key)
		if err = errors.Join(err, out.Close()); err != nil {
			os.Remove(args[1]) //nolint:errcheck // it is half of one
			return err
		}
		if p.json {
			return p.printJSON(packed{project.ID, project.Version, digest, by.Thumbprint, args[1]})
		}
		whose := "the development key " + by.Thumbprint + " of this bench"
		if project.Identity != "" {
			whose = "the identity " + safe(project.Identity)
		}
		fmt.Fprintf(p.out, "%s %s, id %s\nSigned by %s.\n", project.ID, project.Version, digest, whose)
		fmt.Fprintf(p.err, "Run it: earlybench run %s DEVICE\n", args[1])
		return nil
	}}
	c.Flags().StringVar(&build, "build", "", buildHelp)
	return c
}

func (p *program) appSign() *cobra.Command {
	identity := ""
	c := &cobra.Command{Use: "sign FILE OUT", Short: "Sign an app file with a signing identity or the development key", Args: cobra.ExactArgs(2),
		Long: `Writes a copy of an app file, signed with an identity of the bench, or with its
development key if none is named. The app itself stays the same.`, RunE: func(c *cobra.Command, args []string) error {
			a, err := openApp(args[0])
			if err != nil {
				return err
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			by, err := b.Developer(c.Context(), identity)
			if err != nil {
				return err
			}
			dir, err := os.MkdirTemp("", "earlybench-app-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir) //nolint:errcheck // it is in a directory for what is temporary
			names, err := unpack(a, dir)
			if err != nil {
				return fmt.Errorf("unpack %s: %w", args[0], err)
			}
			var out bytes.Buffer
			digest, err := appfile.Pack(&out, *a.App, os.DirFS(dir), names, &remoteKey{c.Context(), b, by, identity})
			if err != nil {
				return err
			}
			if err := replace.File(args[1], out.Bytes(), 0o644); err != nil {
				return err
			}
			if p.json {
				return p.printJSON(packed{a.App.ID, a.App.Version, digest, by.Thumbprint, args[1]})
			}
			p.sayf("%s is signed; its id is %s.\n", args[1], digest)
			return nil
		}}
	c.Flags().StringVar(&identity, "identity", "", "signing identity (default: the development key)")
	return c
}

// unpack writes the files of an app into a directory, and names them.
func unpack(a *appfile.File, dir string) (names []string, err error) {
	for _, f := range a.App.Files {
		to := filepath.Join(dir, filepath.FromSlash(f.Path)) // its path was checked when it was opened
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return nil, err
		}
		in, err := a.File(f.Path)
		if err != nil {
			return nil, err
		}
		data, err := io.ReadAll(in)
		if err = errors.Join(err, in.Close()); err == nil {
			err = os.WriteFile(to, data, 0o600)
		}
		if err != nil {
			return nil, err
		}
		names = append(names, f.Path)
	}
	return names, nil
}

// difference is one line of what differs between two app files.
type difference struct {
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
}

func (p *program) appCompare() *cobra.Command {
	return &cobra.Command{Use: "compare OLD NEW", Short: "What differs between two app files", Args: cobra.ExactArgs(2), RunE: func(_ *cobra.Command, args []string) error {
		one, err := openApp(args[0])
		if err != nil {
			return err
		}
		other, err := openApp(args[1])
		if err != nil {
			return err
		}
		all := differences(one, other)
		if p.json {
			return p.printJSON(map[string][]difference{"differences": append([]difference{}, all...)})
		}
		if len(all) == 0 {
			p.sayf("Nothing differs.\n")
			return nil
		}
		var rows [][]string
		for _, d := range all {
			rows = append(rows, []string{safe(d.What), safe(d.Old), safe(d.New)})
		}
		p.table([]string{"what", filepath.Base(args[0]), filepath.Base(args[1])}, rows)
		return nil
	}}
}

func differences(one, other *appfile.File) (out []difference) {
	a, b := one.App, other.App
	for _, d := range []difference{{"app", a.ID, b.ID}, {"name", a.Name, b.Name}, {"version", a.Version, b.Version}, {"families", strings.Join(a.Families, ", "), strings.Join(b.Families, ", ")},
		{"needs release", string(a.Minimum), string(b.Minimum)}, {"starts", a.Entry, b.Entry}, {"signature", signedBy(one), signedBy(other)}, {"features", strings.Join(a.Features, ", "), strings.Join(b.Features, ", ")},
		{"built to be debugged", fmt.Sprint(a.Debug), fmt.Sprint(b.Debug)}} {
		if d.Old != d.New {
			out = append(out, d)
		}
	}
	text := func(files []bundle.File, path string) string {
		i := slices.IndexFunc(files, func(f bundle.File) bool { return f.Path == path })
		if i < 0 {
			return ""
		}
		return fmt.Sprintf("%s, %.12s", bytesText(files[i].Size), files[i].SHA256)
	}
	var paths []string
	for _, f := range append(slices.Clone(a.Files), b.Files...) {
		if !slices.Contains(paths, f.Path) {
			paths = append(paths, f.Path)
		}
	}
	for _, path := range paths {
		if d := (difference{"file " + path, text(a.Files, path), text(b.Files, path)}); d.Old != d.New {
			out = append(out, d)
		}
	}
	return out
}
