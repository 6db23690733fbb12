package picture

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"vessik/internal/core/walk"
)

// Width is one that a page is looked at in, in pixels.
type Width struct {
	Pixels, Height int64
	Phone          bool
}

// Widths are all of them: a desk, a tablet and a phone.
var Widths = []Width{{1280, 800, false}, {820, 1180, false}, {390, 844, true}}

// Bounds of a look at one page: of time, and of what is kept.
const (
	openTime      = 30 * time.Second
	lookTime      = 30 * time.Second
	settleTime    = 250 * time.Millisecond // for what scripts do once the page is loaded
	resizeTime    = 80 * time.Millisecond
	mostSeen      = 10
	longestSeen   = 300 // characters
	mostAddresses = 4000
)

// LookTogether is how many pages are looked at at once, of all sites.
const LookTogether = 2

// ErrEnded says that the browser ended, or had to be ended; another one starts when it is asked for again.
var ErrEnded = errors.New("the browser ended")

// Tab is a tab of the browser, in a profile of its own, that looks at one page after another.
type Tab struct {
	taker   *Taker
	axe     string
	cookies []*http.Cookie
	address string // of the site that they are for

	tab    context.Context // nil where there is none
	browse context.Context
	close  func()
}

// Open returns a tab for the pages of a site, signed in as cookies say. axe is axe-core's source; empty for none.
func (t *Taker) Open(site string, cookies []*http.Cookie, axe string) *Tab {
	return &Tab{taker: t, axe: axe, cookies: cookies, address: site}
}

// Close closes the tab.
func (b *Tab) Close() {
	if b.tab != nil {
		b.close()
		b.tab = nil
	}
}

// open opens the tab where it is not.
func (b *Tab) open() error {
	if b.tab != nil && b.tab.Err() == nil && b.browse.Err() == nil {
		return nil
	}
	b.Close()
	browser, done, err := b.taker.use()
	if err != nil {
		return err
	}
	tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	b.tab, b.browse, b.close = tab, browser, func() { cancel(); done() }
	opened := make(chan error, 1)
	go func() { opened <- chromedp.Do(tab, b.prepare()) }() // without a time of its own, after which the tab would end
	select {
	case err = <-opened:
	case <-time.After(openTime):
		b.taker.endOf(browser)
		err = ErrEnded
	}
	if err != nil {
		b.Close()
		return fmt.Errorf("open a tab: %w", err)
	}
	return nil
}

// look is one look, as it grows.
type look struct {
	mu        sync.Mutex
	seen      walk.Look
	addresses map[network.RequestID]string
	dialogs   chan struct{}
}

// Look has the browser show a page, and tells what there was to be seen; the pictures are JPEG, one a width.
func (b *Tab) Look(ctx context.Context, address string) (seen walk.Look, pictures [][]byte, err error) {
	release, err := b.taker.place(ctx)
	if err != nil {
		return seen, nil, err
	}
	defer release()
	if err := b.open(); err != nil {
		return seen, nil, err
	}
	tab, stop := context.WithTimeout(b.tab, lookTime)
	defer stop()
	defer context.AfterFunc(ctx, stop)()
	l := &look{addresses: map[network.RequestID]string{}, dialogs: make(chan struct{}, 1)}
	if err := chromedp.Listen(tab, l.hear); err != nil {
		return seen, nil, err
	}
	go l.dismiss(tab)
	err = chromedp.Do(tab, chromedp.EmulateViewport(Widths[0].Pixels, Widths[0].Height), chromedp.Navigate(address),
		chromedp.Sleep(settleTime), stays(address))
	if err == nil {
		pictures, err = l.through(tab, b.axe)
	}
	if err == nil { // whatever the page goes on doing ends here
		err = chromedp.Do(tab, chromedp.Navigate("about:blank"))
	}
	gone := b.browse.Err() != nil
	if err != nil {
		b.Close()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case ctx.Err() != nil:
		return seen, nil, ctx.Err()
	case gone:
		return seen, nil, ErrEnded
	case errors.Is(err, context.DeadlineExceeded):
		l.seen.Fault = fmt.Sprintf("the browser was not done with it within %d s", int(lookTime.Seconds()))
	case err != nil:
		l.seen.Fault = shortened("the browser could not show it: " + err.Error())
	}
	return l.seen, pictures, nil
}

// prepare has nothing be kept of what pages offer, and signs in as the cookies say.
func (b *Tab) prepare() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, browser.SetDownloadBehavior, browser.SetDownloadBehaviorParams{
			Behavior: browser.SetDownloadBehaviorBehaviorDeny, BrowserContextID: chromedp.FromContext(ctx).BrowserContextID}); err != nil {
			return err
		}
		cookies := []*network.CookieParam{}
		for _, c := range b.cookies {
			cookies = append(cookies, &network.CookieParam{Name: c.Name, Value: c.Value, URL: b.address, Path: "/"})
		}
		if len(cookies) == 0 {
			return nil
		}
		_, err := cdp.Call(ctx, t, network.SetCookies, network.SetCookiesParams{Cookies: cookies})
		return err
	})
}

// hear notes what the browser tells. It is called while nothing else is read from the browser.
func (l *look) hear(event any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		d := e.ExceptionDetails
		text := d.Text
		if d.Exception != nil && d.Exception.Description != "" {
			text = d.Exception.Description
		}
		first, _, _ := strings.Cut(text, "\n")
		l.add(&l.seen.ScriptErrors, place(d), first)
	case *network.EventRequestWillBeSent:
		wanted := e.Type != network.ResourceTypeDocument && !strings.HasSuffix(e.Request.URL, "/favicon.ico") // it asks for that by itself
		if wanted && len(l.addresses) < mostAddresses {
			l.addresses[e.RequestID] = e.Request.URL
		}
	case *network.EventResponseReceived:
		if address, asked := l.addresses[e.RequestID]; asked && e.Response.Status >= http.StatusBadRequest {
			l.add(&l.seen.Failed, address, fmt.Sprintf("answers %d", e.Response.Status))
		}
	case *network.EventLoadingFailed:
		if address, asked := l.addresses[e.RequestID]; asked && !e.Canceled && e.ErrorText != "net::ERR_ABORTED" {
			l.add(&l.seen.Failed, address, "no answer: "+strings.TrimPrefix(e.ErrorText, "net::"))
		}
	case *page.EventJavascriptDialogOpening:
		select {
		case l.dialogs <- struct{}{}:
		default:
		}
	}
}

// dismiss closes what a page asks its visitor, for everything waits for that.
func (l *look) dismiss(tab context.Context) {
	for {
		select {
		case <-tab.Done():
			return
		case <-l.dialogs:
		}
		chromedp.Do(tab, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{})
			return err
		}))
	}
}

// place is where a script ended, without the host.
func place(d *runtime.ExceptionDetails) string {
	address := d.URL
	if address == "" && d.StackTrace != nil && len(d.StackTrace.CallFrames) > 0 {
		address = d.StackTrace.CallFrames[0].URL
	}
	u, err := url.Parse(address)
	if err != nil || address == "" {
		return ""
	}
	return fmt.Sprintf("%s:%d", u.EscapedPath(), d.LineNumber+1)
}

func (l *look) add(to *[]walk.Seen, where, text string) {
	each := walk.Seen{Where: shortened(where), Text: shortened(text)}
	if len(*to) < mostSeen && !slices.Contains(*to, each) {
		*to = append(*to, each)
	}
}

// stays is an error where a page has led to another host meanwhile: what is shown is not the site's.
func stays(address string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (none chromedp.Void, err error) {
		tree, err := cdp.Call(ctx, t, page.GetFrameTree, cdp.Empty{})
		if err != nil {
			return none, err
		}
		from, err := url.Parse(address)
		if err != nil {
			return none, err
		}
		if now, err := url.Parse(tree.FrameTree.Frame.URL); err != nil || now.Host != from.Host {
			return none, fmt.Errorf("it leads on to %s", tree.FrameTree.Frame.URL)
		}
		return none, nil
	}
}

// through looks at a page in all widths.
func (l *look) through(tab context.Context, axe string) (pictures [][]byte, err error) {
	for n, width := range Widths {
		if n > 0 {
			options := []chromedp.EmulateViewportOption{}
			if width.Phone {
				options = append(options, chromedp.EmulateMobile, chromedp.EmulateTouch)
			}
			if err := chromedp.Do(tab, chromedp.EmulateViewport(width.Pixels, width.Height, options...), chromedp.Sleep(resizeTime)); err != nil {
				return pictures, err
			}
		}
		picture, err := chromedp.Run(tab, jpegOf)
		if err != nil {
			return pictures, err
		}
		pictures = append(pictures, picture)
		found, expression := &l.seen.Unusable, axe+"\n"+askAxe
		if width.Phone {
			found, expression = &l.seen.Wide, fmt.Sprintf("%s(%d)", beyondTheEdge, width.Pixels)
		} else if n > 0 || axe == "" {
			continue
		}
		all, err := chromedp.Run(tab, aside(expression))
		if err != nil {
			return pictures, err
		}
		l.mu.Lock()
		for _, each := range all {
			l.add(found, each.Where, each.Text)
		}
		l.mu.Unlock()
	}
	return pictures, nil
}

func jpegOf(ctx context.Context, t *chromedp.Target) ([]byte, error) {
	quality := int64(70)
	taken, err := cdp.Call(ctx, t, page.CaptureScreenshot, page.CaptureScreenshotParams{Format: page.CaptureScreenshotFormatJpeg,
		Quality: &quality})
	return taken.Data, err
}

// aside has a script look at a page from a world of its own, in which the page's scripts change nothing.
func aside(expression string) chromedp.Action[[]walk.Seen] {
	return func(ctx context.Context, t *chromedp.Target) (seen []walk.Seen, err error) {
		tree, err := cdp.Call(ctx, t, page.GetFrameTree, cdp.Empty{})
		if err != nil {
			return nil, err
		}
		world, err := cdp.Call(ctx, t, page.CreateIsolatedWorld, page.CreateIsolatedWorldParams{FrameID: tree.FrameTree.Frame.ID,
			WorldName: "vessik"})
		if err != nil {
			return nil, err
		}
		yes := true
		told, err := cdp.Call(ctx, t, runtime.Evaluate, runtime.EvaluateParams{Expression: expression, ContextID: world.ExecutionContextID,
			AwaitPromise: &yes, ReturnByValue: &yes})
		switch {
		case err != nil:
			return nil, err
		case told.ExceptionDetails != nil:
			return nil, errors.New("look at the page: " + told.ExceptionDetails.Text)
		}
		var text string
		if err := json.Unmarshal(told.Result.Value, &text); err != nil {
			return nil, err
		}
		return seen, json.Unmarshal([]byte(text), &seen)
	}
}

// askAxe is a script, and beyondTheEdge a function of a width, which return JSON: a list of walk.Seen.
var (
	//go:embed axe.js
	askAxe string
	//go:embed edge.js
	beyondTheEdge string
)

func shortened(text string) string {
	if runes := []rune(strings.ToValidUTF8(text, "\ufffd")); len(runes) > longestSeen {
		return string(runes[:longestSeen]) + "…"
	}
	return text
}
