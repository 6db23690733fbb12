package moving

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vessik/internal/cms"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
	"vessik/internal/hosting"
	"vessik/internal/operation"
	"vessik/internal/verify"
)

// How many pages of a live site are asked before and after a push, and how many at a time.
const (
	mostPages     = 200
	pagesTogether = 4
	pagesTime     = 5 * time.Minute // what was not asked by then is not judged
)

// answered is what a page of a live site answered: its status (that of a fault where PHP complains in it; 0 for none), and why.
type answered struct {
	Status int    `json:"status"`
	Why    string `json:"why,omitempty"`
}

// page asks an address of a live site as a visitor would.
func page(ctx context.Context, address string) (answered, string) {
	text, status, err := hosting.Get(ctx, address)
	switch {
	case err != nil:
		return answered{0, err.Error()}, ""
	case status != http.StatusOK:
		return answered{status, fmt.Sprintf("answers %d", status)}, text
	case verify.FatalIn(text) != "":
		return answered{http.StatusInternalServerError, "has an error of PHP in it: " + verify.FatalIn(text)}, text
	}
	return answered{Status: status}, text
}

// front asks a host's front page. The status is that of a fault where the page has an error of PHP in it.
func (v *visit) front(ctx context.Context) (status int, why string) {
	front, _ := page(ctx, v.account.URL+"/")
	if front.Why != "" && front.Status != 0 {
		front.Why = "its front page " + front.Why
	}
	return front.Status, front.Why
}

// paths are the pages of a live site: those that its front page leads to, and those that its database knows.
func (v *visit) paths(ctx context.Context, there cms.Elsewhere) ([]string, error) {
	base, err := url.Parse(v.account.URL + "/")
	if err != nil {
		return nil, err
	}
	paths, known := []string{}, map[string]bool{}
	add := func(reference string) {
		at, err := base.Parse(reference)
		if err != nil || at.Host != base.Host || !strings.HasPrefix(at.Path, base.Path) || strings.Contains(at.RawQuery, "action=") {
			return
		}
		at.Fragment = ""
		if path := strings.TrimPrefix(at.RequestURI(), strings.TrimSuffix(base.Path, "/")); !known[path] && len(paths) < mostPages {
			known[path], paths = true, append(paths, path)
		}
	}
	add(base.String())
	_, text := page(ctx, base.String())
	for _, each := range walk.Read(base, []byte(text)).References {
		add(each.To.String())
	}
	published, err := there.Pages()
	for _, each := range published {
		add(each)
	}
	return paths, err
}

// through asks pages of a live site, some at a time.
func (v *visit) through(ctx context.Context, w *operation.Part, paths []string) map[string]answered {
	ctx, cancel := context.WithTimeout(ctx, pagesTime)
	defer cancel()
	all, mu := map[string]answered{}, sync.Mutex{}
	var group errgroup.Group
	group.SetLimit(pagesTogether)
	for _, path := range paths {
		group.Go(func() error {
			found, _ := page(ctx, v.account.URL+path)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			mu.Lock()
			defer mu.Unlock()
			all[path] = found
			w.Progress("asking pages of the live site", float64(len(all))/float64(len(paths)))
			return nil
		})
	}
	_ = group.Wait() // its time was over: what was asked counts
	return all
}

// worsePages are pages that answer worse than they did.
func worsePages(before, now map[string]answered) []wire.PushedPage {
	all := []wire.PushedPage{}
	for path, was := range before {
		if is, asked := now[path]; asked && worse(was.Status, is.Status) {
			all = append(all, wire.PushedPage{Path: path, Was: was.Status, Why: is.Why})
		}
	}
	slices.SortFunc(all, func(a, b wire.PushedPage) int { return cmp.Compare(a.Path, b.Path) })
	return all
}
