package picture

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

const shotTime = 40 * time.Second

// View is what is seen of a page: always as somebody sees it who is not signed in.
type View struct {
	Width, Height int           // of the window, in CSS pixels
	Top           int           // how far down, in CSS pixels
	Phone, Dark   bool          // a phone's window; one who prefers dark pages
	Whole         bool          // all of the page instead of what the window shows
	Settle        time.Duration // is waited for what scripts and letters do once the page is loaded
}

// Upper is the upper part of a page on a desk.
var Upper = View{Width: 1280, Height: 800}

// Shot is a picture of a page, PNG.
func (t *Taker) Shot(ctx context.Context, address string, v View) ([]byte, error) {
	return t.shot(ctx, address, v, nil)
}

// Take is a picture of a page.
func (t *Taker) Take(ctx context.Context, address string, v View) (image.Image, error) {
	return decoded(t.Shot(ctx, address, v))
}

func decoded(raw []byte, err error) (image.Image, error) {
	if err != nil {
		return nil, err
	}
	return png.Decode(bytes.NewReader(raw))
}

// shot opens a page in a tab with a profile of its own, and takes a picture. What is on an address that the browser does not reach is
// answered by somebody else.
func (t *Taker) shot(ctx context.Context, address string, v View, by *elsewhere) ([]byte, error) {
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
	tab, stop := context.WithTimeout(tab, shotTime)
	defer stop()
	defer context.AfterFunc(ctx, stop)()
	if by != nil {
		if err := by.listen(tab); err != nil {
			return nil, err
		}
	}
	if err := chromedp.Do(tab, v.window(), v.prefers(), chromedp.Navigate(address), chromedp.Sleep(v.Settle), stays(address),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void scrollTo({ top: %d, behavior: 'instant' })", v.Top))); err != nil {
		return nil, fmt.Errorf("open %s in the browser: %w", address, err)
	}
	take := chromedp.CaptureScreenshot()
	if v.Whole {
		take = chromedp.FullScreenshot(100)
	}
	taken, err := chromedp.Run(tab, take)
	if err != nil {
		return nil, fmt.Errorf("take a picture of %s: %w", address, err)
	}
	return taken, nil
}

func (v View) window() chromedp.Action[chromedp.Void] {
	if v.Phone {
		return chromedp.EmulateViewport(int64(v.Width), int64(v.Height), chromedp.EmulateMobile, chromedp.EmulateTouch)
	}
	return chromedp.EmulateViewport(int64(v.Width), int64(v.Height))
}

// prefers has pages know whether dark ones are liked, and that movement is not.
func (v View) prefers() chromedp.Action[chromedp.Void] {
	appearance := "light"
	if v.Dark {
		appearance = "dark"
	}
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		_, err := cdp.Call(ctx, target, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
			{Name: "prefers-color-scheme", Value: appearance}, {Name: "prefers-reduced-motion", Value: "reduce"}}})
		return err
	})
}
