package link

import (
	"crypto/sha256"
	"encoding/binary"
	"strconv"
)

// number is two digits, 10 to 99, that both sides of a session know: the device shows
// it among others, the bench shows it alone, and the owner picks it. Somebody between
// the two has two sessions, which differ in their ids, and cannot choose either
// (RFC 4253, section 7.2, makes an id from both sides' key exchange).
func number(sessionID []byte) string {
	h := sha256.New()
	h.Write([]byte("earlybench number 1"))
	h.Write(sessionID)
	return strconv.Itoa(10 + int(binary.BigEndian.Uint64(h.Sum(nil))%90))
}
