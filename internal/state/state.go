// Package state locates a bench's state directory with its socket, keys and lock.
package state

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// longestSocket is the longest path of a Unix socket, in bytes.
const longestSocket = 100

// Dir is the state directory: the one given, else EARLYBENCH_STATE, else
// earlybench below the XDG state home.
func Dir(given string) (string, error) {
	if given == "" {
		given = os.Getenv("EARLYBENCH_STATE")
	}
	if given == "" {
		base := os.Getenv("XDG_STATE_HOME")
		if base == "" {
			home, err := os.UserHomeDir()
			if err != nil {
				return "", fmt.Errorf("find the state directory: %w; give one with --state", err)
			}
			base = filepath.Join(home, ".local", "state")
		}
		given = filepath.Join(base, "earlybench")
	}
	return filepath.Abs(given)
}

// Socket returns the path of a socket of the bench with a state directory. If that
// would be too long, the socket is in the runtime directory, named by a digest.
func Socket(dir, name string) string {
	p := filepath.Join(dir, "run", name+".sock")
	if len(p) <= longestSocket {
		return p
	}
	sum := sha256.Sum256([]byte(dir))
	base := os.Getenv("XDG_RUNTIME_DIR")
	if base == "" {
		base = filepath.Join(os.TempDir(), fmt.Sprintf("earlybench-%d", os.Getuid()))
	}
	return filepath.Join(base, "earlybench", hex.EncodeToString(sum[:6]), name+".sock")
}

// SocketDir creates the directory of a socket, accessible to its owner only.
func SocketDir(socket string) error {
	dir := filepath.Dir(socket)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := private(dir); err != nil {
		return err
	}
	if strings.HasPrefix(dir, os.TempDir()+string(filepath.Separator)) && os.Getenv("XDG_RUNTIME_DIR") == "" {
		return trusted(dir) // everybody may make directories there
	}
	return nil
}

// Held is the error for a state directory that a running bench uses.
type Held struct{ Dir, By string }

func (h *Held) Error() string {
	return fmt.Sprintf("a bench is already running with the state %s (process %s); stop it, or give another state with --state", h.Dir, h.By)
}

// Lock makes the state directory private, and locks it for this process until release is called or it
// ends. A directory that is not the caller's, or in which something is a link, is refused.
func Lock(dir string) (release func(), err error) {
	if err := private(dir); err != nil {
		return nil, fmt.Errorf("state directory: %w", err)
	}
	f, err := open(filepath.Join(dir, "lock"))
	if err != nil {
		return nil, fmt.Errorf("lock the state directory: %w; make %s writable, or give another with --state", err, dir)
	}
	if err := lock(f); err != nil {
		by, _ := os.ReadFile(f.Name())
		f.Close()
		return nil, &Held{Dir: dir, By: strings.TrimSpace(string(by))}
	}
	f.Truncate(0) //nolint:errcheck // it only tells people
	fmt.Fprintln(f, os.Getpid())
	return func() { f.Close() }, nil // closing lets go
}
