package kit

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Shell is a shell that Early Bench writes for.
type Shell string

// The shells.
const (
	Bash       Shell = "bash"
	Zsh        Shell = "zsh"
	Fish       Shell = "fish"
	PowerShell Shell = "powershell"
)

// ShellOf returns the shell of that name, or of the program at that path.
func ShellOf(program string) (Shell, error) {
	name := strings.TrimSuffix(path.Base(strings.ReplaceAll(program, `\`, "/")), ".exe")
	switch name {
	case "bash", "sh", "dash", "ksh":
		return Bash, nil
	case "zsh":
		return Zsh, nil
	case "fish":
		return Fish, nil
	case "powershell", "pwsh":
		return PowerShell, nil
	}
	return "", fmt.Errorf("%.60q is not one of bash, zsh, fish, powershell", name)
}

// Script returns the lines that make a shell use the environment. Read again, they change
// nothing more. A value that no search path can hold is an error.
func (s Shell) Script(e Environment) (string, error) {
	var out strings.Builder
	for _, dir := range e.Search {
		if strings.ContainsAny(dir, "\n\r\x00") || s != PowerShell && strings.Contains(dir, ":") {
			return "", fmt.Errorf("%q cannot be on a search path: it contains the character that separates entries", dir)
		}
	}
	if len(e.Search) > 0 {
		out.WriteString(s.toFront(e.Search))
	}
	for _, v := range e.Variables {
		if strings.ContainsAny(v.Value, "\n\r\x00") {
			return "", fmt.Errorf("%s=%q contains a line break", v.Name, v.Value)
		}
		out.WriteString(s.set(v))
	}
	return out.String(), nil
}

// toFront puts directories to the front of the search path, unless they are there.
func (s Shell) toFront(dirs []string) string {
	words := make([]string, len(dirs))
	for i, d := range dirs {
		words[i] = s.Word(d)
	}
	switch s {
	case Fish: // fish_add_path would leave out what does not exist now
		return fmt.Sprintf("test (string join : x $PATH[1..%d]) = %s; or set -gx PATH %s $PATH\n", len(dirs), s.Word("x:"+strings.Join(dirs, ":")), strings.Join(words, " "))
	case PowerShell:
		const separator = "[IO.Path]::PathSeparator"
		front := fmt.Sprintf("((%s) -join %s) + %[2]s", strings.Join(words, ", "), separator)
		return fmt.Sprintf("if (-not ($env:PATH + %s).StartsWith(%s)) { $env:PATH = %[2]s + $env:PATH }\n", separator, front)
	}
	front := s.Word(strings.Join(dirs, ":"))
	return fmt.Sprintf("case \"$PATH:\" in %s:*) ;; *) export PATH=%[1]s:\"$PATH\" ;; esac\n", front)
}

func (s Shell) set(v Variable) string {
	switch s {
	case Fish:
		return fmt.Sprintf("set -gx %s %s\n", v.Name, s.Word(v.Value))
	case PowerShell:
		return fmt.Sprintf("$env:%s = %s\n", v.Name, s.Word(v.Value))
	}
	return fmt.Sprintf("export %s=%s\n", v.Name, s.Word(v.Value))
}

// Word writes a text as one word of the shell. PowerShell ends a text at typographic
// quotes too.
func (s Shell) Word(text string) string {
	switch s {
	case Fish:
		return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(text) + "'"
	case PowerShell:
		return "'" + strings.NewReplacer("'", "''", "‘", "‘‘", "’", "’’", "‚", "‚‚", "‛", "‛‛").Replace(text) + "'"
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_./+@%,=-]+$`)

// Argument writes a text as one argument of a command line that people read: with quotes
// only where a shell needs them.
func Argument(text string) string {
	if plainWord.MatchString(text) {
		return text
	}
	return Bash.Word(text)
}

// Startup returns the file that every new shell of a user reads. The environment is that
// of the user's shell, system is as runtime.GOOS.
func (s Shell) Startup(system, home string, getenv func(string) string) string {
	or := func(variable, usual string) string {
		if v := getenv(variable); v != "" {
			return v
		}
		return usual
	}
	switch s {
	case Zsh:
		return path.Join(or("ZDOTDIR", home), ".zshrc")
	case Fish:
		return path.Join(or("XDG_CONFIG_HOME", path.Join(home, ".config")), "fish", "config.fish")
	case PowerShell:
		if system == "windows" {
			return path.Join(home, "Documents", "PowerShell", "profile.ps1")
		}
		return path.Join(or("XDG_CONFIG_HOME", path.Join(home, ".config")), "powershell", "profile.ps1")
	}
	if system == "darwin" { // its terminals start login shells
		return path.Join(home, ".bash_profile")
	}
	return path.Join(home, ".bashrc")
}

// The lines between which a startup file holds what Early Bench wrote. Both are comments
// in every one of the shells.
func firstLine(kit string) string { return "# Kit " + kit + ", written by Early Bench: begin" }
func lastLine(kit string) string  { return "# Kit " + kit + ", written by Early Bench: end" }

// Install returns the startup file with the lines of a kit: in the place of those that it
// has of that kit, else at its end. All other lines stay as they are.
func Install(file, kit, script string) (string, error) {
	block := firstLine(kit) + "\n" + script + lastLine(kit) + "\n"
	before, after, found, err := cut(file, kit)
	if err != nil {
		return "", err
	}
	if !found {
		if before = file; before != "" && !strings.HasSuffix(before, "\n") {
			before += "\n"
		}
	}
	return before + block + after, nil
}

// Uninstall returns the startup file without the lines of a kit.
func Uninstall(file, kit string) (string, error) {
	before, after, found, err := cut(file, kit)
	if err != nil || !found {
		return file, err
	}
	return before + after, nil
}

// cut returns what is before and after the lines of a kit.
func cut(file, kit string) (before, after string, found bool, err error) {
	lines := slices.Collect(strings.Lines(file))
	is := func(want string) func(string) bool {
		return func(line string) bool { return strings.TrimRight(line, "\r\n") == want }
	}
	first, last := slices.IndexFunc(lines, is(firstLine(kit))), slices.IndexFunc(lines, is(lastLine(kit)))
	switch {
	case first < 0 && last < 0:
		return "", "", false, nil
	case first < 0 || last < first:
		return "", "", false, errors.New("the first or last comment of the lines written by Early Bench is missing: remove the rest of these lines by hand")
	}
	return strings.Join(lines[:first], ""), strings.Join(lines[last+1:], ""), true, nil
}
