package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/internal/backup"
	"earlybench.invalid/earlybench/internal/state"
)

func (p *program) backupCommand() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Save everything that the bench keeps in one file, and restore it",
		Long: `A backup contains the records, the bench's key, the encrypted safe, the files of
apps, driver sets and support packs, and your own sheets, but not kits. Keep it
where only you can read it: whoever has the bench's key can pose as this bench.`,
		Example: "earlybench backup make /mnt/stick/moor-desk.ebbackup\nearlybench backup check /mnt/stick/moor-desk.ebbackup\nearlybench backup restore /mnt/stick/moor-desk.ebbackup"}
	c.AddCommand(p.backupMake(), p.backupCheck(), p.backupRestore())
	return c
}

func (p *program) backupMake() *cobra.Command {
	return &cobra.Command{Use: "make FILE", Short: "Write a backup while the bench runs", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			file, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			j, err := b.MakeBackup(c.Context(), file)
			if err != nil {
				return err
			}
			if _, err = p.follow(c.Context(), b, j); err != nil {
				return err
			}
			index, err := readBackup(c.Context(), file) // what a disk has taken it may not give back
			if err != nil {
				return err
			}
			return p.printBackup(file, index)
		}}
}

func (p *program) sayDamaged(names []string) {
	for _, name := range names {
		fmt.Fprintf(p.err, "%s was already damaged when the backup was made, and cannot be restored.\n", safe(name))
	}
}

func (p *program) backupCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE", Short: "Check that a backup is complete, and show what is in it", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			index, err := readBackup(c.Context(), args[0])
			if err != nil {
				return err
			}
			return p.printBackup(args[0], index)
		}}
}

func readBackup(ctx context.Context, name string) (backup.Index, error) {
	f, err := os.Open(name)
	if err != nil {
		return backup.Index{}, usage("%w", err)
	}
	defer f.Close()
	return backup.Read(ctx, f)
}

func (p *program) printBackup(file string, i backup.Index) error {
	if p.json {
		return p.printJSON(i)
	}
	fmt.Fprintf(p.out, "%s is complete: a backup of %s, made %s by version %s: %d files, %s.\n", safe(file), safe(i.Bench), i.Made.Local().Format("2006-01-02 15:04:05"), safe(i.Program), len(i.Files), bytesText(i.Bytes()))
	p.sayDamaged(i.Damaged())
	return nil
}

func (p *program) backupRestore() *cobra.Command {
	yes := false
	c := &cobra.Command{Use: "restore FILE", Short: "Restore a backup, while the bench is not running", Args: cobra.ExactArgs(1),
		Long: `Checks the whole backup, moves aside what the state directory contains now, and puts the
backup in its place. Nothing is deleted. If this is interrupted, the next start of the
bench completes it.`,
		RunE: func(c *cobra.Command, args []string) error {
			dir, err := state.Dir(p.state)
			if err != nil {
				return err
			}
			index, err := readBackup(c.Context(), args[0])
			if err != nil {
				return err
			}
			release, err := state.Lock(dir)
			if err != nil {
				return err
			}
			defer release()
			if !yes {
				question := fmt.Sprintf("This replaces what is in %[3]s by the backup of %[1]s from %[2]s. What is there now is moved aside.", safe(index.Bench), index.Made.Local().Format("2006-01-02 15:04:05"), dir)
				if err := p.askFirst(question); err != nil {
					return err
				}
			}
			f, err := os.Open(args[0])
			if err != nil {
				return usage("%w", err)
			}
			defer f.Close()
			index, before, err := backup.Restore(c.Context(), f, dir, time.Now())
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(map[string]any{"state": dir, "before": before, "files": len(index.Files), "made": index.Made})
			}
			fmt.Fprintf(p.out, "Restored in %s: %d files of %s, as they were on %s.\n", dir, len(index.Files), safe(index.Bench), index.Made.Local().Format("2006-01-02 15:04:05"))
			if before != "" {
				fmt.Fprintf(p.out, "What was there before is in %s. Delete it once everything works.\n", before)
			}
			p.sayDamaged(index.Damaged())
			return nil
		}}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
