package kitfetch

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/kit"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/strict"
	"earlybench.invalid/earlybench/internal/store"
)

// This file gives kits to peers.

// listed is a copy of a kit whose files were read.
type listed struct {
	dir   string
	state string // of the directory, to see whether anything has changed
	raw   []byte // the listing
	of    kit.Listing
	sum   string // SHA-256 of the listing
}

// Handles reports whether a method is one of these.
func Handles(method string) bool { return method == core.MethodKit }

// answerWithin is how long reading the files of a kit may take before the peer is told to ask again.
const answerWithin = 5 * time.Second

// errHidden is the same for a kit that a peer may not have and for one that does not exist.
func errHidden(name string) error {
	return problem.Errorf(problem.NotFound, "no kit %.40q is shared with you", name)
}

// Call answers a peer.
func (f *Fetching) Call(ctx context.Context, from store.Peer, _ string, params json.RawMessage) (any, error) {
	var in core.LookAtKit
	if err := strict.JSON(params, &in); err != nil {
		return nil, problem.Errorf(problem.Invalid, "the request cannot be read: %w", err)
	}
	if !slices.Contains(from.Rights.Kits, in.Kit) {
		return nil, errHidden(in.Kit)
	}
	need := kit.Need{Name: in.Kit, From: fact.Release(in.From), Below: fact.Release(in.Below)}
	if err := need.Check(); err != nil {
		return nil, problem.Errorf(problem.Invalid, "%w", err)
	}
	chosen, err := f.cfg.Kits.Choose(ctx, need)
	if err != nil { // its text says more of this computer than a peer is to know
		return nil, problem.Errorf(problem.Blocked, "there is no complete %s here, only %s", need, f.versions(in.Kit))
	}
	read := f.read(chosen.Copy.Path)
	select {
	case <-read:
	case <-time.After(answerWithin):
		return core.LookedAtKit{Reading: true}, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	f.mu.Lock()
	l := f.listed[chosen.Copy.Path]
	f.mu.Unlock()
	if l == nil {
		return nil, problem.Errorf(problem.Unavailable, "the files of %s cannot be read", in.Kit)
	}
	return core.LookedAtKit{Version: string(chosen.Copy.Version), Description: f.cfg.Kits.Text(in.Kit), Listing: l.sum, Size: int64(len(l.raw)), Bytes: l.of.Size(), Files: len(l.of.Files)}, nil
}

// versions are the versions of the complete copies of a kit, in words.
func (f *Fetching) versions(name string) string {
	var all []string
	for _, k := range f.cfg.Kits.All() {
		for _, c := range k.Copies {
			if k.Name == name && c.Wrong() == "" {
				all = append(all, cmp.Or(string(c.Version), "one without a version"))
			}
		}
	}
	return cmp.Or(strings.Join(all, " and "), "copies that are not complete")
}

// read reads the files of a copy, unless that goes on or nothing has changed; the channel is closed then.
func (f *Fetching) read(dir string) <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	if done := f.reading[dir]; done != nil {
		return done
	}
	done := make(chan struct{})
	f.reading[dir] = done
	before := f.listed[dir]
	f.work.Go(func() {
		l, err := list(f.ctx, dir, before)
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.listed[dir] = l; err != nil {
			delete(f.listed, dir)
			f.cfg.Log.Warn("read the files of a kit for a peer", "directory", dir, "error", err)
		}
		delete(f.reading, dir)
		close(done)
	})
	return done
}

// list reads the files of a copy. before is the last listing; nil if there is none.
func list(ctx context.Context, dir string, before *listed) (*listed, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	paths, directories, state, err := walk(root)
	if err != nil || before != nil && before.state == state {
		return before, err
	}
	l := &listed{dir: dir, state: state, of: kit.Listing{Format: 1, Directories: directories}}
	for _, p := range paths {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		one, err := listFile(root, p)
		if err != nil {
			return nil, err
		}
		l.of.Files = append(l.of.Files, one)
	}
	if l.raw, err = json.Marshal(l.of); err != nil {
		return nil, err
	}
	if _, err := kit.ParseListing(l.raw); err != nil {
		return nil, err
	}
	l.sum = bundle.Digest(l.raw)
	return l, nil
}

// walk finds the files of a copy and the directories that have none. Links to files count as these, if they do not lead out
// of the copy; state changes whenever one of them does.
func walk(root *os.Root) (paths, directories []string, state string, err error) {
	h, full := sha256.New(), map[string]bool{}
	err = fs.WalkDir(root.FS(), ".", func(p string, e fs.DirEntry, err error) error {
		if err != nil || p == "." || path.Base(p) == kit.ListingName {
			return err
		}
		full[path.Dir(p)] = true
		if e.IsDir() {
			directories = append(directories, p)
			return nil
		}
		info, err := root.Stat(p) // what a link leads to
		switch {
		case err != nil:
			return err
		case !info.Mode().IsRegular():
			return fmt.Errorf("%s is not a file or a link to one", p)
		case len(paths) == bundle.MaxFiles:
			return bundle.ErrSize
		}
		paths = append(paths, p)
		fmt.Fprintln(h, p, info.Size(), info.ModTime().UnixNano(), info.Mode())
		return nil
	})
	if directories = slices.DeleteFunc(directories, func(d string) bool { return full[d] }); len(directories) == 0 {
		directories = nil // as it is read from a listing
	}
	fmt.Fprintln(h, directories)
	return paths, directories, hex.EncodeToString(h.Sum(nil)), err
}

func listFile(root *os.Root, p string) (kit.ListedFile, error) {
	r, err := root.Open(p)
	if err != nil {
		return kit.ListedFile{}, err
	}
	defer r.Close()
	info, err := r.Stat()
	if err != nil {
		return kit.ListedFile{}, err
	}
	h := sha256.New()
	n, err := io.Copy(h, r)
	return kit.ListedFile{File: bundle.File{Path: p, SHA256: hex.EncodeToString(h.Sum(nil)), Size: n}, Executable: info.Mode()&0o100 != 0}, err
}

var errNoFile = errors.New("no such file is shared with you")

// Is reports whether a file that a peer asks for is one of a kit.
func Is(ref core.FileRef) bool { return strings.HasPrefix(ref.Of, core.OfKit) }

// File opens a file of a kit, or the listing, for a peer that may have it.
func (f *Fetching) File(_ context.Context, from store.Peer, ref core.FileRef) (io.ReadCloser, error) {
	name := strings.TrimPrefix(ref.Of, core.OfKit)
	if !slices.Contains(from.Rights.Kits, name) || ref.From < 0 {
		return nil, errNoFile
	}
	var dirs []string
	for _, k := range f.cfg.Kits.All() {
		for _, c := range k.Copies {
			if k.Name == name {
				dirs = append(dirs, c.Path)
			}
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, dir := range dirs {
		l := f.listed[dir]
		switch {
		case l == nil:
		case l.sum == ref.Digest && ref.From <= int64(len(l.raw)):
			return io.NopCloser(strings.NewReader(string(l.raw[ref.From:]))), nil
		default:
			if i := slices.IndexFunc(l.of.Files, func(x kit.ListedFile) bool { return x.SHA256 == ref.Digest }); i >= 0 {
				return open(filepath.Clean(dir), l.of.Files[i].Path, ref.From)
			}
		}
	}
	return nil, errNoFile
}

// open opens a file of a copy from a byte on. Nothing outside the copy is opened.
func open(dir, name string, from int64) (io.ReadCloser, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, errNoFile
	}
	defer root.Close()
	r, err := root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, errNoFile
	}
	if _, err := r.Seek(from, io.SeekStart); err != nil {
		r.Close()
		return nil, errNoFile
	}
	return r, nil
}
