// Package handover is the files by which an app and its debug token go to somebody else's devices
// (docs/formats/handover.md).
package handover

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/core/strict"
)

// MaxRequest is the longest request, in bytes.
const MaxRequest = 256 << 10

// maxApp is the largest app file, in bytes, that is read into memory.
const maxApp = 1 << 30

// maxDevices is how many devices a request names at most.
const maxDevices = 1000

// Request collects the serials of devices that an app is to run on.
type Request struct {
	Format  int      `json:"format"` // 1
	App     string   `json:"app"`
	From    string   `json:"from"` // the bench that asks, for people
	Key     string   `json:"key"`  // thumbprint of the developer's key
	Devices []Device `json:"devices"`
}

// Device is one device.
type Device struct {
	Serial string `json:"serial"`
	Model  string `json:"model"`
	At     string `json:"at"` // the bench that lends it, for people
}

// Add adds a device; one that is there already stays as it is.
func (r *Request) Add(d Device) error {
	if err := authority.CheckSerial(d.Serial); err != nil {
		return err
	}
	for _, known := range r.Devices {
		if known.Serial == d.Serial {
			return nil
		}
	}
	if len(r.Devices) >= maxDevices {
		return fmt.Errorf("a request may name %d devices at most", maxDevices)
	}
	r.Devices = append(r.Devices, d)
	return nil
}

// Write writes a request.
func (r *Request) Write(w io.Writer) error {
	r.Format = 1
	if r.Devices == nil {
		r.Devices = []Device{}
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(r)
}

// ReadRequest reads a request.
func ReadRequest(from io.Reader) (*Request, error) {
	raw, err := io.ReadAll(io.LimitReader(from, MaxRequest+1))
	if err != nil {
		return nil, err
	}
	if len(raw) > MaxRequest {
		return nil, fmt.Errorf("it has more than %d bytes", MaxRequest)
	}
	var r Request
	if err := strict.JSON(raw, &r); err != nil {
		return nil, fmt.Errorf("it is not a request for a handover: %w", err)
	}
	if r.Format != 1 {
		return nil, fmt.Errorf("format %d is not supported, only format 1 is", r.Format)
	}
	if err := authority.CheckAppID(r.App); err != nil && !errors.Is(err, authority.ErrPlaceholder) {
		return nil, err
	}
	all := r.Devices
	r.Devices = nil
	for _, d := range all {
		if err := r.Add(d); err != nil {
			return nil, err
		}
	}
	if len(r.Devices) != len(all) {
		return nil, errors.New("a serial occurs twice")
	}
	return &r, nil
}

// manifest is handover.json.
type manifest struct {
	Format int           `json:"format"`
	App    string        `json:"app"`
	From   string        `json:"from"`
	Files  []bundle.File `json:"files"`
}

const manifestName = "handover.json"

// Handover is an app file and the statement that covers it.
type Handover struct {
	App       string // its id
	From      string // the bench that has made it, for people
	File      []byte // the app file
	Statement string // as it was signed
}

// Names of the files that [Pack] packs.
const (
	AppFile       = "app.ebapp"
	StatementFile = "statement.jws"
)

// Pack writes the handover of an app, by a bench: the two files of root.
func Pack(w io.Writer, root fs.FS, app, from string) error {
	files, err := bundle.List(root, []string{AppFile, StatementFile})
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(manifest{1, app, from, files}, "", "  ")
	if err != nil {
		return err
	}
	return bundle.Write(w, []bundle.Entry{{Name: manifestName, Data: raw}}, root, files)
}

// Open opens and checks a handover. Neither the app file nor the statement in it is checked here.
func Open(r io.ReaderAt, size int64) (Handover, error) {
	var m manifest
	b, err := bundle.Open(r, size, manifestName, nil, func(raw []byte) ([]bundle.File, error) {
		if err := strict.JSON(raw, &m); err != nil {
			return nil, err
		}
		if m.Format != 1 {
			return nil, fmt.Errorf("format %d is not supported, only format 1 is", m.Format)
		}
		if len(m.Files) != 2 || m.Files[0].Path != AppFile || m.Files[1].Path != StatementFile {
			return nil, fmt.Errorf("it must contain %s and %s, and nothing else", AppFile, StatementFile)
		}
		if m.Files[0].Size > maxApp || m.Files[1].Size > statement.MaxSize {
			return nil, fmt.Errorf("the app file has more than %d bytes, or the statement more than %d", int64(maxApp), statement.MaxSize)
		}
		return m.Files, nil
	})
	if err != nil {
		return Handover{}, err
	}
	h := Handover{App: m.App, From: m.From}
	if h.File, err = read(b, AppFile, maxApp); err != nil {
		return h, err
	}
	text, err := read(b, StatementFile, statement.MaxSize)
	h.Statement = string(text)
	return h, err
}

func read(b *bundle.Bundle, name string, limit int64) ([]byte, error) {
	f, err := b.File(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, limit))
}
