package state

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"earlybench.invalid/earlybench/internal/replace"
	"golang.org/x/crypto/ssh"
)

// Keys are the bench's own keys. Each is created when it is first read, and kept in a
// file that only its owner can read.
type Keys struct {
	Link ssh.Signer // bench.key: who the bench is on a device link
}

// ReadKeys reads the keys of a state directory.
func ReadKeys(dir string) (k Keys, err error) {
	k.Link, err = linkKey(dir)
	return k, err
}

// linkKey is an Ed25519 key in OpenSSH's format.
func linkKey(dir string) (ssh.Signer, error) {
	raw, file, err := readOrMake(dir, "bench.key", func() ([]byte, error) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(key, "earlybench")
		if err != nil {
			return nil, err
		}
		return pem.EncodeToMemory(block), nil
	})
	if err != nil {
		return nil, err
	}
	s, err := ssh.ParsePrivateKey(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return s, nil
}

// readOrMake reads a key's file or creates it. If two programs create it at once, the
// first one's is kept.
func readOrMake(dir, name string, make func() ([]byte, error)) (raw []byte, file string, err error) {
	file = filepath.Join(dir, name)
	raw, err = os.ReadFile(file)
	if !errors.Is(err, fs.ErrNotExist) {
		if err != nil {
			err = fmt.Errorf("read the key: %w", err)
		}
		return raw, file, err
	}
	if raw, err = make(); err != nil {
		return nil, file, err
	}
	if err := keepKey(file, raw); err != nil {
		return nil, file, fmt.Errorf("keep the key: %w", err)
	}
	raw, err = os.ReadFile(file)
	return raw, file, err
}

// keepKey writes a key's file completely or not at all; an existing file is kept.
func keepKey(file string, raw []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".key-*") // for its owner only
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) //nolint:errcheck // the name under which it stays is another
	_, err = f.Write(raw)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Link(f.Name(), file); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return replace.SyncDir(filepath.Dir(file))
}
