package body

import (
	"errors"
	"io"
	"os"
	"path"
	"sync"

	"github.com/pkg/sftp"
)

// Files takes the files of offered apps: they are written into incoming, under
// their digests, and nothing else is there to be read or written.
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
	w, err := os.OpenFile(p, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := w.Stat()
	if err != nil {
		w.Close()
		return nil, err
	}
	return &upload{File: w, whole: info.Size(), ahead: map[int64]int64{}}, nil
}

// upload is a file that is being sent. Its parts may come out of order; when it
// ends, it keeps only what it has from the first byte on without a hole, so that
// its size says where to go on.
type upload struct {
	*os.File
	mu    sync.Mutex
	whole int64           // bytes from the first on
	ahead map[int64]int64 // parts beyond, from where to where
}

func (u *upload) WriteAt(p []byte, at int64) (int, error) {
	n, err := u.File.WriteAt(p, at)
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
	return n, err
}

// Close keeps the part without a hole, on disk.
func (u *upload) Close() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	err := u.File.Truncate(u.whole)
	if err == nil {
		err = u.File.Sync()
	}
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
