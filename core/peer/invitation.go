package peer

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// Invitation is a file that lets another bench become a peer, once: it names the bench to reach, its
// key, and a secret that only this file has.
type Invitation struct {
	Version   int       `json:"earlybench_invitation"` // 1
	Bench     string    `json:"bench"`                 // name of the bench that invites
	Key       string    `json:"key"`                   // its fingerprint
	Addresses []string  `json:"addresses"`             // HOST:PORT at which it is reached
	Secret    []byte    `json:"secret"`
	Ends      time.Time `json:"ends"`
}

const (
	secretSize = 32 // bytes
	mostFile   = 64 << 10
	mostHosts  = 16
)

// NewSecret makes the secret of an invitation.
func NewSecret() []byte {
	secret := make([]byte, secretSize)
	_, _ = rand.Read(secret) // it never fails
	return secret
}

// ParseInvitation reads an invitation.
func ParseInvitation(raw []byte) (Invitation, error) {
	var i Invitation
	if len(raw) > mostFile {
		return i, fmt.Errorf("an invitation must have %d bytes at most", mostFile)
	}
	if err := json.Unmarshal(raw, &i); err != nil {
		return i, fmt.Errorf("it is not an invitation: %w", err)
	}
	switch {
	case i.Version != Version:
		return i, errors.New("it is an invitation of an unknown version")
	case !strings.HasPrefix(i.Key, "SHA256:") || len(i.Secret) != secretSize || i.Bench == "" || len(i.Bench) > 100:
		return i, errors.New("the name, the key or the secret of the invitation is missing")
	case len(i.Addresses) == 0 || len(i.Addresses) > mostHosts:
		return i, errors.New("the invitation has no address, or too many")
	}
	for _, a := range i.Addresses {
		if err := CheckAddress(a); err != nil {
			return i, err
		}
	}
	return i, nil
}

// CheckAddress reports what is wrong with an address at which a bench is reached.
func CheckAddress(a string) error {
	host, port, err := net.SplitHostPort(a)
	if err != nil || host == "" || port == "" || len(a) > 300 {
		return fmt.Errorf("address %.80q is invalid: give HOST:PORT", a)
	}
	return nil
}
