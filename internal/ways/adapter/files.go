package adapter

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Bounds of an adapter's directory.
const (
	mostFiles = 2000
	mostBytes = 256 << 20
)

// walk calls f for each file of an adapter, in order. Links and other special files are refused.
func walk(dir string, f func(path string, info fs.FileInfo) error) error {
	files, bytes := 0, int64(0)
	return filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		path, err := filepath.Rel(dir, name)
		if err != nil {
			return err
		}
		files++
		bytes += info.Size()
		switch {
		case !info.Mode().IsRegular():
			return fmt.Errorf("%s is not a regular file", path)
		case files > mostFiles || bytes > mostBytes:
			return fmt.Errorf("it has more than %d files, or %d bytes", mostFiles, mostBytes)
		}
		return f(path, info)
	})
}

// digestTree is the digest of an adapter's files: their names, whether they are programs, and what they hold.
func digestTree(dir string) (string, error) {
	all := sha256.New()
	err := walk(dir, func(path string, info fs.FileInfo) error {
		f, err := os.Open(filepath.Join(dir, path))
		if err != nil {
			return err
		}
		defer f.Close()
		h := sha256.New()
		if _, err := io.Copy(h, f); err != nil {
			return err
		}
		fmt.Fprintf(all, "%x %t %d %s\n", h.Sum(nil), info.Mode()&0o100 != 0, len(path), path)
		return nil
	})
	return hex.EncodeToString(all.Sum(nil)), err
}

// copyTree copies an adapter's files.
func copyTree(from, to string) error {
	return walk(from, func(path string, info fs.FileInfo) error {
		in, err := os.Open(filepath.Join(from, path))
		if err != nil {
			return err
		}
		defer in.Close()
		mode := fs.FileMode(0o600)
		if info.Mode()&0o100 != 0 {
			mode = 0o700
		}
		name := filepath.Join(to, path)
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			return err
		}
		out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if err != nil {
			return err
		}
		_, err = io.Copy(out, io.LimitReader(in, mostBytes))
		return errors.Join(err, out.Close())
	})
}
