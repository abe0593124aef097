package rfb_test

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/rfb"
)

// messages of a viewer, RFC 6143 section 7.5, and whether they reach the screen of somebody who may only look.
var messages = map[string]struct {
	raw    []byte
	passes bool
}{
	"SetPixelFormat":           {append([]byte{0, 0, 0, 0}, make([]byte, 16)...), true},
	"SetEncodings":             {[]byte{2, 0, 0, 2, 0, 0, 0, 16, 4, 0, 0, 6}, true}, // in which a 4 begins a number
	"FramebufferUpdateRequest": {[]byte{3, 1, 0, 0, 0, 0, 0, 4, 0, 3}, true},
	"KeyEvent":                 {[]byte{4, 1, 0, 0, 0, 0, 0, 65}, false},
	"PointerEvent":             {[]byte{5, 1, 0, 1, 0, 2}, false},
	"ClientCutText":            {[]byte{6, 0, 0, 0, 0, 0, 0, 3, 3, 4, 5}, false},
}

func TestWhoeverLooksSeesAndDoesNothing(t *testing.T) {
	for version, greeting := range map[string]string{"3.8": "RFB 003.008\n\x01\x01", "3.7": "RFB 003.007\n\x01\x01", "3.3": "RFB 003.003\n\x01"} {
		sent, wanted := []byte(greeting), []byte(greeting)
		for range 3 { // in an order that changes
			for _, m := range messages {
				sent = append(sent, m.raw...)
				if m.passes {
					wanted = append(wanted, m.raw...)
				}
			}
		}
		for size := 1; size <= len(sent); size++ {
			var got bytes.Buffer
			looking := rfb.NewLooking(&got)
			for rest := sent; len(rest) > 0; rest = rest[min(size, len(rest)):] {
				_, err := looking.Write(rest[:min(size, len(rest))])
				require.NoError(t, err)
			}
			require.Equal(t, wanted, got.Bytes(), "version %s, in parts of %d bytes", version, size)
		}
	}
}

func TestWhatIsNoMessageEndsLooking(t *testing.T) {
	for name, raw := range map[string][]byte{"an unknown message": {9}, "a message of an extension": {255, 0, 0, 1}, "4 GB of text": {6, 0, 0, 0, 255, 255, 255, 255}} {
		var got bytes.Buffer
		_, err := rfb.NewLooking(&got).Write(append([]byte("RFB 003.008\n\x01\x01"), raw...))
		require.ErrorIs(t, err, rfb.ErrProtocol, name)
		require.Empty(t, got.Bytes(), name)
	}
	full := errors.New("full")
	_, err := rfb.NewLooking(failing{full}).Write([]byte("RFB 003.008\n"))
	require.ErrorIs(t, err, full)
}

type failing struct{ err error }

func (f failing) Write([]byte) (int, error) { return 0, f.err }
