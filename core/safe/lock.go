package safe

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
)

// maxLock is the largest size of what a lock holds, in bytes.
const maxLock = 4096

// WorkFactor is that of scrypt for passphrases, as a power of two: a second or so on a
// computer of 2026.
const WorkFactor = 18

// maxWork is the largest work factor that is accepted when a passphrase is tried: four times
// as long. A file that somebody else has made could cost minutes otherwise.
const maxWork = 20

// MinPassphrase is the shortest passphrase, in bytes.
const MinPassphrase = 8

// CheckPassphrase reports whether a passphrase may be used for a safe or an export.
func CheckPassphrase(p []byte) error {
	switch {
	case len(p) < MinPassphrase:
		return fmt.Errorf("a passphrase must have at least %d characters", MinPassphrase)
	case bytes.ContainsAny(p, "\n\r\x00"):
		return errors.New("a passphrase must be one line")
	}
	return nil
}

// LockByPassphrase makes a lock that a passphrase opens. work is the work factor of scrypt;
// 0 stands for [WorkFactor].
func (b *Box) LockByPassphrase(passphrase []byte, work int) ([]byte, error) {
	if err := CheckPassphrase(passphrase); err != nil {
		return nil, err
	}
	return byPassphrase([]byte(b.key.String()), passphrase, work)
}

func byPassphrase(raw, passphrase []byte, work int) ([]byte, error) {
	to, err := age.NewScryptRecipient(string(passphrase))
	if err != nil {
		return nil, err
	}
	if work == 0 {
		work = WorkFactor
	}
	to.SetWorkFactor(work)
	return encrypt(raw, to)
}

// NewUnlockKey makes an unlock key, as it is kept in a file.
func NewUnlockKey() ([]byte, error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, fmt.Errorf("make an unlock key: %w", err)
	}
	return fmt.Appendf(nil, "# Unlock key of an Early Bench safe. Whoever has this file can open the safe.\n# public key: %s\n%s\n", key.Recipient(), key), nil
}

func readUnlockKey(file []byte) (*age.X25519Identity, error) {
	for line := range strings.Lines(string(file)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			key, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, errors.New("the file does not contain an unlock key")
			}
			return key, nil
		}
	}
	return nil, errors.New("the file does not contain an unlock key")
}

// LockByKey makes a lock that an unlock key opens.
func (b *Box) LockByKey(file []byte) ([]byte, error) {
	key, err := readUnlockKey(file)
	if err != nil {
		return nil, err
	}
	return encrypt([]byte(b.key.String()), key.Recipient())
}

// ByPassphrase reports whether a lock is one for a passphrase.
func ByPassphrase(lock []byte) bool {
	return bytes.HasPrefix(lock, []byte("age-encryption.org/v1\n-> scrypt "))
}

// OpenByPassphrase opens a lock, for [Open].
func OpenByPassphrase(lock, passphrase []byte) ([]byte, error) {
	key, err := age.NewScryptIdentity(string(passphrase))
	if err != nil {
		return nil, ErrPassphrase // it is empty
	}
	key.SetMaxWorkFactor(maxWork)
	return openWith(lock, key, ErrPassphrase, maxLock)
}

// OpenByKey opens a lock, for [Open].
func OpenByKey(lock, file []byte) ([]byte, error) {
	key, err := readUnlockKey(file)
	if err != nil {
		return nil, err
	}
	return openWith(lock, key, ErrUnlockKey, maxLock)
}

func openWith(sealed []byte, key age.Identity, wrong error, most int64) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), key)
	if _, ok := errors.AsType[*age.NoIdentityMatchError](err); ok {
		return nil, wrong
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	raw, err := io.ReadAll(io.LimitReader(r, most+1))
	if err != nil || int64(len(raw)) > most {
		return nil, errors.Join(ErrFormat, err)
	}
	return raw, nil
}

// Export is all that is in the safe, encrypted to a passphrase, for another computer.
func (b *Box) Export(passphrase []byte, work int) ([]byte, error) {
	if err := CheckPassphrase(passphrase); err != nil {
		return nil, err
	}
	raw, err := b.plain()
	if err != nil {
		return nil, err
	}
	return byPassphrase(raw, passphrase, work)
}

// Import puts what another safe has exported into this one, and returns what was new. Items
// that are here already stay as they are.
func (b *Box) Import(export, passphrase []byte) ([]Item, error) {
	key, err := age.NewScryptIdentity(string(passphrase))
	if err != nil {
		return nil, ErrPassphrase
	}
	key.SetMaxWorkFactor(maxWork)
	raw, err := openWith(export, key, ErrPassphrase, MaxBytes)
	if err != nil {
		return nil, err
	}
	others, err := parse(raw)
	if err != nil {
		return nil, err
	}
	var out []Item
	for _, r := range others {
		if b.find(r.ID) < 0 && !b.hasKey(r.Public) {
			b.items = append(b.items, r)
			out = append(out, r.Item)
		}
	}
	return out, nil
}

func (b *Box) hasKey(public []byte) bool {
	for _, r := range b.items {
		if len(public) > 0 && bytes.Equal(r.Public, public) {
			return true
		}
	}
	return false
}
