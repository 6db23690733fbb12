// Package walk goes through all pages of a site, as a visitor does, and tells what is wrong with them.
package walk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/phperrors"
	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/records"
	"vessik/internal/running"
	"vessik/internal/verify"
)

// Bounds of one walk.
const (
	usualPages = 500
	usualSlow  = 2000 // milliseconds
	filesAPage = 20   // that are asked at most, on average
	together   = 4    // that are asked at once
	redirects  = 10
	longest    = 3 << 20  // of a page's text, in bytes
	mostOfFile = 64 << 20 // that is read of what pages load
	mostOfLog  = 4 << 20
	mostNamed  = 100_000 // references of all pages, which are kept until the end
)

// Feature walks through the sites of one machine.
type Feature struct {
	Machine  *running.Machine
	Verifier *verify.Verifier
	Axe      string                                             // axe-core's source; empty for none
	Watch    func(site string) (done func() []records.Outgoing) // sees what a site asks of other machines

	costing sync.Mutex // one slow page is asked again at a time
	mu      sync.Mutex
	going   map[string]bool // ids of walks that are not at their end
}

// walker is one walk.
type walker struct {
	client  *http.Client
	base    *url.URL
	hosts   []string
	cms     *cms.Definition
	answers map[string]walk.Answer
	known   map[string]bool
	waiting []step
	pages   int // that were asked or wait
	files   int
	most    int
	named   int      // references
	order   []string // pages that can be read, as they came
	cut     bool
}

// step is one thing to be asked: a page, or a file that pages load.
type step struct {
	path string
	page bool
}

// Told is told how far a walk is; an error of it ends the walk.
type Told func(wire.WalkProgress) error

// Walk walks through a running site, and keeps what it found. signIn is an address that signs somebody in; empty for a visitor.
func (f *Feature) Walk(ctx context.Context, name string, asked wire.Walk, signIn string, told Told) (walked walk.Walked, err error) {
	s, err := f.running(name)
	if err != nil {
		return walked, err
	}
	looks, err := looksOf(asked)
	if err != nil {
		return walked, err
	}
	other, err := f.other(s, asked.Against)
	if err != nil {
		return walked, err
	}
	if walked, err = f.through(ctx, s, asked, looks, signIn, told); err != nil {
		return walked, err
	}
	if other != nil {
		if walked.Compared, err = other(ctx, walked, asked, told); err != nil {
			return walked, err
		}
		if err = f.write(s.Name, walked); errors.Is(err, fs.ErrNotExist) {
			err = nil // so many came after it that it is forgotten
		}
	}
	return walked, err
}

func (f *Feature) running(name string) (site.Site, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	switch {
	case !known:
		return s, site.NoSite(name)
	case s.State != site.Running:
		return s, site.NotRunning(s)
	}
	return s, nil
}

// through is one walk, kept.
func (f *Feature) through(ctx context.Context, s site.Site, asked wire.Walk, looks int, signIn string, told Told) (walked walk.Walked,
	err error) {
	client, base, done := f.Verifier.Visitor(ctx, s)
	defer done()
	began, log := time.Now(), filepath.Join(f.Machine.Home.SiteLogs(s.Name), "php-error.log")
	from := ownfile.Size(log)
	w := &walker{client: client, hosts: s.Hosts(), cms: f.Machine.CMS.Of(s), answers: map[string]walk.Answer{}, known: map[string]bool{},
		most: cmp.Or(asked.Pages, usualPages)}
	if w.base, err = url.Parse(base); err != nil {
		return walked, err
	}
	if signIn != "" {
		if answer := w.ask(ctx, step{path: strings.TrimPrefix(signIn, strings.TrimSuffix(base, "/")), page: true}); answer.Fault != "" {
			return walked, fmt.Errorf("sign in: %s", answer.Fault)
		}
	}
	w.begin(ctx, f.published(ctx, s))
	if err := w.through(ctx, told); err != nil {
		return walked, err
	}
	judged := walk.Site{Own: w.own, HTTPS: s.HTTPS, Listed: s.Visible, Slow: cmp.Or(asked.Slow, usualSlow), Answers: w.answers}
	if judged.Costs, err = f.costs(ctx, s, w, judged.Slow, told); err != nil {
		return walked, err
	}
	kept, err := f.keep(s, began, min(looks, len(w.order)))
	if err != nil {
		return walked, err
	}
	defer kept.end()
	if judged.Looks, err = f.looks(ctx, w, looks, kept, told); err != nil {
		return walked, err
	}
	judged.Said = saidSince(log, from, s.Folder)
	walked = walk.Walked{ID: kept.id, At: began.UTC().Truncate(time.Second), URL: base, As: asked.As, Pages: judged.Judge(), Files: w.files,
		Looked: len(judged.Looks), Cut: w.cut, Milliseconds: time.Since(began).Milliseconds()}
	walked.Common = walk.CommonOf(walked.Pages)
	return walked, kept.finish(walked)
}

// published are the paths of all that the CMS has published, as far as its definition says how to know.
func (f *Feature) published(ctx context.Context, s site.Site) []string {
	k := f.Machine.CMS.Of(s)
	if len(k.Walk) == 0 {
		return nil
	}
	pool, release, err := f.Machine.Pool(ctx, s)
	if err != nil {
		return nil
	}
	defer release()
	paths, err := k.Paths(ctx, pool, f.Machine.CMSFacts(s))
	if err != nil {
		f.Machine.Log.Warn("ask what is published", "site", s.Name, "reason", err)
	}
	return paths
}

func (w *walker) own(u *url.URL) bool { return slices.Contains(w.hosts, strings.ToLower(u.Hostname())) }

// begin has the front page be asked first, then what is published, and what the sitemap lists.
func (w *walker) begin(ctx context.Context, published []string) {
	w.add(walk.PathOf(w.base), true)
	for _, path := range append(published, w.sitemap(ctx)...) {
		if u, err := w.base.Parse(path); err == nil && w.own(u) {
			w.add(walk.PathOf(u), true)
		}
	}
}

// sitemap are the pages of those sitemaps that robots.txt names (RFC 9309 leaves them to the site).
func (w *walker) sitemap(ctx context.Context) (pages []string) {
	const mostSitemaps = 50
	waiting := []string{}
	for line := range strings.Lines(w.text(ctx, "/robots.txt")) {
		if name, value, found := strings.Cut(line, ":"); found && strings.EqualFold(strings.TrimSpace(name), "sitemap") {
			waiting = append(waiting, strings.TrimSpace(value))
		}
	}
	for i := 0; i < len(waiting) && i < mostSitemaps; i++ {
		if u, err := w.base.Parse(waiting[i]); err == nil && w.own(u) {
			more, further := walk.Sitemap([]byte(w.text(ctx, walk.PathOf(u))))
			pages, waiting = append(pages, more...), append(waiting, further...)
		}
		if len(pages) > mostNamed { // more than are ever walked
			break
		}
	}
	return pages
}

func (w *walker) text(ctx context.Context, path string) string {
	response, err := w.get(ctx, path)
	if err != nil {
		return ""
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, longest))
	if err != nil || response.StatusCode != http.StatusOK {
		return ""
	}
	return string(text)
}

// add has something be asked, once.
func (w *walker) add(path string, page bool) {
	switch {
	case w.known[path] || w.leavesAlone(path):
		return
	case page && w.pages >= w.most, !page && w.files >= w.most*filesAPage:
		w.cut = true
		return
	case page:
		w.pages++
	default:
		w.files++
	}
	w.known[path] = true
	w.waiting = append(w.waiting, step{path, page})
}

// leavesAlone tells whether a path does something, or belongs to those who sign in.
func (w *walker) leavesAlone(path string) bool {
	for _, mark := range []string{"action=", "nonce=", "replytocom=", "wp-json"} {
		if strings.Contains(path, mark) {
			return true
		}
	}
	below := strings.TrimPrefix(path, strings.TrimSuffix(w.base.Path, "/")+"/")
	for _, own := range []string{w.cms.SignIn.Address, w.cms.SignIn.Dashboard} {
		if own, _, _ = strings.Cut(own, "&"); own != "" && strings.HasPrefix(below, own) {
			return true
		}
	}
	return false
}

// through asks for everything, some at once, until nothing new is named.
func (w *walker) through(ctx context.Context, told Told) error {
	answers, asked := make(chan walk.Answer), 0
	ctx, cancel := context.WithCancel(ctx)
	running := 0
	defer func() {
		cancel()
		for ; running > 0; running-- {
			<-answers
		}
	}()
	for len(w.waiting) > 0 || running > 0 {
		for ; running < together && len(w.waiting) > 0; running++ {
			next := w.waiting[0]
			w.waiting = w.waiting[1:]
			go func() { answers <- w.ask(ctx, next) }()
		}
		answer := <-answers
		running--
		if ctx.Err() != nil {
			return ctx.Err()
		}
		w.learn(answer)
		asked++
		if err := told(wire.WalkProgress{Doing: "asking", Asked: asked, Known: len(w.known)}); err != nil {
			return err
		}
	}
	return nil
}

// learn has what an answer names be asked, too. What came over redirects is the answer of where they led, and not asked for again.
func (w *walker) learn(answer walk.Answer) {
	if len(answer.Through) > 0 {
		arrived, last := answer, answer.Through[len(answer.Through)-1]
		answer.Document = walk.Document{}
		w.answers[answer.Path] = answer
		switch {
		case answer.Away || answer.Loop || answer.Fault != "" || answer.Status >= http.StatusBadRequest:
		case !answer.Page:
			w.add(last, false)
		default:
			if w.pages--; !w.known[last] && !w.leavesAlone(last) {
				w.known[last] = true
				w.pages++
				arrived.Path, arrived.Through = last, nil
				w.learn(arrived)
			}
		}
		return
	}
	if w.named += len(answer.Document.References); w.named > mostNamed {
		answer.Document.References, w.cut = nil, true
	}
	w.answers[answer.Path] = answer
	if answer.Page && answer.Status < http.StatusBadRequest {
		w.order = append(w.order, answer.Path)
	}
	for _, r := range answer.Document.References {
		if w.own(r.To) {
			w.add(walk.PathOf(r.To), r.Page)
		}
	}
}

func (w *walker) get(ctx context.Context, path string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, w.base.Scheme+"://"+w.base.Host+path, nil)
	if err != nil {
		return nil, err
	}
	return w.client.Do(request)
}

// ask asks for one thing, over its redirects.
func (w *walker) ask(ctx context.Context, next step) (a walk.Answer) {
	a.Path = next.path
	seen := map[string]bool{next.path: true}
	for path := next.path; ; {
		began := time.Now() // of the last of them
		response, err := w.get(ctx, path)
		if err != nil {
			a.Fault = plain(err)
			return a
		}
		a.Status = response.StatusCode
		to := w.leadsTo(response)
		if to == nil {
			w.read(response, next, path, &a)
			a.Milliseconds = time.Since(began).Milliseconds()
			return a
		}
		response.Body.Close()
		if !w.own(to) {
			a.Away, a.Through = true, append(a.Through, to.String())
			return a
		}
		path = walk.PathOf(to)
		a.Through = append(a.Through, path)
		if a.Loop = seen[path] || len(a.Through) > redirects; a.Loop {
			return a
		}
		seen[path] = true
	}
}

// leadsTo is where a redirect leads; nil where it is none.
func (w *walker) leadsTo(response *http.Response) *url.URL {
	location := response.Header.Get("Location")
	if response.StatusCode < 300 || response.StatusCode > 399 || location == "" {
		return nil
	}
	to, err := response.Request.URL.Parse(location)
	if err != nil {
		return nil
	}
	return to
}

func (w *walker) read(response *http.Response, next step, path string, a *walk.Answer) {
	defer response.Body.Close()
	kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type"))
	a.HTML = kind == "text/html"
	if next.page && a.HTML {
		text, err := io.ReadAll(io.LimitReader(response.Body, longest))
		if err != nil {
			a.Fault = "the answer broke off: " + plain(err)
			return
		}
		address := *w.base
		if at, err := w.base.Parse(path); err == nil {
			address = *at
		}
		a.Page, a.Document = true, walk.Read(&address, text)
		return
	}
	if _, err := io.Copy(io.Discard, io.LimitReader(response.Body, mostOfFile)); err != nil {
		a.Fault = "the answer broke off: " + plain(err)
	}
}

// plain is an error without the address that was asked for.
func plain(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	return err.Error()
}

// saidSince is what PHP said since its log was so long, with files below the site's folder.
func saidSince(log string, from int64, folder string) []phperrors.Message {
	file, err := ownfile.Open(log)
	if err != nil {
		return nil
	}
	defer file.Close()
	text, err := io.ReadAll(io.NewSectionReader(file, from, mostOfLog))
	if err != nil {
		return nil
	}
	said := phperrors.Read(string(text), time.Now())
	for i := range said {
		said[i].File = strings.TrimPrefix(said[i].File, folder+"/")
	}
	return said
}
