package depot

import (
	"errors"
	"fmt"
	"io"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/strict"
)

// PackName is the manifest of a support pack.
const PackName = "pack.json"

// Pack is the manifest of a support pack (.ebpack): a bundle with the files for exactly one
// OS release.
type Pack struct {
	Format  int           `json:"format"` // 1
	Kind    string        `json:"kind"`   // support
	Name    string        `json:"name"`
	Version string        `json:"version"`
	Maker   string        `json:"maker"`
	About   string        `json:"about,omitempty"`
	For     For           `json:"for"`
	Files   []bundle.File `json:"files"`
}

// Offer is the pack as an index would offer it, with the digest and size of its file.
func (p *Pack) Offer(digest string, size int64) Offer {
	made := p.For
	return Offer{Kind: Support, Name: p.Name, Version: p.Version, Maker: p.Maker, About: p.About, For: &made, File: File{Path: p.Name, SHA256: digest, Size: size}}
}

// Check returns an error for a manifest that is invalid by itself.
func (p *Pack) Check() error {
	if p.Format != 1 || p.Kind != Support {
		return fmt.Errorf("format %d of kind %.40q is not supported, only format 1 of kind support is", p.Format, p.Kind)
	}
	o := p.Offer(fmt.Sprintf("%064x", 0), 1)
	return o.check()
}

// OpenPack reads and checks the support pack in r.
func OpenPack(r io.ReaderAt, size int64) (*Pack, error) {
	var p *Pack
	_, err := bundle.Open(r, size, PackName, nil, func(raw []byte) (files []bundle.File, err error) {
		if p, err = parsePack(raw); err != nil {
			return nil, err
		}
		return p.Files, nil
	})
	return p, err
}

// ReopenPack reads the manifest of a pack whose file is known by its digest.
func ReopenPack(r io.ReaderAt, size int64) (*Pack, error) {
	b, err := bundle.Reopen(r, size, PackName)
	if err != nil {
		return nil, err
	}
	return parsePack(b.Manifest)
}

func parsePack(raw []byte) (*Pack, error) {
	p := new(Pack)
	if err := strict.JSON(raw, p); err != nil {
		return nil, err
	}
	return p, p.Check()
}

// ErrOtherPack is the error for a file that is another pack than its offer says.
var ErrOtherPack = errors.New("the file is not the support pack in the index")

// Matches returns an error if the pack is another one than an offer says.
func (p *Pack) Matches(o *Offer) error {
	if p.Name != o.Name || p.Version != o.Version || p.For.Family != o.For.Family || p.For.Release != o.For.Release {
		return fmt.Errorf("%w: %s %s for %s %s", ErrOtherPack, p.Name, p.Version, p.For.Family, p.For.Release)
	}
	return nil
}
