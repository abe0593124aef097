// Package link is the device link, both sides: a byte stream over two bulk
// endpoints ([Stream]), SSH over that (RFC 4253), the visitor's admission, and
// the channels that an admitted bench gets: control (JSON-RPC 2.0), files (SFTP)
// and screen (RFB, RFC 6143). docs/formats/link.md describes it.
//
// From a transport and a key it makes a [Session] on the bench's side, and calls the methods of
// a [Device] on the device's side. It does not decide who is admitted or what a device can do.
package link
