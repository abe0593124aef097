package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/adapter"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/sheets"
)

func (p *program) sheetCommand() *cobra.Command {
	var sel *client.Select
	c := &cobra.Command{Use: "sheet", Short: "Prep sheets: what each family, maker and model needs", Args: cobra.NoArgs,
		Long: `Lists the active prep sheets. Those that you add are files of the bench; edit
them with any editor while the bench runs. A broken edit is refused and shown
here; the last valid version stays active.`,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			all, err := b.Sheets(c.Context(), *sel)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(all)
			}
			p.printSheets(all)
			return nil
		}}
	sel = p.selection(c)
	c.AddCommand(&cobra.Command{Use: "check FILE...", Short: "Check sheets, and show each error with its place", Args: cobra.MinimumNArgs(1),
		Long: `Checks sheets together with those that ship with Early Bench; a sheet of the same
name replaces the shipped one. Every error is shown with file, line and column.
No running bench is needed.`,
		RunE: func(_ *cobra.Command, args []string) error { return p.checkSheets(args) }})
	c.AddCommand(p.sheetShow(), p.sheetNew(), p.sheetAdd(), p.sheetDrop())
	return c
}

func (p *program) printSheets(all client.Sheets) {
	var rows [][]string
	for _, s := range all.Items {
		from := "ships with Early Bench"
		if s.Own {
			from = s.File + ", active since " + clockText(*s.Taken)
		}
		rows = append(rows, []string{s.Sheet, s.Maker, s.Model, s.Code, s.USB, fmt.Sprint(s.Steps), fmt.Sprint(s.Causes), fmt.Sprint(s.Checks),
			strings.Join(s.Languages, " "), from})
	}
	p.table([]string{"sheet", "maker", "model", "code", "usb", "steps", "causes", "checks", "also in", "from"}, rows)
	if len(all.Trouble) > 0 {
		fmt.Fprintf(p.out, "\n%s\n\n", bad.Render("The newest edit has errors and is not active; the last valid version is:"))
		for _, m := range all.Trouble {
			raw, _ := os.ReadFile(m.File)
			p.printMistake(m, raw)
		}
	}
}

func (p *program) checkSheets(names []string) error {
	files := map[string][]byte{}
	for _, n := range names {
		raw, err := os.ReadFile(n)
		if err != nil {
			return usage("read the sheet: %w", err)
		}
		files[n] = raw
	}
	lib, err := sheet.LoadWith(sheets.Files, files)
	wrong, ok := errors.AsType[sheet.Errors](err)
	if !ok && err != nil {
		return err
	}
	found := make([]client.Mistake, 0, len(wrong))
	for _, e := range wrong {
		found = append(found, client.Mistake{File: e.File, Line: e.Line, Column: e.Col, Near: e.Near, Text: e.Text, Hint: e.Hint})
	}
	if p.json {
		if err := p.printJSON(client.List[client.Mistake]{Items: found}); err != nil || len(found) == 0 {
			return err
		}
		return &exitError{code: exitFailed}
	}
	if len(found) == 0 {
		fmt.Fprintf(p.out, "%s: no errors; %d models in all\n", strings.Join(names, ", "), len(lib.All()))
		return nil
	}
	for _, m := range found {
		p.printMistake(m, files[m.File])
	}
	if len(found) == 1 {
		return &exitError{exitFailed, "One mistake."}
	}
	return &exitError{exitFailed, fmt.Sprintf("%d mistakes.", len(found))}
}

// printMistake prints one mistake with its line, if there is one, and marks what
// is wrong in it.
func (p *program) printMistake(m client.Mistake, text []byte) {
	fmt.Fprintf(p.out, "%s %s\n", bold.Render(fmt.Sprintf("%s:%d:%d:", m.File, m.Line, m.Column)), safe(m.Text))
	if lines := bytes.Split(text, []byte("\n")); len(text) > 0 && m.Line <= len(lines) {
		line := safe(strings.ReplaceAll(string(lines[m.Line-1]), "\t", " "))
		from, mark := min(max(m.Column-1, 0), len(line)), 1
		if near, _, _ := strings.Cut(m.Near, "\n"); near != "" && strings.HasPrefix(line[from:], near) {
			mark = len([]rune(near))
		}
		if from > 60 { // a long line is shown from before the place on
			line, from = "…"+strings.ToValidUTF8(line[from-40:], ""), 41
		}
		if width := p.width - 6; len([]rune(line)) > width {
			line = string([]rune(line)[:width]) + "…"
		}
		fmt.Fprintf(p.out, "    %s\n    %s%s\n", line, strings.Repeat(" ", from), lamp.Render(strings.Repeat("^", mark)))
	}
	if m.Hint != "" {
		fmt.Fprintf(p.out, "    %s\n", safe(m.Hint))
	}
}

func (p *program) sheetShow() *cobra.Command {
	var kind string
	c := &cobra.Command{Use: "show DEVICE", Short: "Show the resulting sheet for a device, and which file each part comes from", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			s, err := b.DeviceSheet(c.Context(), args[0])
			if err != nil {
				return err
			}
			if kind != "" {
				s.Parts = slices.DeleteFunc(s.Parts, func(x client.Part) bool { return x.Kind != kind })
			}
			if p.json {
				return p.printJSON(s)
			}
			p.printDeviceSheet(s)
			return nil
		}}
	c.Flags().StringVar(&kind, "only", "", "show only parts of this kind: word, gate, step, cause, check")
	return c
}

var partTitles = []struct{ kind, title string }{{"word", "Words on its screens"}, {"gate", "Gates, and what opens them"}, {"step", "Steps"}, {"cause", "Causes"}, {"check", "Checks"}}

func (p *program) printDeviceSheet(s client.DeviceSheet) {
	releases := "any release"
	switch {
	case s.From != "" && s.Below != "":
		releases = fmt.Sprintf("releases from %s, below %s", s.From, s.Below)
	case s.From != "":
		releases = "releases from " + s.From
	case s.Below != "":
		releases = "releases below " + s.Below
	}
	fmt.Fprintf(p.out, "%s  sheet %s for %s, %s\n", bold.Render(s.Device), bold.Render(s.Sheet), safe(s.Model), releases)
	fmt.Fprintf(p.out, "walk: %s\n", strings.Join(s.Walk, " › "))
	for _, t := range partTitles {
		var rows [][]string
		for _, x := range s.Parts {
			if x.Kind == t.kind {
				text := []rune(emphasisPlain(x.Text))
				if room := max(p.width-64, 30); len(text) > room {
					text = append(text[:room], '…')
				}
				rows = append(rows, []string{"  " + x.Name, string(text), faint.Render(fmt.Sprintf("%s:%d", x.File, x.Line))})
			}
		}
		if len(rows) > 0 {
			fmt.Fprintln(p.out, "\n"+faint.Render(t.title))
			p.table(make([]string, 3), rows)
		}
	}
}

var nameShape = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (p *program) sheetNew() *cobra.Command {
	var from, name, file string
	c := &cobra.Command{Use: "new", Short: "Write a commented draft of a sheet for an unrecognised device", Args: cobra.NoArgs,
		Long: `Writes a commented draft of a sheet to standard output, or with --out to a new
file. With --from it starts from what was seen of a device that no sheet fits;
earlybench rack lists those, with names such as unknown-1. Given the directory of
an adapter, it starts from the facts that the adapter declares.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if !nameShape.MatchString(name) {
				return usage("--name %q: write a lower-case letter, then letters, digits and hyphens", name)
			}
			text, err := p.draft(c, name, from)
			if err != nil {
				return err
			}
			if file == "" {
				fmt.Fprint(p.out, text)
				return nil
			}
			f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
			if errors.Is(err, os.ErrExist) {
				return usage("%s already exists; choose another file", file)
			}
			if err != nil {
				return fmt.Errorf("write the sheet: %w", err)
			}
			defer f.Close()
			if _, err := f.WriteString(text); err != nil {
				return fmt.Errorf("write the sheet: %w", err)
			}
			fmt.Fprintf(p.err, "Written. Complete it as its comments say, then: earlybench sheet check %s\n", file)
			return nil
		}}
	c.Flags().StringVar(&from, "from", "", "start from what was seen of this device, such as unknown-1, or from the adapter in this directory")
	c.Flags().StringVar(&name, "name", "newcomer", "name of the family")
	c.Flags().StringVar(&file, "out", "", "write to this new file")
	return c
}

// draft is the start of a sheet from what was seen of a device, or what an adapter says.
func (p *program) draft(c *cobra.Command, name, from string) (string, error) {
	if from == "" {
		return sheet.Draft(sheet.Seen{Name: name}), nil
	}
	if _, err := os.Stat(filepath.Join(from, adapter.ManifestName)); err == nil {
		w, err := adapter.Greet(c.Context(), from, fenced)
		if err != nil {
			return "", err
		}
		var told []sheet.DeclaredFact
		for _, f := range w.Facts {
			told = append(told, sheet.DeclaredFact{Key: f.Key, Type: f.Type})
		}
		return sheet.DraftForAdapter(name, told), nil
	}
	x, err := p.unrecognised(c, from)
	if err != nil {
		return "", err
	}
	return sheet.Draft(sheet.Seen{Name: name, USB: x.USB, Interfaces: x.Interfaces, Where: x.Port + " of " + x.Host}), nil
}

// unrecognised finds what no sheet fits, by its name.
func (p *program) unrecognised(c *cobra.Command, name string) (client.Unrecognised, error) {
	b, err := p.bench()
	if err != nil {
		return client.Unrecognised{}, err
	}
	all, err := b.Unrecognised(c.Context())
	if err != nil {
		return client.Unrecognised{}, err
	}
	var names []string
	for _, x := range all {
		if x.Name == name {
			return x, nil
		}
		names = append(names, x.Name)
	}
	if len(names) == 0 {
		return client.Unrecognised{}, usage("--from %s: everything that is connected here fits a sheet", name)
	}
	return client.Unrecognised{}, usage("--from %s: not found; there are %s", name, strings.Join(names, ", "))
}

func (p *program) sheetAdd() *cobra.Command {
	return &cobra.Command{Use: "add FILE", Short: "Check a sheet and add it to the running bench", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return usage("read the sheet: %w", err)
			}
			if wrong := p.checkSheets(args); wrong != nil {
				return wrong
			}
			added, err := b.AddSheet(c.Context(), string(raw))
			if err != nil {
				return err
			}
			if len(added.Trouble) > 0 {
				p.printRefused(added.Trouble)
				return &exitError{exitFailed, "It was added, and becomes active once this is fixed: " + added.File}
			}
			fmt.Fprintf(p.err, "It is active. You can edit it here; changes apply at once: %s\n", added.File)
			return nil
		}}
}

func (p *program) sheetDrop() *cobra.Command {
	return &cobra.Command{Use: "drop SHEET", Short: "Remove a sheet that was added, by its name", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if err := b.DropSheet(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintln(p.err, "Dropped.")
			return nil
		}}
}
