package peer

import (
	"context"
	"encoding/json"
	"io"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/strict"
)

// FileRef names a file of the other bench, and from which byte on it is wanted.
type FileRef struct {
	Of     string `json:"of"`     // what it belongs to, such as delivery
	Digest string `json:"digest"` // SHA-256 of the whole file, in hexadecimal
	From   int64  `json:"from"`
}

// File opens a file of the other bench. The other side sends it to its end, and then ends the channel; whoever reads
// knows the size. A refusal is a [Refused].
func (l *Link) File(ctx context.Context, ref FileRef) (io.ReadCloser, error) {
	raw, err := json.Marshal(ref)
	if err != nil {
		return nil, err
	}
	return l.channelTo(ctx, channelFile, raw)
}

// file sends the other side a file.
func (l *Link) file(n ssh.NewChannel) {
	var ref FileRef
	if err := strict.JSON(n.ExtraData(), &ref); err != nil {
		n.Reject(ssh.ConnectionFailed, "the request cannot be read") //nolint:errcheck // nothing more to do
		return
	}
	r, err := l.handler.File(l.ctx, l, ref)
	if err != nil {
		n.Reject(ssh.ConnectionFailed, err.Error()) //nolint:errcheck // as above
		return
	}
	defer r.Close()
	c, requests, err := n.Accept()
	if err != nil {
		return
	}
	l.work.Go(func() { ssh.DiscardRequests(requests) })
	if _, err := io.Copy(c, r); err == nil {
		c.CloseWrite() //nolint:errcheck // as above
	}
	c.Close()
}
