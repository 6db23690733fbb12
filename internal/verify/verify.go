// Package verify asks sites, from outside and as an attacker would, whether they really start and answer. Each check is a value in Checks.
package verify

import (
	"context"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"sync"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/mailbox"
	"vessik/internal/operation"
	"vessik/internal/records"
	"vessik/internal/running"
)

// checkTimeout bounds one request of a check.
const checkTimeout = 30 * time.Second

// Verifier verifies the sites of one machine.
type Verifier struct {
	Machine *running.Machine
	Records *records.Records
	Mail    *mailbox.Mailbox
	// Finds tells whether a domain leads to this machine.
	Finds func(domain string) bool

	mu       sync.Mutex
	awaiting map[string]bool // sites whose installer has not run

	believing believing
}

// Await notes whether a site waits for its installer.
func (v *Verifier) Await(name string, waits bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.awaiting == nil {
		v.awaiting = map[string]bool{}
	}
	if v.awaiting[name] = waits; !waits {
		delete(v.awaiting, name)
	}
}

// Awaiting are the sites that wait for their CMS's own installer.
func (v *Verifier) Awaiting() []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Sorted(maps.Keys(v.awaiting))
}

// Tables is how many there are in a site's database; -1 where that cannot be asked.
func (v *Verifier) Tables(ctx context.Context, s site.Site) int {
	database := v.Machine.RunningDatabase(s.Stack.Database)
	if database == nil {
		return -1
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second) // whoever is in the site may lock its tables
	defer cancel()
	pool := database.OpenAs(s.Database)
	defer pool.Close()
	count := 0
	if pool.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.tables WHERE table_schema=DATABASE()").Scan(&count) != nil {
		return -1
	}
	return count
}

// Check is one thing that is verified.
type Check struct {
	check.Definition
	ask func(*inspection) outcome
	of  func(site.Site) bool // which sites it is asked of; nil for all
}

// Definitions are what is verified, in the order of the report strip.
func Definitions() []check.Definition {
	all := []check.Definition{}
	for _, each := range Checks {
		all = append(all, each.Definition)
	}
	return all
}

// inspection is one verification of one site: what it has learned so far, and the report as it grows.
type inspection struct {
	v      *Verifier
	ctx    context.Context
	site   site.Site
	cms    *cms.Definition
	base   string // the site's URL through the gateway
	client *http.Client
	// transport is the client's own.
	transport *http.Transport
	probe     Answer // what a request that the site served said
	server    string // what the web server called itself
	probed    error
	front     string // the front page's text
	results   []check.Result
}

func (v *Verifier) inspect(ctx context.Context, s site.Site) (i *inspection, done func()) {
	jar, _ := cookiejar.New(nil)
	transport := &http.Transport{DialContext: DialLoopback, TLSClientConfig: v.Machine.TLS(),
		ResponseHeaderTimeout: checkTimeout, DisableCompression: true}
	return &inspection{v: v, ctx: ctx, site: s, cms: v.Machine.CMS.Of(s), base: s.URL(v.Machine.Gateway()), transport: transport,
		client: &http.Client{Transport: named{transport}, Jar: jar, Timeout: checkTimeout,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}, transport.CloseIdleConnections
}

// named requests say in the access log who they are.
type named struct{ http.RoundTripper }

func (n named) RoundTrip(request *http.Request) (*http.Response, error) {
	request = request.Clone(request.Context())
	request.Header.Set("User-Agent", check.Agent)
	return n.RoundTripper.RoundTrip(request)
}

// Verify asks a site everything, from outside. grown is shown the report each time a check is done.
func (v *Verifier) Verify(ctx context.Context, s site.Site, grown func(check.SiteReport)) check.SiteReport {
	i, done := v.inspect(ctx, s)
	defer done()
	for _, each := range Checks {
		if each.of != nil && !each.of(s) {
			continue
		}
		started := time.Now()
		found := each.ask(i)
		i.results = append(i.results, check.Result{ID: each.ID, Title: each.Title, Verdict: found.verdict, Expected: found.expected,
			Observed: found.observed, Remedy: found.remedy, Milliseconds: time.Since(started).Milliseconds()})
		grown(check.Of(s.Name, slices.Clone(i.results)))
	}
	return check.Of(s.Name, i.results)
}

// outcome is what one check found.
type outcome struct {
	verdict                    check.Verdict
	expected, observed, remedy string
}

func passed(expected, observed string) outcome {
	return outcome{verdict: check.Pass, expected: expected, observed: observed}
}

func failed(expected, observed, remedy string) outcome {
	return outcome{verdict: check.Fail, expected: expected, observed: observed, remedy: remedy}
}

// Prove is the name of the step that verifies.
const Prove plan.Step = "verify"

// Step verifies a site and records the report.
func (v *Verifier) Step() operation.Step {
	return operation.Step{Name: Prove, Title: "verifying",
		Do: func(ctx context.Context, w *operation.Part) error { return v.Prove(ctx, w, "") }}
}

// Further is a check that some operations have besides the usual ones; nil for none this time.
type Further func(ctx context.Context, w *operation.Part, s site.Site) (*check.Result, error)

// Prove verifies a site and records the report, of a stage of a change or of none. A check that fails does not fail the step: the site
// stays, to be looked at.
func (v *Verifier) Prove(ctx context.Context, w *operation.Part, stage string, further ...Further) error {
	s, err := w.Site()
	if err != nil {
		return err
	}
	if s.State == site.Starting { // whoever starts it may need this very place
		w.Wait(func() { v.Machine.Registry.WaitWhile(ctx, s.Name, site.Starting) })
		if s, err = w.Site(); err != nil {
			return err
		}
	}
	var report check.SiteReport
	switch s.State {
	case site.Running, site.Failed:
		report = v.Verify(ctx, s, func(partial check.SiteReport) { partial.Stage = stage; w.Report(partial) })
	default:
		report = check.Skipped(s.Name, "the site is "+string(s.State), Definitions())
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for _, each := range further {
		if s.State != site.Running {
			break
		}
		result, err := each(ctx, w, s)
		if err != nil {
			return err
		}
		if result != nil {
			report = check.Of(s.Name, append(report.Checks, *result))
		}
	}
	report.Stage = stage
	w.Report(report)
	return v.Records.SaveReport(ctx, w.ID(), report)
}
