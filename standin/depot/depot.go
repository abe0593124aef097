// Package depot is a stand-in depot: it offers driver sets and support packs over HTTPS, with
// an index that its publisher has signed, and can be slow, cut, dead or lying. Benches reach it
// through its socket only.
package depot

import (
	"bytes"
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/cms"
	"earlybench.invalid/earlybench/core/depot"
)

// Mode is what is wrong with a depot.
type Mode string

// The modes.
const (
	Well  Mode = "well"
	Slow  Mode = "slow"  // few bytes a second
	Cut   Mode = "cut"   // every answer is broken off in the middle
	Dead  Mode = "dead"  // it takes requests and answers none
	Lying Mode = "lying" // the files are others than the index says
)

// Modes are all modes.
var Modes = []Mode{Well, Slow, Cut, Dead, Lying}

// Goods is one thing that a depot offers, with the content of its files.
type Goods struct {
	Offer   depot.Offer // Path and size are filled in, and the digests
	File    Content
	Licence string // its text; "" for none
}

// Content is a file's content, which need not be in memory.
type Content interface {
	Size() int64
	Open() io.ReadSeeker
	// Digest is its SHA-256 in hexadecimal.
	Digest() (string, error)
}

// Config is how a depot is started.
type Config struct {
	Address string
	Name    string
	Mode    Mode
	Rate    int64 // bytes a second when it is slow
	TLS     tls.Certificate
	Signer  *x509.Certificate // the publisher
	Key     crypto.Signer     // of the publisher
	Made    time.Time         // of the index
	Goods   []Goods
}

// Depot is a running depot. It is made by Start and ends with Close.
type Depot struct {
	cfg      Config
	files    map[string]Content // by path
	listener net.Listener
	server   *http.Server
	ended    chan struct{}

	mu        sync.Mutex
	mode      Mode
	index     []byte
	signature []byte
	wake      chan struct{} // closed when the mode changes
	bucket    time.Time     // until when what was sent has used up the rate
}

// Start starts a depot.
func Start(ctx context.Context, cfg Config) (*Depot, error) {
	d := &Depot{cfg: cfg, files: map[string]Content{}, mode: cfg.Mode, ended: make(chan struct{}), wake: make(chan struct{})}
	if d.mode == "" {
		d.mode = Well
	}
	if err := d.Offer(cfg.Made, cfg.Goods...); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", cfg.Address)
	if err != nil {
		return nil, fmt.Errorf("depot: %w", err)
	}
	d.listener = l
	d.server = &http.Server{Handler: d, TLSConfig: &tls.Config{Certificates: []tls.Certificate{cfg.TLS}, MinVersion: tls.VersionTLS12}, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:    log.New(io.Discard, "", 0), // a bench that does not trust it says so itself
		BaseContext: func(net.Listener) context.Context { return ctx }}
	go func() {
		defer close(d.ended)
		d.server.ServeTLS(l, "", "") //nolint:errcheck // it ends with Close
	}()
	return d, nil
}

// Address is its address, as a bench is told of it.
func (d *Depot) Address() string { return "https://" + d.listener.Addr().String() + "/" }

// Close ends it.
func (d *Depot) Close() error {
	d.Set(Well)
	err := d.server.Close()
	<-d.ended
	return err
}

// Set changes what is wrong with it.
func (d *Depot) Set(m Mode) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.mode = m
	close(d.wake)
	d.wake = make(chan struct{})
}

// Mode is what is wrong with it.
func (d *Depot) Mode() Mode {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.mode
}

// Offer replaces what it offers.
func (d *Depot) Offer(made time.Time, goods ...Goods) error {
	x := depot.Index{Format: 1, Name: d.cfg.Name, Made: made, Offers: []depot.Offer{}}
	files := map[string]Content{}
	for _, g := range goods {
		o := g.Offer
		sum, err := g.File.Digest()
		if err != nil {
			return fmt.Errorf("depot: %s: %w", o.Name, err)
		}
		o.File = depot.File{Path: path.Join(o.Kind, o.Name+"-"+o.Version), SHA256: sum, Size: g.File.Size()}
		files[o.File.Path] = g.File
		if g.Licence != "" {
			text := Bytes([]byte(g.Licence))
			if sum, err = text.Digest(); err != nil {
				return err
			}
			l := *o.Licence
			l.File = depot.File{Path: "licences/" + sum[:16] + ".txt", SHA256: sum, Size: text.Size()}
			o.Licence, files[l.Path] = &l, text
		}
		x.Offers = append(x.Offers, o)
	}
	raw, err := json.MarshalIndent(x, "", "  ")
	if err != nil {
		return err
	}
	signature, err := cms.Sign(raw, d.cfg.Signer, d.cfg.Key)
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.files, d.index, d.signature = files, raw, signature
	return nil
}

func (d *Depot) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	d.mu.Lock()
	mode, wake, index, signature, file := d.mode, d.wake, d.index, d.signature, d.files[name]
	d.mu.Unlock()
	if mode == Dead {
		select {
		case <-wake:
			panic(http.ErrAbortHandler)
		case <-r.Context().Done():
			return
		}
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		w.WriteHeader(http.StatusMethodNotAllowed)
		return
	}
	switch {
	case name == depot.IndexPath:
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(index))
	case name == depot.SignaturePath:
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(signature))
	case file == nil:
		http.NotFound(w, r)
	default:
		sum, err := file.Digest()
		if err != nil {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		w.Header().Set("ETag", `"`+sum[:24]+`"`)
		w.Header().Set("Content-Type", "application/octet-stream")
		http.ServeContent(&faulty{ResponseWriter: w, depot: d, ctx: r.Context(), cutAfter: 600_000}, r, "", time.Time{}, file.Open())
	}
}

// faulty sends a file as the depot's mode says.
type faulty struct {
	http.ResponseWriter
	depot    *Depot
	ctx      context.Context
	cutAfter int
}

func (f *faulty) Write(b []byte) (int, error) {
	switch f.depot.Mode() {
	case Lying:
		b = bytes.Clone(b)
		for i := range b {
			b[i] ^= 0x20
		}
	case Cut:
		if f.cutAfter -= len(b); f.cutAfter < 0 {
			panic(http.ErrAbortHandler)
		}
	case Slow:
		return f.slowly(b)
	case Dead:
		panic(http.ErrAbortHandler)
	}
	return f.ResponseWriter.Write(b)
}

// slowly sends at the depot's rate, which all its answers share.
func (f *faulty) slowly(b []byte) (sent int, err error) {
	const piece = 4096
	for len(b) > 0 && err == nil {
		n := min(len(b), piece)
		f.depot.mu.Lock()
		at := f.depot.bucket
		if now := time.Now(); at.Before(now) {
			at = now
		}
		f.depot.bucket = at.Add(time.Duration(float64(n) / float64(max(f.depot.cfg.Rate, 1)) * 1e9))
		wake := f.depot.wake
		f.depot.mu.Unlock()
		select {
		case <-time.After(time.Until(at)):
		case <-wake: // it is not slow any more, perhaps
		case <-f.ctx.Done():
			return sent, f.ctx.Err()
		}
		var m int
		m, err = f.ResponseWriter.Write(b[:n])
		http.NewResponseController(f.ResponseWriter).Flush() //nolint:errcheck // the next write says it
		sent, b = sent+m, b[m:]
	}
	return sent, err
}

// ErrMode is the error for a mode that does not exist.
var ErrMode = errors.New("there is no such mode: use well, slow, cut, dead or lying")
