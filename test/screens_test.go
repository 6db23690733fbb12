package test

import (
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// Pages are pictured in every size, and what became of them since is told and marked.
func TestScreens(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "screens", CMS: "empty"}))
	defer s.retire(t, "screens")
	page := `<!doctype html><meta name="viewport" content="width=device-width"><style>body { margin: 0; height: 3000px; background: #fff }
@media (prefers-color-scheme: dark) { body { background: #000 } } @media (max-width: 600px) { body { height: 2000px } }</style>`
	front := filepath.Join(s.site(t, "screens").Folder, "public/index.php")
	write := func(more string) { require.NoError(t, os.WriteFile(front, []byte(page+more), 0o644)) }
	write("")
	dir := t.TempDir()
	before, now := filepath.Join(dir, "before"), filepath.Join(dir, "now")
	out, errs, code := s.cli("screens", "screens", "-sizes", "phone,1000x700", "-dark", "-o", before)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "390 x 2000")
	assert.Contains(t, out, "1000 x 3000")
	for name, dark := range map[string]bool{"front-phone": false, "front-phone-dark": true, "front-1000x700": false,
		"front-1000x700-dark": true} {
		file, err := os.Open(filepath.Join(before, name+".png"))
		require.NoError(t, err)
		picture, err := png.Decode(file)
		file.Close()
		require.NoError(t, err)
		r, _, _, _ := picture.At(100, 100).RGBA()
		assert.Equal(t, dark, r == 0, name)
	}
	assert.FileExists(t, filepath.Join(before, "sheet.png"))

	_, errs, code = s.cli("screens", "screens", "-sizes", "phone,1000x700", "-against", before, "-o", now)
	assert.Zero(t, code, errs)
	write(`<div style="width: 300px; height: 300px; background: red"></div>`)
	out, _, code = s.cli("screens", "screens", "-sizes", "phone,1000x700", "-against", before, "-o", now, "-json")
	assert.Equal(t, 3, code, "what differs is told by the exit code")
	var taken []struct {
		Size, Marked string
		Different    float64
	}
	require.NoError(t, json.Unmarshal([]byte(out), &taken))
	require.Len(t, taken, 2)
	assert.InDelta(t, 300.0*300/(390*2000), taken[0].Different, 0.001)
	assert.FileExists(t, taken[0].Marked)

	pages := []string{"/a/b", "/a-b", "/a--b", "/?p=1", "/?p=2", "/" + strings.Repeat("long/", 60)}
	_, errs, code = s.cli(append([]string{"screens", "screens", "-sizes", "360x640", "-o", filepath.Join(dir, "many"), "-json"}, pages...)...)
	require.Zero(t, code, errs)
	files, err := filepath.Glob(filepath.Join(dir, "many", "*-360x640.png"))
	require.NoError(t, err)
	assert.Len(t, files, len(pages), "each page has a file of its own")

	for want, arguments := range map[string][]string{"is no size": {"screens", "-sizes", "huge"}, "is no page": {"screens", "about"},
		"say each page and size once": {"screens", "/about", "/about/"},
		"name another one":            {"screens", "-against", now, "-o", now}, "no such site": {"nobody", "-o", now}} {
		_, errs, code := s.cli(append([]string{"screens"}, arguments...)...)
		assert.Equal(t, 2, code, errs)
		assert.Contains(t, errs, want)
	}
}

// On the console, frames of a site in all widths scroll together; no page but the console's has that script put into it.
func TestFramesScrollTogether(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "frames", CMS: "empty"}))
	defer s.retire(t, "frames")
	at := s.site(t, "frames")
	require.NoError(t, os.WriteFile(filepath.Join(at.Folder, "public/index.php"), []byte(`<?php
if (isset($_GET['w'])) { file_put_contents(__DIR__ . '/seen-' . (int) $_GET['w'], (int) $_GET['y']); exit; } ?>
<!doctype html><meta name="viewport" content="width=device-width"><style>body { height: 4000px } @media (max-width: 600px) {
body { height: 8000px } }</style><body><script>addEventListener("scroll", () => fetch("/?w=" + innerWidth + "&y=" + scrollY))</script>`),
		0o644))
	ctx := page(t, s, 1280, 800)
	do := steps(t, ctx)
	do("the frames", chromedp.Navigate(mustStatus(t, s).Console+"sites/frames/screens"),
		chromedp.WaitVisible(chromedp.CSS(`iframe[title="/ on a wide"]`)), chromedp.Sleep(time.Second),
		chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
			_, err := cdp.Call(ctx, target, input.DispatchMouseEvent, input.DispatchMouseEventParams{Type: input.DispatchMouseEventTypeMouseWheel,
				X: 80, Y: 350, DeltaX: 0.01, DeltaY: 2000})
			return err
		}))
	seen := func(width int) (y float64) {
		text, err := os.ReadFile(filepath.Join(at.Folder, "public", fmt.Sprintf("seen-%d", width)))
		if err == nil {
			_, err = fmt.Sscan(string(text), &y)
			require.NoError(t, err)
		}
		return y
	}
	require.Eventually(t, func() bool { return seen(390) > 500 && seen(1920) > 200 }, 10*time.Second, 50*time.Millisecond)
	assert.InDelta(t, seen(390)/(8000-844), seen(1920)/(4000-1080), 0.05, "as far down, by their own lengths")
	_, plain, _ := get(t, at.URL, "Sec-Fetch-Dest", "iframe", "Referer", "http://elsewhere.example/")
	assert.NotContains(t, plain, "vessik-frame")
	_, plain, _ = get(t, at.URL, "Referer", mustStatus(t, s).Console)
	assert.NotContains(t, plain, "vessik-frame")
	_, framed, _ := get(t, at.URL, "Sec-Fetch-Dest", "iframe", "Referer", mustStatus(t, s).Console)
	assert.Contains(t, framed, "vessik-frame")
}
