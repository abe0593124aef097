package kit

import (
	"errors"
	"fmt"
	"path"
	"strings"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/strict"
)

// ListingName is the file in which a copy that was fetched has its listing. It is not part of the kit.
const ListingName = ".earlybench-kit.json"

// Listing is all that a copy of a kit consists of.
type Listing struct {
	Format      int          `json:"earlybench_kit"` // 1
	Files       []ListedFile `json:"files"`          // in order of their paths
	Directories []string     `json:"directories,omitempty"`
}

// ListedFile is one file of a copy.
type ListedFile struct {
	bundle.File
	Executable bool `json:"executable,omitempty"`
}

// MaxListing is the size of the largest listing, in bytes.
const MaxListing = 8 << 20

// ParseListing reads a listing. Everything in it lies in the copy, and nothing in something that is a file.
func ParseListing(raw []byte) (*Listing, error) {
	l := &Listing{}
	if len(raw) > MaxListing {
		return nil, errors.New("the listing of the kit is too large")
	}
	if err := strict.JSON(raw, l); err != nil {
		return nil, err
	}
	if l.Format != 1 {
		return nil, fmt.Errorf("format %d of the listing is not supported, only format 1 is", l.Format)
	}
	return l, l.check()
}

func (l *Listing) check() error {
	if len(l.Files) == 0 || len(l.Files)+len(l.Directories) > bundle.MaxFiles {
		return fmt.Errorf("a kit must have 1 to %d files", bundle.MaxFiles)
	}
	files, total := map[string]bool{}, int64(0)
	for _, f := range l.Files {
		if err := f.Check(); err != nil {
			return err
		}
		if err := checkListed(f.Path); err != nil {
			return err
		}
		name := strings.ToLower(f.Path) // on some systems they are the same
		if files[name] {
			return fmt.Errorf("it contains %.80q twice", f.Path)
		}
		files[name] = true
		total += f.Size
	}
	if total > bundle.MaxBytes {
		return bundle.ErrSize
	}
	for _, d := range l.Directories {
		if err := checkListed(d); err != nil {
			return err
		}
		if files[strings.ToLower(d)] {
			return fmt.Errorf("%.80q is a file and a directory", d)
		}
	}
	for name := range files {
		for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
			if files[dir] {
				return fmt.Errorf("%.80q is a file and a directory", dir)
			}
		}
	}
	return nil
}

func checkListed(p string) error {
	if err := bundle.CheckPath(p); err != nil {
		return err
	}
	if checkInside(p) != nil || path.Base(p) == ListingName {
		return fmt.Errorf("%.80q is not a valid path in a kit", p)
	}
	return nil
}

// Size is how many bytes all files have.
func (l *Listing) Size() (n int64) {
	for _, f := range l.Files {
		n += f.Size
	}
	return n
}
