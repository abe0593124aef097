package httpd_test

import (
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"
	"github.com/valyala/fasthttp"

	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

func TestMain(m *testing.M) { leaks.None(m) }

// serves serves handlers as the interface's are served.
func serves(t *testing.T, routes func(*fiber.App)) (url string) {
	t.Helper()
	app := fiber.New()
	routes(app)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := httpd.New(app.Handler(), httpd.Limits{Connections: 10, SentWithin: time.Minute, Known: func(h *fasthttp.RequestHeader) bool {
		return len(h.Peek(fiber.HeaderAuthorization)) > 0
	}})
	done := make(chan error, 1)
	go func() { done <- server.Serve(l) }()
	t.Cleanup(func() {
		http.DefaultClient.CloseIdleConnections()
		require.NoError(t, server.Shutdown())
		require.NoError(t, <-done)
	})
	return "http://" + l.Addr().String()
}

func TestAHandlerThatPanicsAnswersAndTheOthersGoOn(t *testing.T) {
	url := serves(t, func(app *fiber.App) {
		app.Get("/panic", func(c fiber.Ctx) error {
			c.WriteString("half an answer") // it is taken back
			panic("no such row")
		})
		app.Get("/well", func(c fiber.Ctx) error { return c.SendString("well") })
	})
	res, err := http.Get(url + "/panic")
	require.NoError(t, err)
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 500, res.StatusCode)
	require.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
	require.Contains(t, string(raw), "An error in the program ended this request.")
	require.NotContains(t, string(raw), "half")
	require.NotContains(t, string(raw), "no such row", "what is inside is not told to whoever asks")
	res, err = http.Get(url + "/well")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
}

// A body that nobody has read is not taken for the next request.
func TestABodyThatWasNotReadEndsTheConnection(t *testing.T) {
	read := ""
	url := serves(t, func(app *fiber.App) {
		app.Post("/ignores", func(c fiber.Ctx) error { return c.SendString("ignored") })
		app.Post("/reads", func(c fiber.Ctx) error {
			raw, err := httpd.WholeBody(c, httpd.UnknownBody)
			read = string(raw)
			return err
		})
		app.Get("/smuggled", func(c fiber.Ctx) error { panic("it was taken for a request") })
	})
	c, err := net.Dial("tcp", strings.TrimPrefix(url, "http://"))
	require.NoError(t, err)
	defer c.Close()
	hidden := "GET /smuggled HTTP/1.1\r\nHost: x\r\n\r\n"
	go io.WriteString(c, "POST /ignores HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer x\r\nTransfer-Encoding: chunked\r\n\r\n400\r\n"+strings.Repeat("x", 1024)+"\r\n0\r\n\r\n"+hidden)
	raw, err := io.ReadAll(c)
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(string(raw), "HTTP/1.1 "), string(raw))
	require.Contains(t, string(raw), "Connection: close")

	res, err := http.Post(url+"/reads", "text/plain", strings.NewReader("all of it"))
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 200, res.StatusCode)
	require.Equal(t, "all of it", read)
	require.Empty(t, res.Header.Get("Connection"), "the connection is used again")
	res, err = http.Post(url+"/reads", "text/plain", strings.NewReader(strings.Repeat("x", 2000)))
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 413, res.StatusCode)
}
