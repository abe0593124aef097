package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/kit"
	"earlybench.invalid/earlybench/internal/replace"
)

// kitEnv is what somebody wants to have in a shell.
type kitEnv struct {
	kit, version, shell, accept string
	install, remove             bool
}

func (p *program) kitEnvCommand() *cobra.Command {
	var e kitEnv
	c := &cobra.Command{Use: "env KIT", Short: "Print the settings that a shell needs to use a kit, or add them to every new shell", Args: cobra.ExactArgs(1),
		Example: `  eval "$(earlybench kit env go)"                                    bash, zsh
  earlybench kit env go --shell fish | source
  earlybench kit env go --shell powershell | Out-String | Invoke-Expression
  earlybench kit env go --install                                    in every new shell`,
		RunE: func(c *cobra.Command, args []string) error {
			e.kit = args[0]
			return p.kitEnv(c.Context(), e)
		}}
	c.Flags().StringVar(&e.version, "version", "", "exactly this version of the kit (default: the one that builds use)")
	c.Flags().StringVar(&e.shell, "shell", "", "bash, zsh, fish or powershell (default: the one of SHELL)")
	c.Flags().BoolVar(&e.install, "install", false, "add it to the file that every new shell reads, after showing the difference")
	c.Flags().BoolVar(&e.remove, "remove", false, "remove it from that file again, after showing the difference")
	c.Flags().StringVar(&e.accept, "accept", "", "digest of the difference that you accept, as shown by this command")
	c.MarkFlagsMutuallyExclusive("install", "remove")
	return c
}

func (p *program) kitEnv(ctx context.Context, e kitEnv) error {
	shell, err := kit.ShellOf(shellName(e.shell))
	if err != nil {
		return usage("%w; say which with --shell", err)
	}
	if err := kit.CheckName(e.kit); err != nil {
		return usage("%w", err)
	}
	if e.remove {
		return p.changeStartup(shell, e, func(now string) (string, error) { return kit.Uninstall(now, e.kit) })
	}
	b, err := p.bench()
	if err != nil {
		return err
	}
	env, err := b.KitEnvironment(ctx, e.kit, e.version)
	if err != nil {
		return err
	}
	script, err := shell.Script(environmentOf(env))
	switch {
	case err != nil:
		return err
	case e.install:
		return p.changeStartup(shell, e, func(now string) (string, error) { return kit.Install(now, e.kit, script) })
	case p.json:
		return p.printJSON(env)
	}
	_, err = fmt.Fprint(p.out, script)
	return err
}

func shellName(given string) string {
	switch {
	case given != "":
		return given
	case os.Getenv("SHELL") != "":
		return os.Getenv("SHELL")
	case runtime.GOOS == "windows":
		return string(kit.PowerShell)
	}
	return string(kit.Bash)
}

func environmentOf(e client.KitEnvironment) kit.Environment {
	out := kit.Environment{Search: e.Search}
	for _, v := range e.Variables {
		out.Variables = append(out.Variables, kit.Variable{Name: v.Name, Value: v.Value})
	}
	return out
}

// changeStartup changes the file that every new shell of the user reads, once the
// difference was accepted.
func (p *program) changeStartup(shell kit.Shell, e kitEnv, change func(string) (string, error)) error {
	home, err := os.UserHomeDir()
	if err != nil {
		return err
	}
	path := filepath.FromSlash(shell.Startup(runtime.GOOS, filepath.ToSlash(home), os.Getenv))
	now, err := readStartup(path)
	if err != nil {
		return err
	}
	next, err := change(now)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if next == now {
		fmt.Fprintf(p.err, "%s needs no change.\n", path)
		return nil
	}
	if ok, err := p.acceptDifference(path, now, next, e.accept); !ok {
		return err
	}
	if again, err := readStartup(path); err != nil || again != now {
		return &exitError{exitFailed, path + " has changed in the meantime. Nothing was written; look at the difference again."}
	}
	if err := writeStartup(path, next); err != nil {
		return fmt.Errorf("write %s: %w; nothing was changed", path, err)
	}
	if e.remove {
		fmt.Fprintf(p.err, "New shells no longer have it. Open shells keep it until they are restarted.\n")
		return nil
	}
	fmt.Fprintf(p.err, "Every new %s has %s. Restart shells that are open, or run this in them: %s\n", shell, e.kit, once(shell, e.kit))
	return nil
}

func once(shell kit.Shell, name string) string {
	switch shell {
	case kit.Fish:
		return fmt.Sprintf("earlybench kit env %s --shell fish | source", name)
	case kit.PowerShell:
		return fmt.Sprintf("earlybench kit env %s --shell powershell | Out-String | Invoke-Expression", name)
	}
	return fmt.Sprintf(`eval "$(earlybench kit env %s)"`, name)
}

// acceptDifference shows what would be written, and reports whether it was accepted.
func (p *program) acceptDifference(path, now, next, accept string) (bool, error) {
	sum := sha256.Sum256([]byte(path + "\x00" + next))
	digest := hex.EncodeToString(sum[:])
	difference, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: slices.Collect(strings.Lines(now)), B: slices.Collect(strings.Lines(next)), FromFile: path, ToFile: path, Context: 2})
	if err != nil {
		return false, err
	}
	switch {
	case accept == digest:
		return true, nil
	case accept != "":
		return false, &exitError{exitFailed, "That is not the digest of this difference, which is " + digest + ". Nothing was written."}
	case p.json:
		if err := p.printJSON(map[string]string{"path": path, "difference": difference, "accept": digest}); err != nil {
			return false, err
		}
	default:
		fmt.Fprint(p.out, indented(difference, "  "))
	}
	if !p.terminal || p.unattended || p.json {
		return false, &exitError{exitPerson, "To write it, accept the difference: --accept " + digest}
	}
	fmt.Fprint(p.err, "\nWrite this? [y/N] ")
	if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return false, &exitError{exitPerson, "Nothing was written."}
	}
	return true, nil
}

// readStartup reads a startup file; one that does not exist is empty.
func readStartup(path string) (string, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(raw), err
}

// writeStartup replaces a startup file as a whole, with its mode; of a link, the file that
// it leads to.
func writeStartup(path, text string) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(path); err == nil {
		mode = info.Mode().Perm()
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return replace.File(path, []byte(text), mode)
}
