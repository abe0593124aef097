package demo

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/demo/kit"
)

// The stand-in kit: the copy that is named for the bench, and has lost a program since,
// and a newer one where every kit is looked for.
const (
	kitName    = "fell-kit"
	namedKit   = "3.1"
	foundKit   = "3.2"
	lostOfThat = "bin/fell-pack"
)

// giveKit gives the bench the kit of the second app, fellgate/muster, whose path is wrong.
// The app itself is for whoever tries the demo to add.
func (d *demo) giveKit(ctx context.Context) error {
	dir, err := appDir("muster")
	if err != nil {
		return nil // the program is not beside the demo's apps
	}
	all, err := d.client.Kits(ctx, client.Select{Where: fmt.Sprintf("kit.name == %q", kitName)})
	if err != nil {
		return fmt.Errorf("ask for the kits: %w", err)
	}
	if len(all) == 0 {
		if err := d.makeKits(ctx, dir); err != nil {
			return fmt.Errorf("make the stand-in kit: %w", err)
		}
	}
	return nil
}

func (d *demo) makeKits(ctx context.Context, app string) error {
	if err := copyKit(filepath.Join(d.cfg.State, "kits", kitName+"-"+foundKit), foundKit); err != nil {
		return err
	}
	named := filepath.Join(d.cfg.State, "standins", kitName+"-"+namedKit)
	if err := addKit(ctx, d.client, app, named, namedKit); err != nil {
		return err
	}
	return os.Remove(filepath.Join(named, filepath.FromSlash(lostOfThat)))
}

// addKit makes a copy of the stand-in kit, and names it for a bench. The app has its description.
func addKit(ctx context.Context, bench *client.Client, app, path, version string) error {
	description, err := os.ReadFile(filepath.Join(app, kitName+".yaml"))
	if err != nil {
		return err
	}
	if err := copyKit(path, version); err != nil {
		return err
	}
	_, err = bench.AddKit(ctx, client.NewKit{Name: kitName, Path: path, Description: string(description)})
	return err
}

// copyKit writes a copy of the stand-in kit.
func copyKit(to, version string) error {
	return fs.WalkDir(kit.Files, ".", func(name string, e fs.DirEntry, err error) error {
		at := filepath.Join(to, filepath.FromSlash(name))
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := kit.Files.ReadFile(name)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		return os.WriteFile(at, bytes.ReplaceAll(raw, []byte("@VERSION@"), []byte(version)), 0o755)
	})
}
