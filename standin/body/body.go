package body

import (
	"context"
	"fmt"
	"image"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/core/usb"
)

// Config is what makes a body one device.
type Config struct {
	Name   string // the body's name, such as heron-2
	Spec   *Spec
	Model  string // a code of the spec's models
	Serial string
	Dir    string // where it keeps its state
	Clock  clock.Clock
	Log    *slog.Logger
	// Answer, where not zero, is used instead of the spec's time for a question.
	Answer time.Duration
	// Begin, where not nil, is applied to a body that has no state yet.
	Begin *Beginning
}

// Beginning is the state in which a new body comes.
type Beginning struct {
	Opened   bool              `json:"opened"`
	Settings map[string]string `json:"settings"`
	Admits   map[string]string `json:"admits"` // fingerprint to the bench's name
}

// Body is a stand-in device. All methods may be called from any goroutine.
type Body struct {
	cfg   Config
	model ModelSpec
	id    usb.ID

	mu       sync.Mutex
	st       *state
	signer   ssh.Signer
	screen   screen
	question *question
	changed  chan struct{} // closed and replaced at every change
	rev      uint64        // of what is drawn
	drawn    *image.RGBA
	drawnRev uint64
	log      []link.Line
	seq      uint64
	running  map[string]*process
	whole    map[string]bool // files whose digest was checked as they came
	battery  int
	closed   bool

	work sync.WaitGroup
	run  *engine
}

// New makes a body from its kept state, or a new one.
func New(cfg Config) (*Body, error) {
	m, ok := cfg.Spec.Models[cfg.Model]
	if !ok {
		return nil, fmt.Errorf("body %s: %s makes no model %q", cfg.Name, cfg.Spec.Maker, cfg.Model)
	}
	id, err := usb.ParseID(m.USB)
	if err != nil {
		return nil, err
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	b := &Body{cfg: cfg, model: m, id: id, changed: make(chan struct{}), rev: 1, running: map[string]*process{}, whole: map[string]bool{}, battery: 81}
	if b.st, err = loadState(b.stateFile()); err != nil {
		return nil, fmt.Errorf("body %s: %w", cfg.Name, err)
	}
	if _, err := os.Stat(b.stateFile()); err != nil && cfg.Begin != nil {
		b.begin(cfg.Begin)
	}
	if b.signer, err = b.st.signer(); err != nil {
		return nil, fmt.Errorf("body %s: device key: %w", cfg.Name, err)
	}
	if err := b.st.save(b.stateFile()); err != nil {
		return nil, fmt.Errorf("body %s: %w", cfg.Name, err)
	}
	if b.run, err = newEngine(filepath.Join(cfg.Dir, "compiled")); err != nil {
		return nil, fmt.Errorf("body %s: %w", cfg.Name, err)
	}
	b.screen.home()
	return b, nil
}

func (b *Body) begin(g *Beginning) {
	b.st.Opened = g.Opened
	for k, v := range g.Settings {
		b.st.Settings[k] = v
	}
	for key, name := range g.Admits {
		b.st.Admissions[key] = admission{Name: name, For: "until withdrawn", Since: b.cfg.Clock.Now()}
	}
}

// Close stops what runs on the body, and waits.
func (b *Body) Close() error {
	b.mu.Lock()
	b.closed = true
	for _, p := range b.running {
		p.stop()
	}
	b.mu.Unlock()
	b.work.Wait()
	return b.run.Close()
}

// Name is the body's name.
func (b *Body) Name() string { return b.cfg.Name }

// Mark is the maker's mark, as it stands on the body.
func (b *Body) Mark() string { return b.cfg.Spec.Look.Mark }

func (b *Body) stateFile() string { return filepath.Join(b.cfg.Dir, b.cfg.Name, "state.json") }
func (b *Body) filesDir() string  { return filepath.Join(b.cfg.Dir, b.cfg.Name, "files") }

// touchState saves the state and wakes those who wait for a change. The lock is
// held.
func (b *Body) touchState() {
	if err := b.st.save(b.stateFile()); err != nil {
		b.cfg.Log.Error("keep the state", "body", b.cfg.Name, "error", err)
	}
	b.redraw()
}

// redraw makes the next picture a new one. The lock is held.
func (b *Body) redraw() {
	b.rev++
	close(b.changed)
	b.changed = make(chan struct{})
}

// Changed is closed at the next change of the body or its screen.
func (b *Body) Changed() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.changed
}

// Descriptor is how the body shows itself on the cable just now.
func (b *Body) Descriptor() usb.Descriptor {
	b.mu.Lock()
	defer b.mu.Unlock()
	revision, _ := strconv.ParseUint(b.model.Revision, 16, 16)
	d := usb.Descriptor{ID: b.id, Revision: uint16(revision), Maker: b.cfg.Spec.Maker, Product: b.model.Name,
		Serial: b.serial(), MaxPacket0: 64, Config: 1, MilliAmps: 500}
	for _, spec := range b.cfg.Spec.Ifaces {
		if !b.shows(spec) {
			continue
		}
		class, _ := parseClass(spec.Class)
		n := uint8(len(d.Interfaces))
		d.Interfaces = append(d.Interfaces, usb.Interface{Number: n, Class: class, Name: spec.Name,
			Endpoints: []usb.Endpoint{{Address: 0x81 + n, MaxPacket: 512}, {Address: 1 + n, MaxPacket: 512}}})
	}
	return d
}

func (b *Body) serial() string { return b.cfg.Serial }

func (b *Body) shows(spec IfaceSpec) bool {
	for setting, values := range spec.When {
		if !b.st.Opened || !slices.Contains(values, b.st.Settings[setting]) {
			return false
		}
	}
	return true
}

// Unplugged tells the body that its cable was pulled: what was let in for one
// visit is forgotten, and a question on the screen goes away.
func (b *Body) Unplugged() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for key, a := range b.st.Admissions {
		if a.For == "visit" {
			delete(b.st.Admissions, key)
		}
	}
	b.touchState()
}

// ServeLink serves the bench link over one bulk pipe, until that ends.
func (b *Body) ServeLink(ctx context.Context, pipe io.ReadWriteCloser) {
	stop := context.AfterFunc(ctx, func() { pipe.Close() })
	defer stop()
	stream, err := link.AcceptStream(pipe)
	if err != nil {
		pipe.Close()
		return
	}
	if err := link.Serve(ctx, stream, b.key(), b); err != nil {
		b.cfg.Log.Info("link", "body", b.cfg.Name, "error", err)
	}
}

// Screen is what the link's screen channel shows.
func (b *Body) Screen() rfb.Source { return b }

func (b *Body) key() ssh.Signer {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.signer
}

// Fingerprint is that of the device key.
func (b *Body) Fingerprint() string { return ssh.FingerprintSHA256(b.key().PublicKey()) }

// fill puts the body's own data into a text.
func (b *Body) fill(s string) string {
	return strings.NewReplacer("{name}", b.cfg.Name, "{code}", b.cfg.Model, "{serial}", b.serial(), "{release}", b.model.Release,
		"{admitted}", admittedWords(len(b.st.Admissions))).Replace(s)
}

func admittedWords(n int) string {
	switch n {
	case 0:
		return "none"
	case 1:
		return "one"
	}
	return strconv.Itoa(n)
}

// wipe makes it a new device: another key, everything closed, nothing on it.
// The lock is held.
func (b *Body) wipe() {
	fresh, err := newState()
	if err != nil {
		b.cfg.Log.Error("wipe", "body", b.cfg.Name, "error", err)
		return
	}
	fresh.Wiped = b.st.Wiped + 1
	for _, p := range b.running {
		p.stop()
	}
	b.st = fresh
	b.signer, _ = fresh.signer()
	os.RemoveAll(b.filesDir()) //nolint:errcheck // what stays is found by digest only
	b.screen.home()
	b.say("Started over")
	b.touchState()
}
