package rfb

import (
	"encoding/binary"
	"fmt"
	"io"
)

// Looking passes on what a viewer sends, except its keys, touches and texts (RFC 6143, sections 7.5.4 to
// 7.5.6): the viewer sees a screen, but cannot use it. It is for one goroutine.
type Looking struct {
	to      io.Writer
	have    []byte // the beginning of a message whose rest has not come yet
	version bool   // it has passed (section 7.1.1)
	greet   int    // bytes of security type and ClientInit that are still to come (sections 7.1.2 and 7.3.1)
	skip    int    // bytes of a text that are still to come
}

// NewLooking passes what it is given on to to.
func NewLooking(to io.Writer) *Looking { return &Looking{to: to} }

const (
	versionBytes = 12
	version33    = "RFB 003.003\n"
	mostText     = 1 << 20 // bytes that a viewer may have cut out
)

// Write takes what a viewer sends, however it is cut. It fails with ErrProtocol where the viewer does not
// keep to the protocol, and nothing of that passes.
func (l *Looking) Write(p []byte) (int, error) {
	l.have = append(l.have, p...)
	var pass []byte
	for {
		n, keep, err := l.next()
		if err != nil {
			return 0, err
		}
		if n == 0 {
			break
		}
		if keep {
			pass = append(pass, l.have[:n]...)
		}
		l.have = l.have[n:]
	}
	if len(pass) > 0 {
		if _, err := l.to.Write(pass); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// next tells how long the next part is, 0 while it has not come whole, and whether it passes.
func (l *Looking) next() (n int, keep bool, err error) {
	switch {
	case len(l.have) == 0:
		return 0, false, nil
	case l.skip > 0:
		n = min(l.skip, len(l.have))
		l.skip -= n
		return n, false, nil
	case !l.version:
		if len(l.have) < versionBytes {
			return 0, false, nil
		}
		l.version, l.greet = true, 2
		if string(l.have[:versionBytes]) == version33 { // in which the server chooses the security type
			l.greet = 1
		}
		return versionBytes, true, nil
	case l.greet > 0:
		n = min(l.greet, len(l.have))
		l.greet -= n
		return n, true, nil
	}
	kind := l.have[0]
	size, known := map[byte]int{msgSetPixelFormat: 20, msgSetEncodings: 4, msgUpdateRequest: 10, msgKey: 8, msgPointer: 6, msgCutText: 8}[kind]
	switch {
	case !known:
		return 0, false, fmt.Errorf("%w: message %d", ErrProtocol, kind)
	case len(l.have) < size:
		return 0, false, nil
	case kind == msgSetEncodings:
		size += 4 * int(binary.BigEndian.Uint16(l.have[2:]))
		if len(l.have) < size {
			return 0, false, nil
		}
	case kind == msgCutText:
		length := binary.BigEndian.Uint32(l.have[4:])
		if length > mostText {
			return 0, false, fmt.Errorf("%w: %d bytes of text", ErrProtocol, length)
		}
		l.skip = int(length)
	}
	return size, kind == msgSetPixelFormat || kind == msgSetEncodings || kind == msgUpdateRequest, nil
}
