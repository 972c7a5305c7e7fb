package e2e

import (
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

func TestZZShot(t *testing.T) {
	if os.Getenv("SHOTS") == "" {
		t.Skip()
	}
	p := browse(t, os.Getenv("STONEBATON_URL"))
	for _, s := range strings.Fields(os.Getenv("SHOTS")) {
		f := strings.Split(s, "|")
		w, h := 1280, 800
		if len(f) > 2 && f[2] != "" {
			a, b, _ := strings.Cut(f[2], "x")
			w, _ = strconv.Atoi(a)
			h, _ = strconv.Atoi(b)
		}
		chromedp.Do(p.ctx, chromedp.EmulateViewport(int64(w), int64(h)))
		p.open(f[0])
		time.Sleep(1200 * time.Millisecond)
		for _, x := range f[min(3, len(f)):] {
			js[chromedp.Void](p, x)
			time.Sleep(500 * time.Millisecond)
		}
		png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile("/tmp/"+f[1]+".png", png, 0o644)
	}
}
