package picture

import (
	"context"
	"fmt"
	"image"
	"io"
	"net/http"
	"net/url"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
)

// Ask asks an address, and follows it nowhere else.
type Ask func(ctx context.Context, address string) (*http.Response, error)

// Bounds of what a page elsewhere loads.
const (
	mostElsewhere     = 300      // requests that are asked
	mostHeard         = 3000     // requests that are answered at all: a page may ask without end
	longestElsewhere  = 16 << 20 // bytes of one answer
	elsewhereTogether = 6
	elsewhereTime     = 45 * time.Second
)

// elsewhere answers what a page loads that the browser itself cannot reach.
type elsewhere struct {
	host  string
	ask   Ask
	heard atomic.Int64
	slots chan struct{}
}

// TakeElsewhere takes a picture of the upper part of a page of another machine. The browser reaches nothing but the gateway: what the page
// loads from its own host is asked in its place, and anything else is not there.
func (t *Taker) TakeElsewhere(ctx context.Context, address string, ask Ask) (image.Image, error) {
	at, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	t.taking.Lock()
	defer t.taking.Unlock()
	browser, done, err := t.use()
	if err != nil {
		return nil, err
	}
	defer done()
	tab, cancel := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	defer cancel()
	tab, stop := context.WithTimeout(tab, elsewhereTime)
	defer stop()
	defer context.AfterFunc(ctx, stop)()
	e := &elsewhere{host: at.Host, ask: ask, slots: make(chan struct{}, elsewhereTogether)}
	hear := func(event any) {
		if paused, is := event.(*fetch.EventRequestPaused); is && e.heard.Add(1) <= mostHeard {
			go e.answer(tab, paused, e.heard.Load())
		}
	}
	if err := chromedp.Listen(tab, hear); err != nil {
		return nil, err
	}
	begin := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, fetch.Enable, fetch.EnableParams{})
		return err
	})
	if err := chromedp.Do(tab, begin, chromedp.EmulateViewport(width, height), chromedp.Navigate(address), chromedp.Sleep(settleTime),
		stays(address)); err != nil {
		return nil, fmt.Errorf("open %s in the browser: %w", address, err)
	}
	return shown(tab, address)
}

// answer answers one request of the page.
func (e *elsewhere) answer(tab context.Context, paused *fetch.EventRequestPaused, number int64) {
	e.slots <- struct{}{}
	defer func() { <-e.slots }()
	status, headers, body, err := e.load(tab, paused.Request, number)
	chromedp.Do(tab, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if err != nil {
			_, err := cdp.Call(ctx, t, fetch.FailRequest, fetch.FailRequestParams{RequestID: paused.RequestID,
				ErrorReason: network.ErrorReasonBlockedByClient})
			return err
		}
		_, err := cdp.Call(ctx, t, fetch.FulfillRequest, fetch.FulfillRequestParams{RequestID: paused.RequestID, ResponseCode: int64(status),
			ResponseHeaders: headers, Body: body})
		return err
	}))
}

// load asks what one request of the page is for, where it is one that may be asked.
func (e *elsewhere) load(ctx context.Context, request *network.Request, number int64) (status int, headers []*fetch.HeaderEntry,
	body []byte, err error) {
	to, err := url.Parse(request.URL)
	if err != nil || to.Host != e.host || to.Scheme != "http" && to.Scheme != "https" || request.Method != http.MethodGet ||
		number > mostElsewhere {
		return 0, nil, nil, fmt.Errorf("%s is not asked", request.URL)
	}
	response, err := e.ask(ctx, request.URL)
	if err != nil {
		return 0, nil, nil, err
	}
	defer response.Body.Close()
	for _, name := range []string{"Content-Type", "Location", "Content-Security-Policy"} {
		if value := response.Header.Get(name); value != "" {
			headers = append(headers, &fetch.HeaderEntry{Name: name, Value: value})
		}
	}
	body, err = io.ReadAll(io.LimitReader(response.Body, longestElsewhere))
	return response.StatusCode, headers, body, err
}
