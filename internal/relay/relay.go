package relay

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/hashicorp/yamux"

	"vessik/internal/background"
	"vessik/internal/page"
)

// Limits are what one account may take.
type Limits struct {
	Lines     int   // of its services, at the same time
	Addresses int   // at the same time
	Guests    int   // requests that are answered at the same time; others wait
	Bytes     int64 // both ways, within a day; 0 for no limit
}

// StandingPath begins the addresses at which accounts ask for standing copies.
const StandingPath = "/standing/"

// standingCopies is the account of the service that they run in; it cannot be the name of another one.
const standingCopies = "standing copies"

// UsualLimits are those of a relay that was told of no others.
var UsualLimits = Limits{Lines: 8, Addresses: 20, Guests: 256}

// How long is waited for what.
const (
	lineWaits = 8 * time.Second  // a request, for a line that broke
	slotWaits = 10 * time.Second // a request, for others of its account to be answered
	keptFor   = 10 * time.Minute // an address, for its line
	looks     = 10 * time.Second // between two looks whether an account is still there
)

// Relay is the server that lends addresses.
type Relay struct {
	Domain   string // below which it lends hosts
	Port     int    // as it stands in addresses; 443 is left out
	Accounts *Accounts
	Limits   Limits
	Waits    time.Duration // how long a request waits for a line that broke
	Looks    time.Duration // between two looks whether the account of a line is still there
	Log      *slog.Logger
	Now      func() time.Time

	// Standing answers what accounts ask below StandingPath; nil for a relay without standing copies. Own is the token of the service
	// beside it that they run in.
	Standing func(account string) http.Handler
	Own      string

	mu      sync.Mutex
	lent    map[string]*address // by label
	changed chan struct{}       // closed when a line comes
	used    map[string]*usage   // by account
	guests  atomic.Int64
	bytes   atomic.Int64
}

// address is one that was lent.
type address struct {
	label, account string
	over           *standing // nil while its line is broken
	since          time.Time // that it is
}

// standing is a line that stands.
type standing struct {
	account string
	session *yamux.Session
	proxy   *httputil.ReverseProxy
}

// usage is what an account takes.
type usage struct {
	slots chan struct{}
	lines int
	day   int64 // days since 1970
	bytes int64
}

// New is a relay that lends nothing yet.
func New(domain string, port int, accounts *Accounts, log *slog.Logger) *Relay {
	return &Relay{Domain: strings.ToLower(domain), Port: port, Accounts: accounts, Limits: UsualLimits, Waits: lineWaits, Looks: looks,
		Log:  log,
		Now:  time.Now,
		lent: map[string]*address{}, changed: make(chan struct{}), used: map[string]*usage{}}
}

// base is the address of a label.
func (r *Relay) base(label string) string {
	base := "https://" + label + "." + r.Domain
	if r.Port != 443 {
		base += ":" + strconv.Itoa(r.Port)
	}
	return base
}

// ServeHTTP implements http.Handler for the relay's own host and all that it lends.
func (r *Relay) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	host := strings.ToLower(strings.TrimSuffix(request.Host, "."))
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if host == r.Domain {
		r.own(w, request)
		return
	}
	label, below := strings.CutSuffix(host, "."+r.Domain)
	if !below || strings.Contains(label, ".") {
		write(w, http.StatusMisdirectedRequest, page.Page{Title: "Nothing is called so here"})
		return
	}
	over, known := r.lineOf(request.Context(), label)
	switch {
	case !known:
		write(w, http.StatusNotFound, page.Page{Title: "This address leads nowhere now",
			Words: "It was lent for a time that is over, or never was. Ask whoever sent it to you for another one."})
	case over == nil:
		waits(w, request)
	default:
		r.through(w, request, label, over)
	}
}

// own answers for the relay itself.
func (r *Relay) own(w http.ResponseWriter, request *http.Request) {
	if strings.HasPrefix(request.URL.Path, StandingPath) {
		r.standing(w, request)
		return
	}
	switch request.URL.Path {
	case LinePath:
		r.line(w, request)
	case "/":
		write(w, http.StatusOK, page.Page{Title: "A relay of Vessik", Words: "It lends addresses to sites that are being made. Whoever was " +
			"invited " +
			"to one has an address of its own."})
	case "/metrics":
		r.metrics(w, request)
	default:
		http.NotFound(w, request)
	}
}

// metrics tells numbers in the text format of OpenMetrics, to whoever asks on the relay's machine.
func (r *Relay) metrics(w http.ResponseWriter, request *http.Request) {
	host, _, err := net.SplitHostPort(request.RemoteAddr)
	if err != nil || !net.ParseIP(host).IsLoopback() {
		http.NotFound(w, request)
		return
	}
	r.mu.Lock()
	lines, lent := 0, len(r.lent)
	for _, of := range r.used {
		lines += of.lines
	}
	r.mu.Unlock()
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	for _, each := range []struct {
		name, kind string
		value      int64
	}{{"lines", "gauge", int64(lines)}, {"addresses", "gauge", int64(lent)}, {"requests_now", "gauge", r.guests.Load()},
		{"bytes_total", "counter", r.bytes.Load()}} {
		fmt.Fprintf(w, "# TYPE vessik_relay_%s %s\nvessik_relay_%s %d\n", strings.TrimSuffix(each.name, "_total"), each.kind, each.name,
			each.value)
	}
	fmt.Fprintln(w, "# EOF")
}

// lineOf is the line of a label, for which it waits a while where it is broken.
func (r *Relay) lineOf(ctx context.Context, label string) (over *standing, known bool) {
	ctx, cancel := context.WithTimeout(ctx, r.Waits)
	defer cancel()
	for {
		r.mu.Lock()
		r.forget()
		a, changed := r.lent[label], r.changed
		if a == nil || a.over != nil {
			if a != nil {
				over = a.over
			}
			r.mu.Unlock()
			return over, a != nil
		}
		r.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, true
		}
	}
}

// forget drops addresses whose line was gone for too long. The lock is held.
func (r *Relay) forget() {
	now := r.Now()
	maps.DeleteFunc(r.lent, func(_ string, a *address) bool { return a.over == nil && now.Sub(a.since) > keptFor })
}

// through hands a request on over a line.
func (r *Relay) through(w http.ResponseWriter, request *http.Request, label string, over *standing) {
	of := r.usage(over.account)
	wait := time.NewTimer(slotWaits)
	defer wait.Stop()
	select {
	case of.slots <- struct{}{}:
		defer func() { <-of.slots }()
	case <-request.Context().Done():
		return
	case <-wait.C:
		w.Header().Set("Retry-After", "10")
		write(w, http.StatusServiceUnavailable, page.Page{Title: "Too many look at it", Words: "This page looks again by itself.", Again: 10})
		return
	}
	if r.spent(of, 0) && over.account != standingCopies {
		w.Header().Set("Retry-After", "3600")
		write(w, http.StatusServiceUnavailable, page.Page{Title: "No more today",
			Words: "What this address may carry within a day is used up. It is open again tomorrow."})
		return
	}
	r.guests.Add(1)
	defer r.guests.Add(-1)
	http.NewResponseController(w).EnableFullDuplex()
	r.insist(w, request, label, over)
}

// brokenKey is that of a request's mark which says that its line broke before anything was answered.
type brokenKey struct{}

// insist asks again by the next line what can be asked twice and was not answered since the line broke.
func (r *Relay) insist(w http.ResponseWriter, request *http.Request, label string, over *standing) {
	twice := (request.Method == http.MethodGet || request.Method == http.MethodHead) && request.ContentLength == 0
	for end := time.Now().Add(r.Waits); ; {
		broke := false
		over.proxy.ServeHTTP(w, request.WithContext(context.WithValue(request.Context(), brokenKey{}, &broke)))
		if !broke || request.Context().Err() != nil {
			return
		}
		if !twice || time.Now().After(end) {
			waits(w, request)
			return
		}
		select { // until it is noticed on this side, too
		case <-over.session.CloseChan():
		case <-time.After(100 * time.Millisecond):
		}
		next, known := r.lineOf(request.Context(), label)
		if !known || next == nil {
			waits(w, request)
			return
		}
		over = next
	}
}

func (r *Relay) usage(account string) *usage {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.used[account] == nil {
		r.used[account] = &usage{slots: make(chan struct{}, r.Limits.Guests)}
	}
	return r.used[account]
}

// spent counts bytes, and tells whether an account has had its day's.
func (r *Relay) spent(of *usage, bytes int64) bool {
	r.bytes.Add(bytes)
	r.mu.Lock()
	defer r.mu.Unlock()
	if day := r.Now().Unix() / 86400; day != of.day {
		of.day, of.bytes = day, 0
	}
	of.bytes += bytes
	return r.Limits.Bytes > 0 && of.bytes > r.Limits.Bytes
}

// account is whose token a request shows; where it is nobody's, that is answered.
func (r *Relay) account(w http.ResponseWriter, request *http.Request) (name, token string, known bool) {
	token, _ = strings.CutPrefix(request.Header.Get("Authorization"), "Bearer ")
	if r.Own != "" && subtle.ConstantTimeCompare([]byte(token), []byte(r.Own)) == 1 {
		return standingCopies, token, true
	}
	account, known, err := r.Accounts.of(token)
	if err != nil {
		r.Log.Error("read the accounts", "reason", err)
	}
	if !known {
		http.Error(w, "no account has this token", http.StatusUnauthorized)
	}
	return account.Name, token, known
}

// standing answers what an account asks of its copies.
func (r *Relay) standing(w http.ResponseWriter, request *http.Request) {
	name, _, known := r.account(w, request)
	switch {
	case !known:
	case r.Standing == nil || name == standingCopies:
		http.Error(w, ErrNoCopies.Error(), http.StatusNotImplemented)
	default:
		r.Standing(name).ServeHTTP(w, request)
	}
}

// line takes up a service's line, and keeps it until it breaks.
func (r *Relay) line(w http.ResponseWriter, request *http.Request) {
	account, token, known := r.account(w, request)
	if !known {
		return
	}
	if !r.enter(account) {
		http.Error(w, "this account has too many lines; end one", http.StatusTooManyRequests)
		return
	}
	defer r.leave(account)
	socket, err := websocket.Accept(w, request, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(request.Context()))
	defer cancel()
	defer socket.CloseNow()
	session, err := yamux.Server(overSocket(ctx, socket), settings())
	if err != nil {
		return
	}
	defer session.Close()
	first, err := session.AcceptStreamWithContext(ctx)
	if err != nil {
		return
	}
	over := &standing{account: account, session: session, proxy: r.proxy(account, session)}
	defer r.gone(over)
	var looking sync.WaitGroup
	looking.Go(func() {
		background.Every(ctx, r.Looks, func() {
			if _, known, err := r.Accounts.of(token); err == nil && !known && account != standingCopies {
				r.endAll(over)
				session.Close()
			}
		})
	})
	defer looking.Wait()
	defer cancel()
	r.Log.Debug("a line stands", "account", account)
	r.serve(over, talkOn(first))
	r.Log.Debug("a line is gone", "account", account)
}

// enter counts a line of an account; false where it has as many as it may.
func (r *Relay) enter(account string) bool {
	of := r.usage(account)
	r.mu.Lock()
	defer r.mu.Unlock()
	if of.lines >= r.Limits.Lines {
		return false
	}
	of.lines++
	return true
}

func (r *Relay) leave(account string) {
	of := r.usage(account)
	r.mu.Lock()
	defer r.mu.Unlock()
	of.lines--
}

// gone keeps for a while what was lent over a line.
func (r *Relay) gone(over *standing) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range r.lent {
		if a.over == over {
			a.over, a.since = nil, r.Now()
		}
	}
}

// serve answers what a service asks on its line.
func (r *Relay) serve(over *standing, t *talk) {
	for {
		asked, err := t.hear()
		if err != nil {
			return
		}
		answer := said{ID: asked.ID, Label: asked.Label}
		switch {
		case asked.Lend:
			if answer.Label, err = r.lend(over, asked.Label); err != nil {
				answer.Error = err.Error()
			} else {
				answer.Base = r.base(answer.Label)
			}
		case asked.End:
			r.end(over, asked.Label)
		case asked.Bye:
			r.endAll(over)
			return
		}
		if t.say(answer) != nil {
			return
		}
	}
}

// lend gives an account an address.
func (r *Relay) lend(over *standing, label string) (string, error) {
	if label == "" {
		label = strings.ToLower(rand.Text())[:20]
	}
	if !isLabel(label) {
		return "", errors.New("label: small letters, digits and hyphens, 3 to 40 of them")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.forget()
	if a := r.lent[label]; a != nil && (a.account != over.account || a.over != nil && a.over != over && !a.over.session.IsClosed()) {
		return "", fmt.Errorf("label: %q is lent to somebody else now; choose another, or none", label)
	}
	if r.lent[label] == nil {
		mine := 0
		for _, a := range r.lent {
			if a.account == over.account {
				mine++
			}
		}
		if mine >= r.Limits.Addresses && over.account != standingCopies { // those have limits of their own
			return "", fmt.Errorf("the relay lends an account %d addresses at the most; end one first", r.Limits.Addresses)
		}
	}
	r.lent[label] = &address{label: label, account: over.account, over: over}
	close(r.changed)
	r.changed = make(chan struct{})
	return label, nil
}

// end takes an address back.
func (r *Relay) end(over *standing, label string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if a := r.lent[label]; a != nil && a.account == over.account {
		delete(r.lent, label)
	}
}

// endAll takes back all that was lent over a line.
func (r *Relay) endAll(over *standing) {
	r.mu.Lock()
	defer r.mu.Unlock()
	maps.DeleteFunc(r.lent, func(_ string, a *address) bool { return a.over == over })
}

// proxy hands requests on over a session, and says who asks.
func (r *Relay) proxy(account string, session *yamux.Session) *httputil.ReverseProxy {
	of := r.usage(account)
	return &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(&url.URL{Scheme: "http", Host: "line"})
			p.Out.Host = p.In.Host
			host, _, _ := net.SplitHostPort(p.In.RemoteAddr)
			p.Out.Header.Set("X-Forwarded-For", host)
		},
		Transport: &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 32, IdleConnTimeout: 20 * time.Second,
			DialContext: func(context.Context, string, string) (net.Conn, error) {
				stream, err := session.Open()
				if err != nil {
					return nil, err
				}
				return &counted{stream, func(n int) { r.spent(of, int64(n)) }}, nil
			}},
		FlushInterval: -1,
		ErrorHandler: func(_ http.ResponseWriter, request *http.Request, _ error) {
			*request.Context().Value(brokenKey{}).(*bool) = true
		},
		ErrorLog: log.New(io.Discard, "", 0),
	}
}

// counted is a connection whose bytes are counted.
type counted struct {
	net.Conn
	count func(bytes int)
}

func (c *counted) Read(text []byte) (int, error) {
	n, err := c.Conn.Read(text)
	c.count(n)
	return n, err
}

func (c *counted) Write(text []byte) (int, error) {
	n, err := c.Conn.Write(text)
	c.count(n)
	return n, err
}

// waits answers while a line is mended: a page that looks again by itself.
func waits(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Retry-After", "3")
	p := page.Page{Title: "One moment", Words: "The line to the machine on which this site is being made broke, and is being mended. " +
		"This page " +
		"looks again by itself.", Again: 3}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		p.Words, p.Again = "The line to the machine on which this site is being made broke while you sent something. Go back, and send it "+
			"again.", 0
	}
	write(w, http.StatusServiceUnavailable, p)
}

// write answers with a page of ours.
func write(w http.ResponseWriter, status int, p page.Page) {
	w.Header().Set("X-Robots-Tag", "noindex, nofollow")
	p.Alone = true
	page.Write(w, status, p)
}
