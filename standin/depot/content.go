package depot

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"sort"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/depot"
)

// Bytes is content in memory.
type Bytes []byte

// Size is its size in bytes.
func (b Bytes) Size() int64 { return int64(len(b)) }

// Open opens it.
func (b Bytes) Open() io.ReadSeeker { return bytes.NewReader(b) }

// Digest is its SHA-256.
func (b Bytes) Digest() (string, error) { return bundle.Digest(b), nil }

// blockBytes is the size of a generated file of a pack.
const blockBytes = 4 << 20

// Generated is a support pack of about a given size whose files are made of few blocks of
// random bytes, so that it takes little memory. The bytes are the same each time.
type Generated struct {
	parts  [][]byte
	ends   []int64 // of each part
	digest func() (string, error)
}

// Generate makes a pack with the manifest p, of at least size bytes.
func Generate(p depot.Pack, size int64) (*Generated, error) {
	var seed [32]byte
	copy(seed[:], p.Name+p.Version)
	random := rand.NewChaCha8(seed)
	blocks := make([][]byte, min(4, (size+blockBytes-1)/blockBytes))
	sums := make([]string, len(blocks))
	for i := range blocks {
		blocks[i] = make([]byte, min(blockBytes, size))
		random.Read(blocks[i]) //nolint:errcheck // it never fails
		sums[i] = bundle.Digest(blocks[i])
	}
	p.Format, p.Kind, p.Files = 1, depot.Support, nil
	for at, n := int64(0), 0; at < size; at, n = at+int64(len(blocks[0])), n+1 {
		p.Files = append(p.Files, bundle.File{Path: fmt.Sprintf("part-%03d.bin", n), SHA256: sums[n%len(sums)], Size: int64(len(blocks[0]))})
	}
	raw, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return nil, err
	}
	g := &Generated{}
	g.digest = sync.OnceValues(func() (string, error) {
		h := sha256.New()
		_, err := io.Copy(h, g.Open())
		return hex.EncodeToString(h.Sum(nil)), err
	})
	return g, g.zip(raw, p.Files, blocks)
}

// zip lays out the pack's ZIP file: its blocks are referred to, not copied.
func (g *Generated) zip(manifest []byte, files []bundle.File, blocks [][]byte) error {
	z := zip.NewWriter(g)
	put := func(name string, content []byte) error {
		w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Store, Modified: time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC),
			CRC32: crc32.ChecksumIEEE(content), CompressedSize64: uint64(len(content)), UncompressedSize64: uint64(len(content))})
		if err == nil {
			err = z.Flush()
		}
		if err == nil {
			_, err = w.Write(content)
		}
		return err
	}
	if err := put(depot.PackName, manifest); err != nil {
		return err
	}
	for i, f := range files {
		if err := put("files/"+f.Path, blocks[i%len(blocks)]); err != nil {
			return err
		}
	}
	return z.Close()
}

// Write takes the next part of the ZIP file. A whole block is kept as it is.
func (g *Generated) Write(b []byte) (int, error) {
	part := b
	if len(b) < blockBytes {
		part = bytes.Clone(b)
	}
	g.parts = append(g.parts, part)
	g.ends = append(g.ends, g.Size()+int64(len(part)))
	return len(b), nil
}

// Size is its size in bytes.
func (g *Generated) Size() int64 {
	if len(g.ends) == 0 {
		return 0
	}
	return g.ends[len(g.ends)-1]
}

// ReadAt implements [io.ReaderAt].
func (g *Generated) ReadAt(b []byte, at int64) (n int, err error) {
	i := sort.Search(len(g.ends), func(i int) bool { return g.ends[i] > at })
	for n < len(b) && i < len(g.parts) {
		from := at + int64(n) - (g.ends[i] - int64(len(g.parts[i])))
		n += copy(b[n:], g.parts[i][from:])
		i++
	}
	if n < len(b) {
		err = io.EOF
	}
	return n, err
}

// Open opens it.
func (g *Generated) Open() io.ReadSeeker { return io.NewSectionReader(g, 0, g.Size()) }

// Digest is its SHA-256, which is computed once.
func (g *Generated) Digest() (string, error) { return g.digest() }
