package adapter

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
)

// Apps returns the apps, where the adapter can list, install and start them.
func (s *Session) Apps() (device.Apps, error) {
	for _, action := range []string{ActAppList, ActAppInstall, ActAppStart, ActAppStop, ActAppRemove} {
		if !s.adapter.Can(action) {
			return s.Bare.Apps()
		}
	}
	return apps{s}, nil
}

type apps struct{ *Session }

func (a apps) List(ctx context.Context) ([]device.App, error) {
	var list []device.App
	err := a.do(ctx, ActAppList, nil, &list, nil)
	return list, err
}

func (a apps) Offer(_ context.Context, manifest []byte, signature developer.Signature) (device.Lacks, error) {
	select {
	case <-a.done:
		return device.Lacks{}, device.ErrEnded
	default:
	}
	m, err := appfile.ParseManifest(manifest)
	if err == nil {
		err = m.CheckSignature(manifest, signature)
	}
	if err != nil {
		return device.Lacks{}, &device.Refusal{Kind: device.Unfit, Text: err.Error()}
	}
	return a.store.offer(m, manifest)
}

func (a apps) Install(ctx context.Context, digest string) error {
	install, err := a.store.unpack(digest)
	if err != nil {
		return err
	}
	return a.do(ctx, ActAppInstall, install, nil, nil)
}

func (a apps) Start(ctx context.Context, id string) (device.Started, error) {
	var started Started
	err := a.do(ctx, ActAppStart, AppRef{ID: id}, &started, nil)
	return device.Started{After: started.After}, err
}

func (a apps) Stop(ctx context.Context, id string) error {
	return a.do(ctx, ActAppStop, AppRef{ID: id}, nil, nil)
}

func (a apps) Remove(ctx context.Context, id string) error {
	return a.do(ctx, ActAppRemove, AppRef{ID: id}, nil, nil)
}

// Files returns the directory in which files of apps are given to the adapter.
func (s *Session) Files() (device.Files, error) { return files{s}, nil }

type files struct{ *Session }

func (f files) Put(ctx context.Context, dir, name string, r io.Reader, at, size int64, arrived func(int64)) error {
	select {
	case <-f.done:
		return device.ErrEnded
	default:
	}
	if dir != f.store.files() || filepath.Base(name) != name {
		return fmt.Errorf("%.80q is not a valid place for a file", dir+"/"+name)
	}
	return put(ctx, filepath.Join(dir, name), r, at, size, arrived)
}

// store is the directory in which files are given to an adapter: those of apps by their digests.
type store struct{ given string }

func (s store) files() string { return filepath.Join(s.given, "files") }

// dir is where an app is unpacked.
func (s store) dir(digest string) string { return filepath.Join(s.given, "apps", digest) }

// offer keeps a manifest, and returns which files are not there.
func (s store) offer(m *appfile.Manifest, manifest []byte) (device.Lacks, error) {
	lacks := device.Lacks{Digest: bundle.Digest(manifest), Dir: s.files()}
	if err := errors.Join(os.MkdirAll(s.files(), 0o700), os.MkdirAll(s.dir(lacks.Digest), 0o700)); err != nil {
		return lacks, fmt.Errorf("make room for the app: %w", err)
	}
	if err := os.WriteFile(filepath.Join(s.dir(lacks.Digest), appfile.ManifestName), manifest, 0o600); err != nil {
		return lacks, fmt.Errorf("keep the app's manifest: %w", err)
	}
	for _, f := range m.Files {
		if slices.ContainsFunc(lacks.Files, func(l device.Lack) bool { return l.SHA256 == f.SHA256 }) {
			continue
		}
		have := int64(0)
		if info, err := os.Lstat(filepath.Join(s.files(), f.SHA256)); err == nil && info.Mode().IsRegular() && info.Size() <= f.Size {
			have = info.Size()
		} else if err == nil {
			os.RemoveAll(filepath.Join(s.files(), f.SHA256)) //nolint:errcheck // putting it there tells
		}
		if have < f.Size || f.Size == 0 || digestOf(filepath.Join(s.files(), f.SHA256)) != f.SHA256 {
			if have == f.Size {
				have = 0
			}
			lacks.Files = append(lacks.Files, device.Lack{SHA256: f.SHA256, Size: f.Size, Have: have})
		}
	}
	return lacks, nil
}

func digestOf(name string) string {
	f, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return ""
	}
	return hex.EncodeToString(h.Sum(nil))
}

// putPiece is how much is written at a time, in bytes.
const putPiece = 256 << 10

func put(ctx context.Context, name string, r io.Reader, at, size int64, arrived func(int64)) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("give the adapter a file: %w", err)
	}
	defer f.Close()
	if err := f.Truncate(at); err != nil {
		return fmt.Errorf("give the adapter a file: %w", err)
	}
	if _, err := f.Seek(at, io.SeekStart); err != nil {
		return fmt.Errorf("give the adapter a file: %w", err)
	}
	for at < size {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n, err := io.CopyN(f, r, min(putPiece, size-at))
		if err != nil {
			return fmt.Errorf("give the adapter a file: %w", err)
		}
		at += n
		arrived(n)
	}
	return f.Close()
}

// unpack writes the files of an app as its manifest says, and returns what the adapter should install.
func (s store) unpack(digest string) (Install, error) {
	if len(digest) != 64 || strings.Trim(digest, "0123456789abcdef") != "" {
		return Install{}, fmt.Errorf("%.70q is not the digest of an app", digest)
	}
	raw, err := os.ReadFile(filepath.Join(s.dir(digest), appfile.ManifestName))
	if err != nil {
		return Install{}, errors.New("this app was not offered")
	}
	m, err := appfile.ParseManifest(raw)
	if err == nil && bundle.Digest(raw) != digest {
		err = errors.New("it is not the app that was offered")
	}
	if err != nil {
		return Install{}, fmt.Errorf("read the app's manifest again: %w", err)
	}
	root := filepath.Join(s.dir(digest), "files")
	if err := os.RemoveAll(root); err != nil {
		return Install{}, fmt.Errorf("unpack the app: %w", err)
	}
	for _, f := range m.Files {
		from, to := filepath.Join(s.files(), f.SHA256), filepath.Join(root, filepath.FromSlash(f.Path))
		if digestOf(from) != f.SHA256 {
			os.Remove(from) //nolint:errcheck // it is sent again
			return Install{}, fmt.Errorf("the file %s is incomplete; it must be sent again", f.Path)
		}
		if err := errors.Join(os.MkdirAll(filepath.Dir(to), 0o700), os.Link(from, to)); err != nil {
			return Install{}, fmt.Errorf("unpack the app: %w", err)
		}
	}
	return Install{ID: m.ID, Version: m.Version, Digest: digest, Name: m.Name, Dir: s.dir(digest), Entry: m.Entry}, nil
}
