package adapter

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// Greet starts the adapter in a directory, and returns the facts and actions that it declares. Its sheet
// does not need to exist yet.
func Greet(ctx context.Context, dir string, start Starter) (Welcome, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return Welcome{}, err
	}
	raw, err := os.ReadFile(filepath.Join(dir, ManifestName))
	if err != nil {
		return Welcome{}, fmt.Errorf("%s is not an adapter's directory: %w", dir, err)
	}
	m, err := ParseManifest(raw)
	if err != nil {
		return Welcome{}, err
	}
	base, err := os.MkdirTemp("", "adapter-greet")
	if err != nil {
		return Welcome{}, err
	}
	defer os.RemoveAll(base) //nolint:errcheck // it is a temporary one
	work, given := filepath.Join(base, "own"), filepath.Join(base, "given")
	if err := errors.Join(os.Mkdir(work, 0o700), os.Mkdir(given, 0o700)); err != nil {
		return Welcome{}, err
	}
	c := &checker{}
	p, err := start(m.Command, dir, work, given, nil, m.Rights.Connect, c.logs)
	if err != nil {
		return Welcome{}, fmt.Errorf("start the adapter: %w", err)
	}
	defer p.Close()
	a, err := Begin(ctx, p, Hello{Bench: "greet", Work: work, Given: given}, c.says)
	if err != nil {
		return Welcome{}, c.withLog(err, p)
	}
	defer a.Close()
	return a.Welcome, nil
}
