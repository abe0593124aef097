package benchtest

import (
	"crypto/ed25519"
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Password is the one of the user of a board.
const Password = "fog and fell"

// NewSigner is an SSH key that was made just now.
func NewSigner(t testing.TB) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromSigner(key)
	require.NoError(t, err)
	return s
}
