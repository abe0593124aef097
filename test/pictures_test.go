package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestPictures takes the pictures of docs/screenshots: with PICTURES naming the
// directory to write to.
func TestPictures(t *testing.T) {
	dir := os.Getenv("PICTURES")
	if dir == "" {
		t.Skip("it takes pictures for the documentation, with make screenshots")
	}
	d := startDemo(t)
	b := openBrowser(t, 1280, 800)
	shot := func(name string) {
		get(b, "let it settle", chromedp.Sleep(400*time.Millisecond))
		png := get(b, "take a picture", chromedp.CaptureScreenshot())
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
	}
	url := d.ok("console")
	b.goes(strings.TrimSpace(url))
	b.sees("heron-2")
	shot("rack")
	b.presses("Go on")
	b.sees("Inside label")
	for _, text := range []string{"Settings", "Care", "Inside label"} {
		b.hands(text)
	}
	b.presses("I have done that")
	b.sees("six times")
	for range 3 {
		b.hands("Batch")
	}
	shot("device")
	for range 3 {
		b.hands("Batch")
	}
	for _, text := range []string{"Back", "Back", "Back room", "Computers may", "debug and install", "Let them"} {
		b.hands(text)
	}
	b.sees("SHA-256")
	shot("driver")
	b.presses("Install halden-link")
	b.presses("Have heron-2 ask")
	b.sees("It is asking now")
	shot("admission")
	b.hands("Until withdrawn")
	b.presses("Try Callout")
	b.sees("Passed")
	b.sees("is ready")
	shot("tried")
}
