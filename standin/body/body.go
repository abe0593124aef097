package body

import (
	"cmp"
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
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/core/statement"
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
	// Crew is the number of the crew, eight digits in two groups, as it stands on the card
	// beside the device.
	Crew string
	// Authority is whose grants and debug tokens it takes; the zero value for nobody's.
	Authority statement.Authority
	// Enter enters the device in the register of the crew with a number, at the authority. It is
	// [ErrCrew] if no crew has that number. nil: any device knows the number Crew.
	Enter func(ctx context.Context, number string) error
	// Hearing is what it hears of the bodies that are reached through it; nil for none.
	Hearing Hearing
	// Answer, if not zero, replaces the spec's time limit for a question.
	Answer time.Duration
	// Begin, if not nil, is applied to a body that has no saved state.
	Begin *Beginning
}

// Beginning is the state in which a new body starts.
type Beginning struct {
	Opened   bool              `json:"opened"`
	Locked   bool              `json:"locked"`
	Settings map[string]string `json:"settings"`
	Admits   map[string]string `json:"admits"` // fingerprint to the bench's name
	Release  string            `json:"release"`
	Level    int               `json:"level"` // of the battery; 0: as the data says
	Faults   []string          `json:"faults"`
	// Statements are the grants and debug tokens on it.
	Statements []string `json:"statements"`
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
	meeting  *meeting // nil: no introduction is in progress
	turns    introduction.Turns
	address  string // where it is reached without a cable; "" for nowhere
	networks []string
	changed  chan struct{} // closed and replaced at every change
	done     []used        // by those who were let in for a loan
	rev      uint64        // of what is drawn
	drawn    *image.RGBA
	drawnRev uint64
	log      []device.Line
	seq      uint64
	running  map[string]*process
	uploads  sync.Map        // those that go on, by file
	received atomic.Int64    // bytes of files, be it again or not
	whole    map[string]bool // files whose digest was checked as they came
	signed   map[string]bool // offered apps that an identity has signed, by the digest of their manifest
	style    style
	used     time.Time // when it was touched last
	locked   bool
	asleep   bool
	slept    time.Time // when it fell asleep
	resting  bool      // asleep since nobody touched it for so long
	power    bool      // it is on power
	booting  bool
	booted   time.Time // when the restart will be over
	stale    bool      // its link, until the cable is pulled
	shown    int       // the battery's level that was drawn last
	closed   bool
	ctx      context.Context // of what the body does by itself
	end      context.CancelFunc

	work sync.WaitGroup
	run  *engine
}

// New returns a body with its saved state, or a new one if there is none.
func New(cfg Config) (*Body, error) {
	m, ok := cfg.Spec.Models[cfg.Model]
	if !ok {
		return nil, fmt.Errorf("body %s: %s makes no model %q", cfg.Name, cfg.Spec.Maker, cfg.Model)
	}
	var id usb.ID
	var err error
	if m.USB != "" {
		if id, err = usb.ParseID(m.USB); err != nil {
			return nil, err
		}
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	b := &Body{cfg: cfg, model: m, id: id, changed: make(chan struct{}), rev: 1, running: map[string]*process{}, whole: map[string]bool{}, signed: map[string]bool{}}
	b.used = cfg.Clock.Now()
	b.style = styles[cfg.Spec.Look.Style](b.form(), cfg.Spec.Look)
	if b.st, err = loadState(b.stateFile(), cfg.Spec, cfg.Clock.Now()); err != nil {
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
	b.turns.Restore(b.st.Failures)
	b.screen.home()
	b.locked = cfg.Begin != nil && cfg.Begin.Locked
	b.stale = b.st.Faults["stale-link"]
	b.ctx, b.end = context.WithCancel(context.Background())
	b.work.Go(func() { b.live(b.ctx) })
	return b, nil
}

func (b *Body) begin(g *Beginning) {
	b.st.Opened, b.st.Release = g.Opened, g.Release
	if g.Level > 0 {
		b.st.Level = g.Level
	}
	for _, f := range g.Faults {
		b.st.Faults[f] = true
	}
	b.st.Statements = slices.Clone(g.Statements)
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
	b.end()
	for _, p := range b.running {
		p.stop()
	}
	b.mu.Unlock()
	b.work.Wait()
	return b.run.Close()
}

// Name is the body's name.
func (b *Body) Name() string { return b.cfg.Name }

// Family is the family of its OS.
func (b *Body) Family() string { return b.cfg.Spec.Family }

// Cradled reports whether it has no data port, only a cradle for power.
func (b *Body) Cradled() bool { return b.cfg.Spec.Port == "power" }

// Mark is the maker's mark, as printed on the body.
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

// redraw marks the current picture as outdated. The lock is held.
func (b *Body) redraw() {
	b.rev++
	close(b.changed)
	b.changed = make(chan struct{})
}

// ClockMoved has the body tell its new time, and show it.
func (b *Body) ClockMoved() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.redraw()
}

// Changed is closed at the next change of the body or its screen.
func (b *Body) Changed() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.changed
}

// Descriptor returns the USB descriptor that the body presents now.
func (b *Body) Descriptor() usb.Descriptor {
	b.mu.Lock()
	defer b.mu.Unlock()
	revision, _ := strconv.ParseUint(b.model.Revision, 16, 16)
	if v, err := strconv.ParseUint(usbRevision(b.st.Release), 16, 16); err == nil {
		revision = v
	}
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

// usbRevision writes a release as a descriptor's revision (USB 2.0, 9.6.1): two
// binary-coded decimals, 6.2 is 0620.
func usbRevision(release string) string {
	major, minor, _ := strings.Cut(release, ".")
	if len(major) > 2 || major == "" {
		return ""
	}
	if minor == "" {
		minor = "0"
	}
	return strings.Repeat("0", 2-len(major)) + major + minor[:1] + "0"
}

func (b *Body) serial() string { return b.cfg.Serial }

func (b *Body) shows(spec IfaceSpec) bool { return b.holds(spec.When) }

// release is the installed OS release. The lock is held.
func (b *Body) release() string {
	if b.st.Release != "" {
		return b.st.Release
	}
	return b.model.Release
}

// On reports whether the body runs; while it restarts it is not on the bus.
func (b *Body) On() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return !b.booting
}

// Plugged tells the body that it is on a cable with power.
func (b *Body) Plugged() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.setPower(true)
	b.touchState()
}

// Unplugged tells the body that its cable was pulled: what was let in for one
// visit is forgotten, and a stale link is no longer stale.
func (b *Body) Unplugged() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.forgetVisits()
	b.setPower(false)
	b.freshLink()
	b.touchState()
}

// Reset tells the body that the computer has reset its port: a stale link is no longer stale.
// Its power stays, and so does what was let in for one visit.
func (b *Body) Reset() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.freshLink()
	b.touchState()
}

// freshLink ends what makes a link stale. The lock is held.
func (b *Body) freshLink() {
	if b.stale {
		b.stale = false
		delete(b.st.Faults, "stale-link")
	}
}

// ServeLink serves the device link over one bulk pipe, until that ends.
func (b *Body) ServeLink(ctx context.Context, pipe io.ReadWriteCloser) {
	stop := context.AfterFunc(ctx, func() { pipe.Close() })
	defer stop()
	stream, err := link.AcceptStream(pipe)
	if err != nil {
		pipe.Close()
		return
	}
	if err := link.Serve(ctx, stream, b.key(), b.served()); err != nil {
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
func (b *Body) Fingerprint() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.fingerprint()
}

// fingerprint is Fingerprint with the lock held.
func (b *Body) fingerprint() string { return ssh.FingerprintSHA256(b.signer.PublicKey()) }

// fill replaces the {words} of a text with the body's own data.
func (b *Body) fill(s string) string {
	return strings.NewReplacer("{name}", b.cfg.Name, "{code}", b.cfg.Model, "{serial}", b.serial(), "{release}", b.release(),
		"{admitted}", b.admittedWords(), "{address}", b.addressWords()).Replace(s)
}

func (b *Body) addressWords() string { return cmp.Or(b.address, b.cfg.Spec.word("none")) }

func (b *Body) admittedWords() string {
	switch n := len(b.st.Admissions); n {
	case 0:
		return b.cfg.Spec.word("none")
	case 1:
		return b.cfg.Spec.word("one")
	default:
		return strconv.Itoa(n)
	}
}

// wipe resets the body to a new device: a new key, everything closed, no apps. The
// lock is held.
func (b *Body) wipe() {
	fresh, err := newState(b.cfg.Spec, b.cfg.Clock.Now())
	if err != nil {
		b.cfg.Log.Error("wipe", "body", b.cfg.Name, "error", err)
		return
	}
	fresh.Wiped, fresh.Release, fresh.Level = b.st.Wiped+1, b.st.Release, b.charge()
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
