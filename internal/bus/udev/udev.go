// Package udev keeps the one rules file of udev that the bench owns: which devices of this
// computer it may open. It never reads or changes another one.
package udev

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/replace"
)

// FileName is the bench's rules file. Rules of 73 and above act on the tag uaccess.
const FileName = "70-earlybench.rules"

// Dir is where people put rules files.
const Dir = "/etc/udev/rules.d"

// Rules is the rules file. All fields are needed, except Access, whose zero value opens nodes
// for root only.
type Rules struct {
	Dir    string        // where it is
	Spare  string        // a directory of the bench's own, for a file that somebody else has to install
	Sys    string        // where the system shows its devices
	Access driver.Access // who may open the nodes
}

func (r *Rules) path() string { return filepath.Join(r.Dir, FileName) }

// Text is the file as it is; "" if there is none.
func (r *Rules) Text() (string, error) {
	raw, err := os.ReadFile(r.path())
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("read the rules file: %w", err)
	}
	return string(raw), nil
}

// Plan is a change of the rules file.
type Plan struct {
	Path       string
	Text       string // "" removes the file
	Difference string // in the unified format; "" for none
	Blocked    error  // why the bench cannot make it itself; nil if it can
}

// Plan makes the file that rules give, and compares it with the one there is.
func (r *Rules) Plan(rules []driver.Rule) (Plan, error) {
	p := Plan{Path: r.path()}
	if len(rules) > 0 {
		text, err := driver.Rules(rules, r.Access)
		if err != nil {
			return p, err
		}
		p.Text = text
	}
	now, err := r.Text()
	if err != nil {
		return p, err
	}
	if now == p.Text {
		return p, nil
	}
	p.Difference, err = difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: lines(now), B: lines(p.Text), FromFile: p.Path, ToFile: p.Path, Context: 2})
	if err == nil {
		p.Blocked = r.mayWrite()
	}
	return p, err
}

func lines(text string) []string {
	if text == "" {
		return nil
	}
	return difflib.SplitLines(strings.TrimSuffix(text, "\n"))
}

// mayWrite is an error if the bench lacks the right to write the file.
func (r *Rules) mayWrite() error {
	f, err := os.CreateTemp(r.Dir, ".earlybench-*") // not read by udev, since its name does not end with .rules
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// Apply makes a planned change. If the bench lacks the right, it puts the file where it may,
// and the error says the line with which somebody else makes the change.
func (r *Rules) Apply(p Plan) error {
	if p.Text == "" {
		if err := os.Remove(p.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return blocked(err, "sudo rm "+p.Path)
		}
		return nil
	}
	if err := write(r.Dir, p.Text); err != nil {
		if werr := write(r.Spare, p.Text); werr != nil {
			return errors.Join(err, werr)
		}
		return blocked(err, fmt.Sprintf("sudo install -m 0644 %s %s && sudo udevadm control --reload && sudo udevadm trigger --subsystem-match=usb", filepath.Join(r.Spare, FileName), p.Path))
	}
	return nil
}

func blocked(err error, line string) error {
	return &problem.Problem{Kind: problem.Person, Gate: "driver", Text: fmt.Sprintf("The bench lacks the right to change its rules file: %s.", err),
		Remedy: "Run this line as somebody who has it; the bench sees when the device may be opened: " + line}
}

func write(dir, text string) error {
	return replace.File(filepath.Join(dir, FileName), []byte(text), 0o644)
}

// Trigger has the kernel tell of a device again, so that udev, which reads changed rules by
// itself, applies them to it. The bench may lack the right to; a new connection of the device
// does the same.
func (r *Rules) Trigger(busID string) error {
	if strings.ContainsAny(busID, "/\x00") || busID == "" || busID == ".." {
		return fmt.Errorf("%q is no bus id", busID)
	}
	f, err := os.OpenFile(filepath.Join(r.Sys, "bus/usb/devices", busID, "uevent"), os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("have the kernel tell of %s again: %w", busID, err)
	}
	_, err = f.WriteString("change")
	return errors.Join(err, f.Close())
}
