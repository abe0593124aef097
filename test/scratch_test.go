package test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

func TestScratch(t *testing.T) {
	pages := os.Getenv("SCRATCH")
	if pages == "" {
		t.Skip("scratch")
	}
	w, h := 1280, 800
	if os.Getenv("NARROW") != "" {
		w, h = 390, 844
	}
	b := openBrowser(t, w, h)
	for i, p := range strings.Split(pages, ",") {
		p, press, _ := strings.Cut(p, "@")
		b.goes(p)
		get(b, "settle", chromedp.Sleep(1200*time.Millisecond))
		for _, s := range strings.Split(press, "@") {
			if s != "" {
				b.presses(s)
				get(b, "settle", chromedp.Sleep(1200*time.Millisecond))
			}
		}
		png := get(b, "shot", chromedp.CaptureScreenshot())
		os.WriteFile("/tmp/shot"+string(rune('0'+i))+".png", png, 0o644)
	}
	t.Log(b.log.String())
}
