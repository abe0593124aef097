package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"earlybench.invalid/earlybench/client"
	keys "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
)

// secretMost is the longest secret that is read, in bytes.
const secretMost = 1024

// readSecret asks for a secret at the terminal. Each character that arrives is shown as a dot.
func (p *program) readSecret(prompt string) ([]byte, error) {
	if !p.terminal || p.unattended {
		return nil, &exitError{exitPerson, "This needs a person at a terminal: " + prompt + " is to be typed. Without one, name a file with --passphrase-file or --key-file."}
	}
	fd := int(os.Stdin.Fd())
	before, err := term.MakeRaw(fd)
	if err != nil {
		return nil, fmt.Errorf("read from the terminal: %w", err)
	}
	defer term.Restore(fd, before) //nolint:errcheck // the terminal is gone then
	fmt.Fprintf(p.err, "%s: ", prompt)
	defer fmt.Fprint(p.err, "\r\n")
	return typed(p.in, p.err)
}

// typed reads a line of a raw terminal and shows that typing arrives.
func typed(r io.Reader, w io.Writer) ([]byte, error) {
	var line []byte
	one := make([]byte, 1)
	for {
		if _, err := r.Read(one); err != nil {
			return nil, err
		}
		switch c := one[0]; {
		case c == '\r' || c == '\n':
			return line, nil
		case c == 3 || c == 4: // Ctrl-C, Ctrl-D
			return nil, &exitError{exitPerson, "Nothing was typed, so nothing was done."}
		case c == 21: // Ctrl-U
			fmt.Fprint(w, strings.Repeat("\b \b", utf8.RuneCount(line)))
			line = line[:0]
		case c == 127 || c == 8:
			if len(line) > 0 {
				_, n := utf8.DecodeLastRune(line)
				line = line[:len(line)-n]
				fmt.Fprint(w, "\b \b")
			}
		case c < ' ' || len(line) == secretMost:
		default:
			line = append(line, c)
			if utf8.RuneStart(c) {
				fmt.Fprint(w, "•")
			}
		}
	}
}

// opening is how a command opens the safe: by the passphrase that is typed, unless a file is
// named.
type opening struct{ passphraseFile, keyFile string }

func (o *opening) flags(c *cobra.Command, what string) {
	c.Flags().StringVar(&o.passphraseFile, "passphrase-file", "", "file with "+what+"'s passphrase in its first line")
	c.Flags().StringVar(&o.keyFile, "key-file", "", "file of "+what+"'s unlock key")
}

// open seals the passphrase for a method and purpose of the safe. twice asks for it again, to
// be sure.
func (p *program) open(s client.Safe, o opening, method, purpose, prompt string, twice bool) (client.SafeOpening, error) {
	if o.keyFile != "" {
		path, err := filepath.Abs(o.keyFile)
		return client.SafeOpening{KeyFile: path}, err
	}
	passphrase, err := p.passphrase(o, prompt, twice)
	if err != nil {
		return client.SafeOpening{}, err
	}
	envelope, err := keys.Envelope(s.Public, holder.EnvelopePurpose(method, purpose), passphrase)
	return client.SafeOpening{Envelope: envelope}, err
}

func (p *program) passphrase(o opening, prompt string, twice bool) ([]byte, error) {
	if o.passphraseFile != "" {
		raw, err := os.ReadFile(o.passphraseFile)
		if err != nil {
			return nil, usage("read the passphrase: %w", err)
		}
		line, _, _ := bytes.Cut(raw, []byte("\n"))
		return bytes.TrimSuffix(line, []byte("\r")), nil
	}
	passphrase, err := p.readSecret(prompt)
	if err != nil || !twice {
		return passphrase, err
	}
	if err := keys.CheckPassphrase(passphrase); err != nil {
		return nil, usage("%w", err)
	}
	again, err := p.readSecret("Repeat it")
	if err == nil && !bytes.Equal(passphrase, again) {
		err = errors.New("the two passphrases differ; nothing was done")
	}
	return passphrase, err
}

// proof shows that whoever sits here can open the safe.
func (p *program) proof(s client.Safe, o opening, purpose string) (client.SafeOpening, error) {
	if !s.ByPassphrase && o.keyFile == "" {
		return client.SafeOpening{}, &exitError{exitPerson, "The safe of this computer is opened with an unlock key. Give its file: --key-file FILE"}
	}
	return p.open(s, o, "prove", purpose, "Passphrase of this computer's safe", false)
}

// theSafe asks for the safe, which must be there.
func (p *program) theSafe(ctx context.Context) (*client.Client, client.Safe, error) {
	b, err := p.bench()
	if err != nil {
		return nil, client.Safe{}, err
	}
	s, err := b.Safe(ctx)
	if err == nil && s.State == "missing" {
		err = &exitError{exitPerson, "This bench has no safe for keys yet. Make one: earlybench safe make"}
	}
	return b, s, err
}
