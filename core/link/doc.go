// Package link is the device link, both sides: a byte stream over two bulk
// endpoints ([Stream]), SSH over that (RFC 4253), the visitor's admission, and
// the channels that an admitted bench gets: control (JSON-RPC 2.0), files (SFTP)
// and screen (RFB, RFC 6143). It is written down in docs/formats/link.md.
//
// In goes a transport and a key, out comes a [Session] on the bench's side, or a
// call of a [Device]'s methods on the device's. The package decides neither who
// is let in nor what a device can do.
package link
