package hands_test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/standin/body"
	"earlybench.invalid/earlybench/standin/hands"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// glass is a body of which only the taps are kept.
type glass struct {
	mu      sync.Mutex
	rev     uint64
	path    []image.Point
	keys    []string
	changed chan struct{}
	plugged bool
}

func (g *glass) Mark() string { return "halden" }
func (g *glass) Name() string { return "heron-2" }
func (g *glass) Elements() ([]body.Element, uint64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return []body.Element{{Text: "Batch", Kind: "row", X: 10, Y: 20, W: 30, H: 40}}, g.rev
}
func (g *glass) Frame(context.Context, uint64) (*image.RGBA, uint64, error) {
	return image.NewRGBA(image.Rect(0, 0, 4, 6)), 1, nil
}
func (g *glass) Changed() <-chan struct{} {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.changed
}
func (g *glass) change(f func()) {
	g.mu.Lock()
	defer g.mu.Unlock()
	f()
	g.rev++
	close(g.changed)
	g.changed = make(chan struct{})
}
func (g *glass) Size() image.Point { return image.Pt(276, 550) }
func (g *glass) Read() body.Reading {
	e, _ := g.Elements()
	return body.Reading{Title: "Inside label", Elements: e}
}
func (g *glass) Card() []body.Secret { return []body.Secret{{What: "PIN", Text: "2580"}} }
func (g *glass) Asks() bool          { return true }
func (g *glass) SlideTo(way string) error {
	if way != "left" {
		return errors.New("there is no such way")
	}
	g.change(func() { g.keys = append(g.keys, way) })
	return nil
}
func (g *glass) Style() string            { return "water" }
func (g *glass) Form() string             { return "phone" }
func (g *glass) Slide(path []image.Point) { g.change(func() { g.path = path }) }
func (g *glass) Key(code uint32, _ bool) {
	g.change(func() { g.keys = append(g.keys, fmt.Sprint(code)) })
}
func (g *glass) Press(key string) error {
	if key != "power" {
		return errors.New("there is no such key")
	}
	g.change(func() { g.keys = append(g.keys, key) })
	return nil
}
func (g *glass) Plug(string) error        { g.change(func() { g.plugged = true }); return nil }
func (g *glass) Pull(string, int64) error { g.change(func() { g.plugged = false }); return nil }
func (g *glass) Plugged(string) bool      { g.mu.Lock(); defer g.mu.Unlock(); return g.plugged }

func start(t *testing.T) (*glass, *hands.Server) {
	t.Helper()
	g := &glass{changed: make(chan struct{}), plugged: true, rev: 1}
	s, err := hands.Start("127.0.0.1:0", g, []hands.Body{g})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return g, s
}

// originOf is the origin of the page, without the secret of its paths.
func originOf(s *hands.Server) string {
	parts := strings.SplitN(s.URL(), "/", 4)
	return strings.Join(parts[:3], "/")
}

func send(t *testing.T, method, url string, header map[string]string) *http.Response {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, nil)
	require.NoError(t, err)
	for k, v := range header {
		if k == "Host" {
			req.Host = v
		}
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { res.Body.Close() })
	return res
}

func TestTheHandsPageIsTouchedByItselfOnly(t *testing.T) {
	g, s := start(t)
	require.True(t, strings.HasPrefix(s.URL(), "http://localhost:"), "not the service's host name")
	own := map[string]string{"Origin": originOf(s)}
	page := s.URL() + "/held/heron-2"
	for _, c := range []struct {
		name, method, url string
		header            map[string]string
		status            int
	}{
		{"the page", "GET", page, nil, 200},
		{"the list of bodies", "GET", s.URL() + "/", nil, 200},
		{"without the secret", "GET", originOf(s) + "/held/heron-2", nil, 404},
		{"with another secret", "GET", originOf(s) + "/AAAAAAAAAAAAAAAAAAAAAAAAAA/held/heron-2", nil, 404},
		{"a touch without the secret", "POST", originOf(s) + "/held/heron-2/touch", own, 404},
		{"a file without the secret", "GET", originOf(s) + "/static/page.js", nil, 404},
		{"a body that is not there", "GET", s.URL() + "/held/heron-9", nil, 404},
		{"another host name", "GET", page, map[string]string{"Host": "evil.invalid"}, 421},
		{"the service's own host name", "GET", strings.Replace(page, "localhost", "127.0.0.1", 1), nil, 421},
		{"a touch of another page", "POST", page + "/touch", map[string]string{"Origin": "http://evil.invalid"}, 403},
		{"a touch of nobody", "POST", page + "/touch", nil, 403},
		{"a touch at no place", "POST", page + "/touch", own, 400},
		{"a GET changes nothing", "GET", page + "/touch", nil, 405},
		{"a key of its own", "POST", page + "/press?key=power", own, 204},
		{"a letter", "POST", page + "/press?code=97", own, 204},
		{"a slide without a finger", "POST", page + "/slide?to=left", own, 204},
		{"a slide to nowhere", "POST", page + "/slide?to=in", own, 400},
		{"a key that no body has", "POST", page + "/press?key=turbo", own, 400},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.status, send(t, c.method, c.url, c.header).StatusCode)
		})
	}
	r, err := http.NewRequest("POST", page+"/touch", strings.NewReader("[[12,30],[12,80]]"))
	require.NoError(t, err)
	r.Header.Set("Origin", originOf(s))
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 204, answer.StatusCode)
	require.Equal(t, []image.Point{{X: 12, Y: 30}, {X: 12, Y: 80}}, g.path)
	require.Equal(t, []string{"power", "97", "left"}, g.keys)
	res := send(t, "GET", page, nil)
	require.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'self'")
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NotContains(t, string(raw), "<script>", "no script in the page itself")
	img, err := png.Decode(send(t, "GET", page+"/screen.png", nil).Body)
	require.NoError(t, err)
	require.Equal(t, image.Rect(0, 0, 4, 6), img.Bounds())
	require.Equal(t, 200, send(t, "GET", s.URL()+"/fonts/plex-sans-medium.ttf", nil).StatusCode)
}

func TestThePageIsToldOfEveryChange(t *testing.T) {
	g, s := start(t)
	res := send(t, "GET", s.URL()+"/held/heron-2/events", nil)
	lines := bufio.NewScanner(res.Body)
	next := func() (seen struct {
		Rev      uint64
		Plugged  bool
		Asks     bool
		Elements []body.Element
	}) {
		t.Helper()
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				require.NoError(t, json.Unmarshal([]byte(data), &seen))
				return seen
			}
		}
		require.Fail(t, "no event")
		return seen
	}
	first := next()
	require.True(t, first.Plugged)
	require.True(t, first.Asks, "so that the card is opened")
	require.Equal(t, "Batch", first.Elements[0].Text)
	g.Key(97, true)
	require.Greater(t, next().Rev, first.Rev)
	send(t, "POST", s.URL()+"/held/heron-2/cable?in=no", map[string]string{"Origin": originOf(s)})
	require.False(t, next().Plugged)
	send(t, "POST", s.URL()+"/held/heron-2/cable?in=yes", map[string]string{"Origin": originOf(s)})
	require.True(t, next().Plugged)
}
