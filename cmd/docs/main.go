// Command docs writes the man pages and the shells' completions of the command line
// into a directory: man/ and completions/.
package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra/doc"

	"earlybench.invalid/earlybench/internal/cli"
	"earlybench.invalid/earlybench/internal/web"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "write: docs DIR")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "docs:", err)
		os.Exit(1)
	}
}

func write(dir string) error {
	man, completions := filepath.Join(dir, "man"), filepath.Join(dir, "completions")
	if err := errors.Join(os.MkdirAll(man, 0o755), os.MkdirAll(completions, 0o755)); err != nil {
		return err
	}
	root := cli.Command()
	root.DisableAutoGenTag = true
	date := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC) // the same input makes the same bytes
	if err := doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Early Bench " + web.Version, Date: &date}, man); err != nil {
		return fmt.Errorf("write the man pages: %w", err)
	}
	return errors.Join(
		root.GenBashCompletionFileV2(filepath.Join(completions, "earlybench.bash"), true),
		root.GenZshCompletionFile(filepath.Join(completions, "_earlybench")),
		root.GenFishCompletionFile(filepath.Join(completions, "earlybench.fish"), true))
}
