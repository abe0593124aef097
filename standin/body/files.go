package body

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path"
	"sync"
	"sync/atomic"

	"github.com/pkg/sftp"
)

// Files receives the files of offered apps. They are written to incoming, named by their
// digests; nothing else can be read or written.
func (b *Body) Files() sftp.Handlers {
	h := files{b}
	return sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h}
}

type files struct{ b *Body }

func (f files) local(name string) (string, error) {
	if path.Dir(name) != incoming || !isDigest(path.Base(name)) {
		return "", os.ErrPermission
	}
	return f.b.filePath(path.Base(name)), nil
}

func (f files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	p, err := f.local(r.Filepath)
	if err != nil {
		return nil, err
	}
	f.b.endUpload(p) // of a link that is lost, and has not noticed it yet
	w, err := os.OpenFile(p, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := w.Stat()
	if err != nil {
		w.Close()
		return nil, err
	}
	u := &upload{File: w, whole: info.Size(), ahead: map[int64]int64{}, more: make(chan struct{}, 1), hashed: make(chan struct{})}
	u.refused = f.b.isResting
	u.checked = func(sum string) { f.b.checked(path.Base(p), sum) }
	u.received = &f.b.received
	u.gone = func() { f.b.uploads.CompareAndDelete(p, u) }
	f.b.uploads.Store(p, u)
	go u.hash()
	return u, nil
}

// endUpload ends the upload of a file that goes on, if there is one: the file then has what had
// arrived without a gap.
func (b *Body) endUpload(file string) {
	if u, ok := b.uploads.LoadAndDelete(file); ok {
		u.(*upload).supersede()
	}
}

// Received is how many bytes of files it has received so far, be it again or not.
func (b *Body) Received() int64 { return b.received.Load() }

func (b *Body) isResting() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.resting
}

// upload is a file being received. Parts may arrive out of order; when the upload ends,
// only the bytes up to the first gap are kept, so that the file's size says where to
// continue. The digest is computed meanwhile, in a goroutine of its own.
type upload struct {
	*os.File
	checked func(sum string) // told the digest of what is whole at the end
	refused func() bool      // no more is taken just now

	received *atomic.Int64 // bytes of all uploads
	gone     func()        // told when it has ended

	mu    sync.Mutex
	over  bool            // another upload of the same file has begun
	whole int64           // bytes from the first on
	ahead map[int64]int64 // parts beyond, from where to where
	ended bool

	more   chan struct{} // there is more to hash, or no more comes
	hashed chan struct{} // closed when all of it is hashed
}

// hash reads the received bytes in order and digests them.
func (u *upload) hash() {
	defer close(u.hashed)
	h := sha256.New()
	buf := make([]byte, 256<<10)
	for at := int64(0); ; {
		u.mu.Lock()
		whole, ended := u.whole, u.ended
		u.mu.Unlock()
		if at == whole {
			if ended {
				u.checked(hex.EncodeToString(h.Sum(nil)))
				return
			}
			<-u.more
			continue
		}
		n, err := u.ReadAt(buf[:min(int64(len(buf)), whole-at)], at)
		h.Write(buf[:n])
		if at += int64(n); err != nil && n == 0 {
			return // the install reads it again, and says what is wrong
		}
	}
}

func (u *upload) wake() {
	select {
	case u.more <- struct{}{}:
	default:
	}
}

// supersede ends the upload in favour of another one of the same file.
func (u *upload) supersede() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.over = true
	u.Truncate(u.whole) //nolint:errcheck // what is behind it is written again
}

func (u *upload) WriteAt(p []byte, at int64) (int, error) {
	if u.refused() {
		return 0, os.ErrPermission
	}
	u.mu.Lock()
	over := u.over
	u.mu.Unlock()
	if over {
		return 0, os.ErrClosed
	}
	n, err := u.File.WriteAt(p, at)
	u.received.Add(int64(n))
	u.mu.Lock()
	defer u.mu.Unlock()
	if at <= u.whole {
		u.whole = max(u.whole, at+int64(n))
	} else if n > 0 {
		u.ahead[at] = at + int64(n)
	}
	for end, ok := u.ahead[u.whole]; ok; end, ok = u.ahead[u.whole] {
		delete(u.ahead, u.whole)
		u.whole = end
	}
	u.wake()
	return n, err
}

// Close keeps the part before the first gap, on disk.
func (u *upload) Close() error {
	u.mu.Lock()
	u.ended = true
	whole, over := u.whole, u.over
	u.mu.Unlock()
	u.gone()
	u.wake()
	var err error
	if !over {
		err = u.Truncate(whole)
	}
	if err == nil && !over {
		err = u.Sync()
	}
	<-u.hashed
	return errors.Join(err, u.File.Close())
}

func (f files) Fileread(*sftp.Request) (io.ReaderAt, error) { return nil, os.ErrPermission }

func (f files) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" {
		return nil
	}
	return os.ErrPermission
}

func (f files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	p, err := f.local(r.Filepath)
	if err != nil {
		return nil, err
	}
	i, err := os.Stat(p)
	if err != nil {
		return nil, err
	}
	return one{i}, nil
}

type one struct{ info os.FileInfo }

func (o one) ListAt(out []os.FileInfo, at int64) (int, error) {
	if at > 0 || len(out) == 0 {
		return 0, io.EOF
	}
	out[0] = o.info
	return 1, io.EOF
}
