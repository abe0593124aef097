// Package hands serves the device in your hand: a page, at its own address, that shows
// a stand-in's screen and lets a person touch it like a real device. The bench takes no
// part in it.
package hands

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"image"
	"image/png"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"earlybench.invalid/earlybench/standin/body"
)

// Body is a body that can be held.
type Body interface {
	Name() string
	Mark() string // the maker's, as it stands on the body
	Elements() ([]body.Element, uint64)
	Read() body.Reading
	Card() []body.Secret
	Asks() bool // for something on its card
	Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error)
	Changed() <-chan struct{}
	Size() image.Point // of the screen, in points
	Style() string     // of its look
	Form() string      // phone, tablet, keys, round
	Slide(path []image.Point)
	SlideTo(way string) error
	Press(key string) error
	Key(code uint32, down bool)
}

// Cable plugs bodies in and pulls them out.
type Cable interface {
	Plug(name string) error
	Pull(name string, after int64) error
	Plugged(name string) bool
	Changed() <-chan struct{}
}

// Server is the hands page. It is made by Start and ends with Close.
type Server struct {
	bodies []Body
	cable  Cable
	http   *http.Server
	secret string // the first part of each path, so that only those who were given the address get in
	host   string
	served chan struct{}
}

//go:embed page.html page.js page.css
var files embed.FS

var page = template.Must(template.ParseFS(files, "page.html"))

// Start serves the bodies at address, a loopback one. Its URL has the host name
// localhost, since cookies do not keep ports apart (RFC 6265, 8.5): a cookie of
// a service on 127.0.0.1 never comes here. Its paths begin with a secret: other users of this
// computer reach the port, too.
func Start(address string, cable Cable, bodies []Body) (*Server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("hands page: %w", err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	s := &Server{bodies: bodies, cable: cable, secret: rand.Text(), host: "localhost:" + port, served: make(chan struct{})}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", s.index)
	mux.HandleFunc("GET /held/{name}", s.page)
	mux.HandleFunc("GET /held/{name}/screen.png", s.picture)
	mux.HandleFunc("GET /held/{name}/events", s.events)
	mux.HandleFunc("POST /held/{name}/touch", s.touch)
	mux.HandleFunc("POST /held/{name}/slide", s.slide)
	mux.HandleFunc("POST /held/{name}/press", s.press)
	mux.HandleFunc("POST /held/{name}/cable", s.plug)
	mux.Handle("GET /static/", http.StripPrefix("/static/", http.FileServerFS(files)))
	mux.Handle("GET /fonts/", http.FileServerFS(body.Fonts()))
	s.http = &http.Server{Handler: s.guard(http.StripPrefix("/"+s.secret, mux)), ReadHeaderTimeout: 5 * time.Second}
	go func() {
		defer close(s.served)
		s.http.Serve(l) //nolint:errcheck // it ends with Close
	}()
	return s, nil
}

// URL is the page's address; a body's page is below it, under the body's name.
func (s *Server) URL() string { return s.origin() + "/" + s.secret }

func (s *Server) origin() string { return "http://" + s.host }

// Close stops serving.
func (s *Server) Close() error {
	err := s.http.Close()
	<-s.served
	return err
}

// guard refuses requests of other sites' pages: only this host name is answered, and
// writes are accepted from its own pages only.
func (s *Server) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host != s.host {
			http.Error(w, "Open this page by the address that the demo has printed.", http.StatusMisdirectedRequest)
			return
		}
		if r.Method == http.MethodPost && r.Header.Get("Origin") != s.origin() {
			http.Error(w, "Only this page itself may do that.", http.StatusForbidden)
			return
		}
		first, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		if subtle.ConstantTimeCompare([]byte(first), []byte(s.secret)) != 1 {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Security-Policy", "default-src 'self'; frame-ancestors http://127.0.0.1:* http://localhost:* http://*.localhost:*")
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

func (s *Server) find(w http.ResponseWriter, r *http.Request) Body {
	for _, b := range s.bodies {
		if b.Name() == r.PathValue("name") {
			return b
		}
	}
	http.Error(w, "There is no such device here.", http.StatusNotFound)
	return nil
}

func (s *Server) index(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	var names []string
	for _, b := range s.bodies {
		names = append(names, b.Name())
	}
	page.Execute(w, map[string]any{"Base": s.URL() + "/", "Names": names}) //nolint:errcheck // the reader has gone
}

func (s *Server) page(w http.ResponseWriter, r *http.Request) {
	if b := s.find(w, r); b != nil {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		page.Execute(w, map[string]any{"Base": s.URL() + "/", "Name": b.Name(), "Mark": b.Mark(), "Style": b.Style(), "Form": b.Form(), "W": b.Size().X, "H": b.Size().Y, "Card": b.Card()}) //nolint:errcheck // as above
	}
}

func (s *Server) picture(w http.ResponseWriter, r *http.Request) {
	b := s.find(w, r)
	if b == nil {
		return
	}
	img, _, err := b.Frame(r.Context(), 0)
	if err != nil {
		return
	}
	w.Header().Set("Content-Type", "image/png")
	e := png.Encoder{CompressionLevel: png.BestSpeed}
	e.Encode(w, img) //nolint:errcheck // as above
}

// seen is what the page is sent at every change.
type seen struct {
	Rev      uint64         `json:"rev"`
	Plugged  bool           `json:"plugged"`
	Says     string         `json:"says"` // for those who do not see the picture
	Asks     bool           `json:"asks"` // for something that its owner knows
	Elements []body.Element `json:"elements"`
}

func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	b := s.find(w, r)
	if b == nil {
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	flush := http.NewResponseController(w)
	var last seen
	for first := true; ; first = false {
		changed, cable := b.Changed(), s.cable.Changed()
		now := seen{Plugged: s.cable.Plugged(b.Name())}
		now.Elements, now.Rev = b.Elements()
		if now.Elements == nil {
			now.Elements = []body.Element{}
		}
		now.Asks = b.Asks()
		now.Says = b.Read().Says()
		if first || now.Rev != last.Rev || now.Plugged != last.Plugged {
			last = now
			raw, _ := json.Marshal(now)
			fmt.Fprintf(w, "data: %s\n\n", raw)
			if flush.Flush() != nil {
				return
			}
		}
		select {
		case <-r.Context().Done():
			return
		case <-changed:
		case <-cable:
		}
	}
}

// slide slides over the middle of the screen, for people who cannot drag.
func (s *Server) slide(w http.ResponseWriter, r *http.Request) {
	b := s.find(w, r)
	if b == nil {
		return
	}
	if err := b.SlideTo(r.URL.Query().Get("to")); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// maxPath limits the points of a finger's path.
const maxPath = 500

// touch handles a finger's path over the screen, in points of the body.
func (s *Server) touch(w http.ResponseWriter, r *http.Request) {
	b := s.find(w, r)
	if b == nil {
		return
	}
	var path [][2]int
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&path); err != nil || len(path) == 0 || len(path) > maxPath {
		http.Error(w, "Send the finger's way as a list of points, such as [[10,20]].", http.StatusBadRequest)
		return
	}
	points := make([]image.Point, len(path))
	for i, p := range path {
		points[i] = image.Pt(p[0], p[1])
	}
	b.Slide(points)
	w.WriteHeader(http.StatusNoContent)
}

// press takes a key: of the body by its name, of a keyboard by its code (RFC
// 6143, 7.5.4).
func (s *Server) press(w http.ResponseWriter, r *http.Request) {
	b := s.find(w, r)
	if b == nil {
		return
	}
	if code, err := strconv.ParseUint(r.URL.Query().Get("code"), 10, 32); err == nil {
		b.Key(uint32(code), true)
	} else if err := b.Press(r.URL.Query().Get("key")); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *Server) plug(w http.ResponseWriter, r *http.Request) {
	b := s.find(w, r)
	if b == nil {
		return
	}
	err := s.cable.Plug(b.Name())
	if r.URL.Query().Get("in") == "no" {
		err = s.cable.Pull(b.Name(), 0)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusConflict)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
