package walk

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/temoto/robotstxt"

	"vessik/internal/core/check"
	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

// Bounds of asking an address elsewhere: one page after another, with a pause between them, or as long a one as its robots.txt asks for.
const (
	elsewherePause   = time.Second
	longestPause     = 10 * time.Second
	elsewhereTimeout = 30 * time.Second
)

// otherWalk is what a walk is compared with.
type otherWalk func(ctx context.Context, walked walk.Walked, asked wire.Walk, told Told) (*walk.Compared, error)

// other is what a walk is compared with, as it is asked for; nil for nothing. What is earlier is read now, before the walk is kept.
func (f *Feature) other(s site.Site, against string) (otherWalk, error) {
	address, err := url.Parse(against)
	switch {
	case against == "":
		return nil, nil
	case err == nil && (address.Scheme == "http" || address.Scheme == "https") && address.Hostname() != "":
		return func(ctx context.Context, walked walk.Walked, _ wire.Walk, told Told) (*walk.Compared, error) {
			return compareElsewhere(ctx, address, walked, told)
		}, nil
	case against == "last" || walkID.MatchString(against):
		earlier, err := f.Earlier(s.Name, against)
		return func(_ context.Context, walked walk.Walked, _ wire.Walk, _ Told) (*walk.Compared, error) {
			return compared(earlier.ID, earlier, walked, false), nil
		}, err
	}
	if neighbour, known := f.Machine.Registry.Site(site.ASCII(against)); !known {
		return nil, site.Problems{{Site: s.Name, Field: "against", Message: fmt.Sprintf("%q is no walk, site or address", against),
			Remedy: "name last, the id of an earlier walk, a site, or an address as in https://www.example.org/"}}
	} else if neighbour, err = f.running(neighbour.Name); err != nil {
		return nil, err
	} else {
		return func(ctx context.Context, walked walk.Walked, asked wire.Walk, told Told) (*walk.Compared, error) {
			there, err := f.through(ctx, neighbour, wire.Walk{Pages: asked.Pages, Slow: asked.Slow}, walked.Looked, "",
				func(p wire.WalkProgress) error { p.Doing = "other site"; return told(p) })
			return compared(neighbour.Name, there, walked, false), err
		}, nil
	}
}

func compared(with string, before, now walk.Walked, coarse bool) *walk.Compared {
	return &walk.Compared{With: with, At: before.At, Pages: len(now.Pages), Differences: walk.Compare(before, now, coarse)}
}

// compareElsewhere asks an address for the pages that were walked, and for nothing else.
func compareElsewhere(ctx context.Context, address *url.URL, walked walk.Walked, told Told) (*walk.Compared, error) {
	e := elsewhere{address: address, client: &http.Client{Timeout: elsewhereTimeout,
		CheckRedirect: func(next *http.Request, before []*http.Request) error {
			if next.URL.Hostname() != before[0].URL.Hostname() || len(before) > redirects {
				return http.ErrUseLastResponse
			}
			return nil
		}}}
	defer e.client.CloseIdleConnections()
	pause, err := e.rules(ctx)
	if err != nil {
		return nil, site.Problems{{Field: "against", Message: address.Host + " does not answer: " + plain(err),
			Remedy: "see whether the address is right, and this machine reaches it"}}
	}
	there := walk.Walked{URL: address.String(), At: time.Now().UTC().Truncate(time.Second), Pages: []walk.WalkedPage{}}
	now := walked
	now.Pages = slices.Clone(walked.Pages)
	slices.SortStableFunc(now.Pages, func(a, b walk.WalkedPage) int { return cmp.Compare(len(a.Path), len(b.Path)) }) // the front page first
	for n, p := range now.Pages {
		if err := told(wire.WalkProgress{Doing: "other address", Asked: n, Known: len(now.Pages)}); err != nil {
			return nil, err
		}
		path := walk.Below(walked.URL, p.Path)
		if !e.may(path) {
			there.Cut = true
			continue
		}
		if page, ok := e.ask(ctx, path); ok {
			there.Pages = append(there.Pages, page)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if len(there.Pages) == 0 {
		return nil, site.Problems{{Field: "against", Message: "no page of " + address.Host + " could be read",
			Remedy: "see whether its robots.txt allows any, and whether it answers"}}
	}
	result := compared(address.String(), there, now, true)
	result.Pages = len(there.Pages)
	return result, nil
}

// elsewhere is an address that is only read.
type elsewhere struct {
	address *url.URL
	client  *http.Client
	robots  *robotstxt.RobotsData
}

func (e *elsewhere) get(ctx context.Context, path string) (*http.Response, error) {
	to := e.address.Scheme + "://" + e.address.Host + strings.TrimSuffix(e.address.EscapedPath(), "/") + path
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, to, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("User-Agent", check.Agent)
	return e.client.Do(request)
}

// rules reads what robots.txt allows (RFC 9309), and how long a pause it asks for.
func (e *elsewhere) rules(ctx context.Context) (pause time.Duration, err error) {
	root := *e
	root.address = &url.URL{Scheme: e.address.Scheme, Host: e.address.Host}
	response, err := root.get(ctx, "/robots.txt")
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, longest))
	if err != nil {
		return 0, err
	}
	all, err := robotstxt.FromStatusAndBytes(response.StatusCode, text)
	if err != nil {
		return elsewherePause, nil // nothing that can be read
	}
	e.robots = all // a server's error refuses all (RFC 9309, section 2.3.1.4)
	return min(max(elsewherePause, all.FindGroup(check.Agent).CrawlDelay), longestPause), nil
}

func (e *elsewhere) may(path string) bool {
	return e.robots == nil || e.robots.TestAgent(strings.TrimSuffix(e.address.EscapedPath(), "/")+path, check.Agent)
}

// ask asks for one page; ok is false where no answer came.
func (e *elsewhere) ask(ctx context.Context, path string) (page walk.WalkedPage, ok bool) {
	began := time.Now()
	response, err := e.get(ctx, path)
	if err != nil {
		return page, false
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, longest))
	if err != nil {
		return page, false
	}
	page = walk.WalkedPage{Path: strings.TrimSuffix(e.address.EscapedPath(), "/") + path, Status: response.StatusCode,
		Milliseconds: time.Since(began).Milliseconds(), Findings: []walk.PageFinding{}}
	if kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type")); kind == "text/html" {
		page.Title = walk.Read(response.Request.URL, text).Title
	}
	return page, true
}
