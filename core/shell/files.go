package shell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/upload"
)

// Files returns the access to the files of apps: by SFTP, or through the shell where the server has none.
func (s *Session) Files() (device.Files, error) { return &files{Session: s}, nil }

type files struct {
	*Session

	mu     sync.Mutex
	noSFTP bool
}

func (f *files) Put(ctx context.Context, dir, name string, r io.Reader, at, size int64, arrived func(int64)) error {
	if !path.IsAbs(dir) || path.Base(name) != name {
		return fmt.Errorf("%.80q is not a valid place for a file", dir+"/"+name)
	}
	f.mu.Lock()
	shell := f.noSFTP
	f.mu.Unlock()
	if shell {
		return f.append(ctx, path.Join(dir, name), r, at, size, arrived)
	}
	_, err := until(ctx, f.Session, func() (bool, error) {
		return true, upload.Put(ctx, f.channel, upload.File{Name: path.Join(dir, name), At: at, Size: size, Segment: segment}, r, arrived)
	})
	switch {
	case errors.Is(err, upload.ErrRefused):
		f.mu.Lock()
		f.noSFTP = true
		f.mu.Unlock()
		return f.append(ctx, path.Join(dir, name), r, at, size, arrived)
	case err != nil && ctx.Err() == nil:
		return f.lost(err)
	}
	return err
}

func (f *files) channel(ctx context.Context) (ssh.Channel, error) {
	ch, requests, err := f.open(ctx, "session", nil)
	if err == nil {
		f.run(func() { ssh.DiscardRequests(requests) })
	}
	return ch, err
}

// chunk is how many bytes are sent through the shell at a time, after which the device confirms.
const chunk = 1 << 20

// append sends a file through the shell.
func (f *files) append(ctx context.Context, name string, r io.Reader, at, size int64, arrived func(int64)) error {
	buf := make([]byte, chunk)
	for first := true; at < size || first && size == 0; first = false {
		n := min(chunk, size-at)
		if _, err := io.ReadFull(r, buf[:n]); err != nil {
			return fmt.Errorf("read what is to be sent: %w", err)
		}
		out, err := f.call(ctx, "append", bytes.NewReader(buf[:n]), name, strconv.FormatInt(at, 10))
		if err != nil {
			return err
		}
		if has := strings.TrimSpace(out); has != strconv.FormatInt(at+n, 10) {
			return fmt.Errorf("the device has %.20s bytes of a file of which %d were sent", has, at+n)
		}
		at += n
		arrived(n)
	}
	return nil
}
