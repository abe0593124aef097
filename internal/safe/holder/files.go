package holder

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/replace"
)

// take moves a key that was kept in a file in PEM into the safe. The file is removed once the
// safe is written, by the caller.
func (h *holder) take(in *Request, now time.Time) (safe.Item, error) {
	raw, err := os.ReadFile(in.File)
	if err != nil {
		return safe.Item{}, fmt.Errorf("read the key: %w", err)
	}
	key, err := developer.ParsePrivate(raw)
	if err != nil {
		return safe.Item{}, fmt.Errorf("%s: %w", in.File, err)
	}
	return h.box.PutKey(in.Name, key, now)
}

// fill writes a file from a template in which secrets have their places. The file is for its
// owner only.
func (h *holder) fill(in *Request) error {
	info, err := os.Stat(in.Template)
	if err != nil {
		return fmt.Errorf("read the template: %w", err)
	}
	if !info.Mode().IsRegular() || info.Size() > appfile.MaxTemplate {
		return fmt.Errorf("template %s is not a file, or has more than %d bytes", in.Template, appfile.MaxTemplate)
	}
	raw, err := os.ReadFile(in.Template)
	if err != nil {
		return fmt.Errorf("read the template: %w", err)
	}
	text, err := appfile.Fill(raw, in.Values, func(name string) ([]byte, error) {
		secret, err := h.box.Secret(in.Secrets[name])
		if err != nil {
			return nil, fmt.Errorf("secret %s, used by %s: %w", name, in.Template, err)
		}
		return secret, nil
	})
	if err != nil {
		return err
	}
	if now, err := os.ReadFile(in.File); err == nil && bytes.Equal(now, text) {
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read what is there: %w", err)
	}
	return replace.File(in.File, text, 0o600)
}
