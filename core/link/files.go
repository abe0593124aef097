package link

import (
	"context"
	"io"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/upload"
)

// Files returns the access to the files of apps, by SFTP.
func (s *Session) Files() (device.Files, error) { return files{s}, nil }

type files struct{ *Session }

// Put sends a file by SFTP.
func (f files) Put(ctx context.Context, dir, name string, r io.Reader, at, size int64, arrived func(int64)) error {
	open := func(ctx context.Context) (ssh.Channel, error) { return f.open(ctx, "session", nil) }
	err := upload.Put(ctx, open, upload.File{Name: dir + "/" + name, At: at, Size: size, Idle: f.idle}, r, arrived)
	if err != nil && ctx.Err() == nil {
		return f.lost(err)
	}
	return err
}
