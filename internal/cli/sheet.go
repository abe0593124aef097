package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/sheets"
)

func (p *program) sheetCommand() *cobra.Command {
	c := &cobra.Command{Use: "sheet", Short: "Prep sheets: what each family, maker and model needs", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		lib, err := sheet.Load(sheets.Files)
		if err != nil {
			return err
		}
		type row struct {
			Sheet string `json:"sheet"`
			Maker string `json:"maker"`
			Model string `json:"model"`
			Code  string `json:"code"`
			USB   string `json:"usb"`
			Steps int    `json:"steps"`
		}
		var items []row
		for _, s := range lib.Sheets() {
			items = append(items, row{s.Name, s.Maker, s.Model.Name, s.Model.Code, s.USB.String(), len(s.Steps)})
		}
		return printList(p, items, func(items []row) {
			var rows [][]string
			for _, r := range items {
				rows = append(rows, []string{r.Sheet, r.Maker, r.Model, r.Code, r.USB, fmt.Sprint(r.Steps)})
			}
			table(p.out, []string{"sheet", "maker", "model", "code", "usb", "steps"}, rows)
		})
	}}
	c.AddCommand(&cobra.Command{Use: "check FILE...", Short: "Say what is wrong in sheets, and where", Args: cobra.MinimumNArgs(1),
		Long: `Checks sheets together with those that come with Early Bench: one of the same
name takes the place of that. Every mistake is named with file, line and column.`,
		RunE: func(_ *cobra.Command, args []string) error { return p.checkSheets(args) }})
	return c
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
	if len(wrong) == 0 {
		fmt.Fprintf(p.out, "%s: nothing is wrong; %d models in all\n", strings.Join(names, ", "), len(lib.Sheets()))
		return nil
	}
	for _, e := range wrong {
		fmt.Fprintf(p.out, "%s %s\n", bold.Render(fmt.Sprintf("%s:%d:%d:", e.File, e.Line, e.Col)), safe(e.Text))
		if lines := bytes.Split(files[e.File], []byte("\n")); e.Line <= len(lines) {
			line := safe(strings.ReplaceAll(string(lines[e.Line-1]), "\t", " "))
			fmt.Fprintf(p.out, "    %s\n    %s%s\n", line, strings.Repeat(" ", min(max(e.Col-1, 0), len(line))), lamp.Render("^"))
		}
		if e.Hint != "" {
			fmt.Fprintf(p.out, "    %s\n", safe(e.Hint))
		}
	}
	if len(wrong) == 1 {
		return &exitError{exitFailed, "One mistake."}
	}
	return &exitError{exitFailed, fmt.Sprintf("%d mistakes.", len(wrong))}
}
