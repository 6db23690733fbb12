package picture

import (
	"context"
	"fmt"
	"image"
	"io"
	"net/http"
	"net/url"
	"sync/atomic"

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
)

// elsewhere answers what a page loads from its own host, and has nothing be anywhere else.
type elsewhere struct {
	host  string
	ask   Ask // nil where the browser asks the host itself
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
	v := Upper
	v.Settle = settleTime
	return decoded(t.shot(ctx, address, v, by(at.Host, ask)))
}

func by(host string, ask Ask) *elsewhere {
	return &elsewhere{host: host, ask: ask, slots: make(chan struct{}, elsewhereTogether)}
}

// TakeAlone is a picture of a page without anything from other hosts: what a site shows of another one of this machine stays here.
func (t *Taker) TakeAlone(ctx context.Context, address string, v View) (image.Image, error) {
	at, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	return decoded(t.shot(ctx, address, v, by(at.Host, nil)))
}

// listen has what a tab loads be asked here.
func (e *elsewhere) listen(tab context.Context) error {
	if err := chromedp.Listen(tab, func(event any) {
		if paused, is := event.(*fetch.EventRequestPaused); is && e.heard.Add(1) <= mostHeard {
			go e.answer(tab, paused, e.heard.Load())
		}
	}); err != nil {
		return err
	}
	return chromedp.Do(tab, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, network.SetBypassServiceWorker, network.SetBypassServiceWorkerParams{Bypass: true}); err != nil {
			return err
		}
		_, err := cdp.Call(ctx, t, fetch.Enable, fetch.EnableParams{})
		return err
	}))
}

// answer answers one request of the page.
func (e *elsewhere) answer(tab context.Context, paused *fetch.EventRequestPaused, number int64) {
	e.slots <- struct{}{}
	defer func() { <-e.slots }()
	err := e.may(paused.Request, number)
	var status int
	var headers []*fetch.HeaderEntry
	var body []byte
	if err == nil && e.ask != nil {
		status, headers, body, err = e.load(tab, paused.Request.URL)
	}
	chromedp.Do(tab, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if err == nil && e.ask == nil {
			_, err := cdp.Call(ctx, t, fetch.ContinueRequest, fetch.ContinueRequestParams{RequestID: paused.RequestID})
			return err
		}
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

// may is an error where a request of the page is none that may be asked.
func (e *elsewhere) may(request *network.Request, number int64) error {
	to, err := url.Parse(request.URL)
	if err != nil || to.Host != e.host || to.Scheme != "http" && to.Scheme != "https" || number > mostElsewhere ||
		e.ask != nil && request.Method != http.MethodGet {
		return fmt.Errorf("%s is not asked", request.URL)
	}
	return nil
}

// load asks what one request of the page is for.
func (e *elsewhere) load(ctx context.Context, address string) (status int, headers []*fetch.HeaderEntry, body []byte, err error) {
	response, err := e.ask(ctx, address)
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
