package store

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/replace"
)

// spanBytes is the size of the spans of a file that comes in parts.
const spanBytes = 4 << 20

// maxPartial is the largest size of such a file.
const maxPartial = 1 << 40

// spareBytes stay free on the disk, for the records.
const spareBytes = 64 << 20

// ErrOther is the error for a file that turned out to be another one than was expected.
var ErrOther = problem.New(problem.Failed, "it is not the expected file: its SHA-256 differs")

// Partial is a file that comes in parts, in any order, and goes on where it was after the
// service has ended. It is made by [Files.Begin]; its methods may be called from any
// goroutine.
//
// Beside its bytes stands a map: for each span four bytes with how many of its bytes are
// there, from its beginning. A span that is whole has been synced before the map says so. The
// counts of the others hold as long as the computer runs, which the map's head identifies.
type Partial struct {
	files  Files
	digest string
	size   int64
	data   *os.File
	counts *os.File

	mu     sync.Mutex
	have   []int64 // bytes of each span
	taken  []bool  // somebody fetches it now
	closed bool
	grown  sync.Cond // have has changed, or it was closed

	hashing chan struct{} // closed when sum is set, or it was closed
	sum     string
}

// A Span is a part of a file that one worker fetches: the bytes from From up to To.
type Span struct {
	From, To int64
	n        int
}

const mapHead = 40 // bytes of the map before its counts

// Begin starts to store a file with a digest and size, or continues it. There must be room
// for it on the disk. A file is kept by one caller at a time. The error is [fs.ErrExist] if
// the file is there.
func (f Files) Begin(digest string, size int64) (*Partial, error) {
	if raw, err := hex.DecodeString(digest); err != nil || len(raw) != sha256.Size || size <= 0 || size > maxPartial {
		return nil, fmt.Errorf("a file with the digest %.80q and %d bytes cannot be saved", digest, size)
	}
	if _, err := os.Stat(f.Path(digest)); err == nil {
		return nil, fs.ErrExist
	}
	if err := os.MkdirAll(f.Dir, 0o700); err != nil {
		return nil, err
	}
	p := &Partial{files: f, digest: digest, size: size, hashing: make(chan struct{})}
	p.grown.L = &p.mu
	n := int((size + spanBytes - 1) / spanBytes)
	p.have, p.taken = make([]int64, n), make([]bool, n)
	if err := p.open(); err != nil {
		return nil, errors.Join(fmt.Errorf("keep a file that comes in parts: %w", err), p.close())
	}
	if err := f.room(size - p.Bytes()); err != nil {
		return nil, errors.Join(err, p.close())
	}
	go p.hash()
	return p, nil
}

// room is an error if the disk does not have room for that many more bytes.
func (f Files) room(bytes int64) error {
	free, err := Free(f.Dir)
	if err != nil || free >= bytes+spareBytes { // where free space is not known, the write itself says it
		return nil
	}
	return &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("There is not enough disk space: %d MB are needed, %d MB are free in %s.", (bytes+spareBytes)>>20, free>>20, f.Dir),
		Remedy: "Free some space there, then try again. What has already arrived is kept."}
}

func (f Files) partialPath(digest string) string { return filepath.Join(f.Dir, ".part-"+digest) }

func (p *Partial) open() (err error) {
	path := p.files.partialPath(p.digest)
	if p.data, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return err
	}
	if p.counts, err = os.OpenFile(path+".map", os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return err
	}
	head := make([]byte, mapHead)
	copy(head[8:], runOfComputer())
	binary.BigEndian.PutUint64(head, uint64(p.size))
	before := make([]byte, mapHead)
	_, err = io.ReadFull(p.counts, before)
	known := err == nil && binary.BigEndian.Uint64(before) == uint64(p.size)
	same := known && string(before) == string(head) && head[8] != 0
	if known {
		err = p.read(same)
	}
	if err != nil || !known { // there is no map, or no whole one
		clear(p.have)
		if err = p.counts.Truncate(0); err == nil {
			err = p.counts.Truncate(mapHead + 4*int64(len(p.have)))
		}
	}
	if err == nil && !same {
		_, err = p.counts.WriteAt(head, 0)
	}
	return err
}

// read reads the map's counts; if the computer was started again since, only those of whole
// spans count.
func (p *Partial) read(same bool) error {
	raw := make([]byte, 4*len(p.have))
	if _, err := io.ReadFull(p.counts, raw); err != nil {
		return err
	}
	info, err := p.data.Stat()
	if err != nil {
		return err
	}
	for i := range p.have {
		n := int64(binary.BigEndian.Uint32(raw[4*i:]))
		s := p.span(i)
		if n > s.To-s.From || s.From+n > info.Size() || !same && n < s.To-s.From {
			n = 0
		}
		p.have[i] = n
	}
	return nil
}

func (p *Partial) span(i int) Span {
	from := int64(i) * spanBytes
	return Span{From: from, To: min(from+spanBytes, p.size), n: i}
}

// Size is the size of the whole file, in bytes.
func (p *Partial) Size() int64 { return p.size }

// Bytes is how many bytes are there.
func (p *Partial) Bytes() (sum int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, n := range p.have {
		sum += n
	}
	return sum
}

// Take takes the next span of which bytes are missing and that nobody else has taken; false
// if there is none. It is given back with [Partial.Leave].
func (p *Partial) Take() (Span, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, n := range p.have {
		if s := p.span(i); !p.taken[i] && n < s.To-s.From && !p.closed {
			p.taken[i] = true
			s.From += n
			return s, true
		}
	}
	return Span{}, false
}

// Leave gives a span back.
func (p *Partial) Leave(s Span) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.taken[s.n] = false
}

// Write stores the next bytes of a span that was taken, and moves its beginning. Bytes past
// its end are an error.
func (p *Partial) Write(s *Span, b []byte) error {
	if int64(len(b)) > s.To-s.From {
		return fmt.Errorf("%d bytes are past the end of the range", int64(len(b))-(s.To-s.From))
	}
	if _, err := p.data.WriteAt(b, s.From); err != nil {
		return fmt.Errorf("keep a part of a file: %w", err)
	}
	s.From += int64(len(b))
	if s.From == s.To {
		if err := p.data.Sync(); err != nil {
			return fmt.Errorf("keep a part of a file: %w", err)
		}
	}
	n := s.From - int64(s.n)*spanBytes
	if _, err := p.counts.WriteAt(binary.BigEndian.AppendUint32(nil, uint32(n)), mapHead+4*int64(s.n)); err != nil {
		return fmt.Errorf("keep a part of a file: %w", err)
	}
	p.mu.Lock()
	p.have[s.n] = n
	p.mu.Unlock()
	p.grown.Broadcast()
	return nil
}

// hash reads what is there from the beginning, as it grows, so that the digest is known soon
// after the last byte has come.
func (p *Partial) hash() {
	defer close(p.hashing)
	h := sha256.New()
	buf := make([]byte, 256<<10)
	for i := range p.have {
		s := p.span(i)
		for at := s.From; at < s.To; {
			n := p.await(i, at-s.From)
			if n == 0 {
				return
			}
			got, err := p.data.ReadAt(buf[:min(n, int64(len(buf)))], at)
			if err != nil && got == 0 {
				return
			}
			h.Write(buf[:got])
			at += int64(got)
		}
	}
	p.sum = hex.EncodeToString(h.Sum(nil))
}

// await waits until a span has more bytes than done, and returns how many more; 0 if it was
// closed.
func (p *Partial) await(i int, done int64) int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.have[i] <= done && !p.closed {
		p.grown.Wait()
	}
	if p.closed {
		return 0
	}
	return p.have[i] - done
}

// Finish checks the whole file's digest and puts it in its place. A file with another digest
// is dropped, and the error is [ErrOther].
func (p *Partial) Finish() error {
	if n := p.Bytes(); n != p.size {
		return fmt.Errorf("only %d of %d bytes have arrived", n, p.size)
	}
	<-p.hashing
	path := p.files.partialPath(p.digest)
	switch {
	case p.sum == "":
		return errors.Join(errors.New("read the file again to check it"), p.close())
	case p.sum != p.digest:
		return errors.Join(ErrOther, p.close(), os.Remove(path), os.Remove(path+".map"))
	}
	err := errors.Join(p.data.Sync(), p.close())
	if err == nil {
		err = replace.Move(path, p.files.Path(p.digest))
	}
	if err != nil {
		return fmt.Errorf("keep a file: %w", err)
	}
	return os.Remove(path + ".map")
}

// Close ends it; the bytes received so far are kept.
func (p *Partial) Close() error {
	err := p.close()
	<-p.hashing
	return err
}

func (p *Partial) close() error {
	p.mu.Lock()
	was := p.closed
	p.closed = true
	p.mu.Unlock()
	if was {
		return nil
	}
	p.grown.Broadcast()
	var errs []error
	for _, f := range []*os.File{p.data, p.counts} {
		if f != nil {
			errs = append(errs, f.Close())
		}
	}
	return errors.Join(errs...)
}

// Coming returns how many bytes of a file that comes in parts are there; false if nothing of
// it is.
func (f Files) Coming(digest string) (int64, bool) {
	raw, err := os.ReadFile(f.partialPath(digest) + ".map")
	if err != nil || len(raw) < mapHead {
		return 0, false
	}
	var sum int64
	for c := raw[mapHead:]; len(c) >= 4; c = c[4:] {
		sum += int64(binary.BigEndian.Uint32(c))
	}
	return sum, sum > 0
}

// Drop removes a file, and what has come of it.
func (f Files) Drop(digest string) error {
	if err := os.Remove(f.Path(digest)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove a file: %w", err)
	}
	return f.dropPartial(digest)
}

func (f Files) dropPartial(digest string) error {
	for _, p := range []string{f.partialPath(digest), f.partialPath(digest) + ".map"} {
		if err := os.Remove(p); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("remove what has come of a file: %w", err)
		}
	}
	return nil
}

// runOfComputer tells one run of the computer from the next, in at most 32 bytes; "" where
// the system does not say.
func runOfComputer() string {
	raw, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	id := strings.ReplaceAll(strings.TrimSpace(string(raw)), "-", "")
	return id[:min(len(id), mapHead-8)]
}
