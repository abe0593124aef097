package body

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/introduction"
)

// state is what a body keeps when it is switched off.
type state struct {
	Key        string               `json:"key"` // PEM
	Opened     bool                 `json:"opened"`
	Settings   map[string]string    `json:"settings"`
	Admissions map[string]admission `json:"admissions"` // by fingerprint; for loans see lentKey
	Used       uint64               `json:"used"`       // number of the last use by somebody who was let in for a loan
	Apps       map[string]*app      `json:"apps"`
	Wiped      int                  `json:"wiped"`
	Release    string               `json:"release"` // after an update; "": the model's
	Code       string               `json:"code"`    // that it shows, to be typed back
	// Developers are those whose apps were started here, by the thumbprints of their
	// keys, and Challenge that from which figures are made to accept one.
	Developers map[string]*developerState `json:"developers"`
	Challenge  string                     `json:"challenge"`
	Statements []string                   `json:"statements"` // those put last come last
	Status     string                     `json:"status"`     // the newest list of what was withdrawn; "": none
	Level      int                        `json:"level"`      // of the battery, at LevelAt
	LevelAt    time.Time                  `json:"level_at"`
	Faults     map[string]bool            `json:"faults"`
	Failures   introduction.Failures      `json:"introductions,omitzero"`
}

type admission struct {
	Name  string    `json:"name"`
	For   string    `json:"for"` // visit, 30 days, until withdrawn; loan
	Since time.Time `json:"since"`
	Until time.Time `json:"until,omitzero"`
	Loan  *loan     `json:"loan,omitempty"`
}

// app is an installed app.
type app struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Entry   string `json:"entry"`
	By      string `json:"by,omitempty"` // thumbprint of its developer's key
	// Signed says that an identity has signed it, and Features are those that it uses.
	Signed   bool          `json:"signed,omitempty"`
	Debug    bool          `json:"debug,omitempty"` // it is built to be debugged
	Features []string      `json:"features,omitempty"`
	Files    []bundle.File `json:"files"`
}

func newState(spec *Spec, now time.Time) (*state, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(key, "device key")
	if err != nil {
		return nil, err
	}
	level := spec.Battery.Level
	if level == 0 {
		level = 81
	}
	return &state{Key: string(pem.EncodeToMemory(block)), Settings: maps.Clone(spec.Settings), Level: level, LevelAt: now,
		Admissions: map[string]admission{}, Apps: map[string]*app{}, Developers: map[string]*developerState{}, Faults: map[string]bool{}}, nil
}

// loadState reads a body's state, or makes a new one where there is none.
func loadState(file string, spec *Spec, now time.Time) (*state, error) {
	raw, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return newState(spec, now)
	}
	if err != nil {
		return nil, err
	}
	s := &state{}
	if err := json.Unmarshal(raw, s); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if s.Faults == nil {
		s.Faults = map[string]bool{}
	}
	if s.Developers == nil {
		s.Developers = map[string]*developerState{}
	}
	// Admissions for one visit end: being switched off counts as being unplugged.
	maps.DeleteFunc(s.Admissions, func(name string, a admission) bool {
		return a.For == "visit" || a.Loan != nil && !strings.HasPrefix(name, lentPrefix) // as an earlier version kept it
	})
	return s, nil
}

// save writes the state to a temporary file and renames it, so that a partial file is
// never read.
func (s *state) save(file string) error {
	raw, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	temporary := file + ".new"
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(temporary, raw, 0o600); err != nil {
		return err
	}
	return os.Rename(temporary, file)
}

func (s *state) signer() (ssh.Signer, error) { return ssh.ParsePrivateKey([]byte(s.Key)) }
