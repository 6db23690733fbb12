package picture

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

const (
	screenTime  = 40 * time.Second
	settledTime = 400 * time.Millisecond // for what scripts and letters do once the page is loaded
)

// Screen is a picture of a whole page, PNG, in a window of a size in CSS pixels: as somebody sees it who is not signed in, and prefers dark
// pages where that is said.
func (t *Taker) Screen(ctx context.Context, address string, width, height int, phone, dark bool) ([]byte, error) {
	release, err := t.place(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	browser, done, err := t.use()
	if err != nil {
		return nil, err
	}
	defer done()
	tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	defer cancel()
	tab, stop := context.WithTimeout(tab, screenTime)
	defer stop()
	defer context.AfterFunc(ctx, stop)()
	appearance := "light"
	if dark {
		appearance = "dark"
	}
	prefers := chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
			{Name: "prefers-color-scheme", Value: appearance}, {Name: "prefers-reduced-motion", Value: "reduce"}}})
		return err
	})
	window := chromedp.EmulateViewport(int64(width), int64(height))
	if phone {
		window = chromedp.EmulateViewport(int64(width), int64(height), chromedp.EmulateMobile, chromedp.EmulateTouch)
	}
	if err := chromedp.Do(tab, window, prefers, chromedp.Navigate(address), chromedp.Sleep(settledTime)); err != nil {
		return nil, fmt.Errorf("open %s in the browser: %w", address, err)
	}
	taken, err := chromedp.Run(tab, chromedp.FullScreenshot(100))
	if err != nil {
		return nil, fmt.Errorf("take a picture of %s: %w", address, err)
	}
	return taken, nil
}
