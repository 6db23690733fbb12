// Package gateway answers for every site's domain: it hands a request to the site that it names, waits for one that is starting, and
// says in words what is the matter otherwise.
package gateway

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/page"
)

// Sites is what the gateway needs to know.
type Sites interface {
	ByDomain(host string) (site.Site, bool)
	Changed() <-chan struct{}
	// Certificate is one for names.
	Certificate(names []string) (*tls.Certificate, error)
	// TakeTicket uses a ticket up; ok only if it is good for this site now. The secret lets the site's PHP believe who is to be signed in.
	TakeTicket(s site.Site, token string) (user, secret string, ok bool)
	// Missing fetches a file of the site that was left elsewhere, where an address is that of one.
	Missing(ctx context.Context, s site.Site, address string)
	// Wake starts a site's PHP unless it runs, and does not wait for it.
	Wake(s site.Site)
	// CarryOver draws a ticket for whoever a request for a page shows to be signed in at the address that the site has over the other
	// scheme. The cookie that showed it is good no more.
	CarryOver(r *http.Request, s site.Site) (address, cookie string)
	// Outage tells whether a site's database server was down at any moment since a time.
	Outage(s site.Site, since time.Time) bool
}

// Gateway is an http.Handler for all domains.
type Gateway struct {
	Sites   Sites
	At      site.Gateway  // as it stands in URLs
	Console string        // where the reserved host is sent to
	Wait    time.Duration // how long a request waits for a site that is starting

	proxy *httputil.ReverseProxy
	kept  atomic.Pointer[http.Transport]
}

// DropConnections has no request use a connection to a web server that was made before: it leads to what was loaded then, also
// where it is in
// use at this moment and would be kept afterwards.
func (g *Gateway) DropConnections() {
	if old := g.kept.Swap(newKept()); old != nil {
		old.CloseIdleConnections()
	}
}

func newKept() *http.Transport {
	return &http.Transport{DialContext: dialPatiently, MaxIdleConns: 512, MaxIdleConnsPerHost: 64, IdleConnTimeout: 5 * time.Second,
		DisableCompression: true}
}

type siteKey struct{}

func siteOf(r *http.Request) site.Site { return r.Context().Value(siteKey{}).(site.Site) }

// New prepares a gateway.
func New(sites Sites, at site.Gateway, console string) *Gateway {
	g := &Gateway{Sites: sites, At: at, Console: console, Wait: 60 * time.Second}
	g.DropConnections()
	g.proxy = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: "http", Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(siteOf(r.In).Port))})
			r.Out.Host = r.In.Host // the site sees the name that the visitor used
			r.SetXForwarded()
			r.Out.Header.Set("X-Forwarded-Port", strconv.Itoa(g.At.Port(r.In.TLS != nil)))
		},
		ModifyResponse: func(r *http.Response) error {
			r.Header.Del("Strict-Transport-Security") // a browser would keep it for all that is ever served by that name here
			return nil
		},
		Transport: patient{
			outage:     sites.Outage,
			repeatable: &g.kept,
			once:       &http.Transport{DialContext: dialPatiently, DisableKeepAlives: true, DisableCompression: true},
		},
		// Parts of an answer go on as they come.
		FlushInterval: -1,
		BufferPool:    &buffers{sync.Pool{New: func() any { return new([bufferBytes]byte) }}},
		ErrorHandler:  g.siteFault,
		ErrorLog:      log.New(quiet{}, "", 0),
	}
	return g
}

// dialPatiently tries again for a moment while nobody listens: a web server that was killed is back within that time, and nothing of
// the request has been sent.
func dialPatiently(ctx context.Context, network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	var dialer net.Dialer
	for {
		connection, err := dialer.DialContext(ctx, network, address)
		if !errors.Is(err, syscall.ECONNREFUSED) {
			return connection, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// patient asks again, for a moment, what can be asked twice and was not answered because an engine was killed meanwhile: its
// connection broke, the web server in front of it says that it is gone, or the site fails while its database server is down. What must
// not be asked twice goes over a connection of its own: one that is kept may be closed at that moment by a web server that reloads.
type patient struct {
	repeatable *atomic.Pointer[http.Transport]
	once       http.RoundTripper
	outage     func(s site.Site, since time.Time) bool
}

const (
	patience    = 3 * time.Second
	hungAfter   = 6 * time.Second
	longestTry  = 15 * time.Second                // what took longer is not asked again: it would take as long
	apacheError = "text/html; charset=iso-8859-1" // of Apache's own pages
)

func (p patient) RoundTrip(r *http.Request) (*http.Response, error) {
	twice := (r.Method == http.MethodGet || r.Method == http.MethodHead) && (r.Body == nil || r.Body == http.NoBody) &&
		r.Header.Get("Upgrade") == ""
	if !twice {
		return p.once.RoundTrip(r)
	}
	end := time.Time{} // counted from the first failure: a CMS may itself have tried for some seconds
	for times := 1; ; times++ {
		began := time.Now()
		response, err := p.try(r, began)
		gone := err != nil || response.StatusCode == http.StatusBadGateway && response.Header.Get("X-Powered-By") == "" ||
			response.StatusCode == http.StatusServiceUnavailable && response.Header.Get("Content-Type") == apacheError ||
			response.StatusCode == http.StatusInternalServerError && response.Header.Get("Content-Type") == apacheError && times < 3 ||
			// PHP ended in the middle, or a fault in .htaccess, which stays
			response.StatusCode >= http.StatusInternalServerError && p.wasDown(siteOf(r), began)
		if gone && end.IsZero() && time.Since(began) < longestTry {
			end = time.Now().Add(patience)
		}
		if !gone || time.Now().After(end) || r.Context().Err() != nil {
			return response, err
		}
		if response != nil {
			response.Body.Close()
		}
		select {
		case <-r.Context().Done():
			return nil, r.Context().Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// wasDown tells whether a database server was down meanwhile. Who was served by one that was killed may know it before the service does.
func (p patient) wasDown(s site.Site, since time.Time) bool {
	for range 4 {
		if p.outage(s, since) {
			return true
		}
		time.Sleep(10 * time.Millisecond)
	}
	return false
}

// try asks once. Where the site's database server was down meanwhile and no answer comes, it is given up: what waited for the one that
// was killed may wait for ever.
func (p patient) try(r *http.Request, began time.Time) (*http.Response, error) {
	ctx, cancel := context.WithCancel(r.Context())
	hung := time.AfterFunc(hungAfter, func() {
		if p.outage(siteOf(r), began) {
			cancel()
		}
	})
	response, err := p.repeatable.Load().RoundTrip(r.WithContext(ctx))
	hung.Stop()
	if err != nil {
		cancel()
		return nil, err
	}
	response.Body = &lasting{response.Body, cancel}
	return response, nil
}

// lasting is an answer's body, with which the request's context ends.
type lasting struct {
	io.ReadCloser
	end context.CancelFunc
}

func (l *lasting) Close() error {
	defer l.end()
	return l.ReadCloser.Close()
}

func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host := hostOf(r.Host)
	if host == site.ConsoleHost || strings.HasSuffix(host, "."+site.ConsoleHost) {
		http.Redirect(w, r, g.Console, http.StatusFound)
		return
	}
	s, known := g.settled(r.Context(), host)
	switch {
	case !known:
		g.unknown(w, host)
	case slices.ContainsFunc(s.Forwards, func(f site.Forward) bool { return f.Domain == host }): // it had this domain before
		w.Header().Set("Cache-Control", "no-store")
		http.Redirect(w, r, strings.TrimSuffix(s.URL(g.At), "/")+r.URL.RequestURI(), http.StatusTemporaryRedirect)
	case s.HTTPS != (r.TLS != nil):
		g.otherScheme(w, r, s, host)
	case s.State == site.Running && strings.HasPrefix(r.URL.Path, site.TicketPath):
		g.signIn(w, r, s)
	case s.State == site.Running && r.URL.Path == framePath:
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		w.Write(frameScript)
	case s.State == site.Running:
		if g.carryOver(w, r, s) {
			return
		}
		w, end := g.framed(w, r)
		defer end()
		g.Pass(w, r, s)
	case s.State == site.Failed:
		write(w, http.StatusBadGateway, page.Page{Title: s.Title + " has failed", Words: "The site cannot answer:", Reason: s.Reason,
			Remedy: "Mend what it says, then start it again:", Command: "vessik start " + s.Name})
	case s.State == site.Stopped || s.State == site.Stopping:
		write(w, http.StatusServiceUnavailable, page.Page{Title: s.Title + " is stopped", Words: "Nothing of it runs at this moment.",
			Remedy: "Start it in the console, or with:", Command: "vessik start " + s.Name})
	default:
		w.Header().Set("Retry-After", "5")
		write(w, http.StatusServiceUnavailable, page.Page{Title: s.Title + " is " + string(s.State),
			Words: "It does not answer yet. See what is being done with it:", Command: "vessik operations"})
	}
}

// Pass hands a request to a site that runs, which sees the address that it has here and who asks.
func (g *Gateway) Pass(w http.ResponseWriter, r *http.Request, s site.Site) {
	if forPHP(r.URL.Path) { // it starts at the same time as the web server that will ask it
		g.Sites.Wake(s)
	} else if r.Method == http.MethodGet || r.Method == http.MethodHead {
		g.Sites.Missing(r.Context(), s, r.URL.Path)
	}
	http.NewResponseController(w).EnableFullDuplex() // a site may answer before it has read everything
	defer r.Body.Close()                             // here: net/http would read what is left too late, and lose the visitor's connection
	g.proxy.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), siteKey{}, s)))
}

// otherScheme leads to a site over the scheme that it answers by, and whoever was signed in over this one as that user.
func (g *Gateway) otherScheme(w http.ResponseWriter, r *http.Request, s site.Site, host string) {
	w.Header().Set("Cache-Control", "no-store")
	if !g.carryOver(w, r, s) {
		http.Redirect(w, r, strings.TrimSuffix(g.At.URL(host, s.HTTPS), "/")+r.URL.RequestURI(), http.StatusTemporaryRedirect)
	}
}

// carryOver signs somebody in again who is signed in over the other scheme; false where there is nobody.
func (g *Gateway) carryOver(w http.ResponseWriter, r *http.Request, s site.Site) bool {
	if s.State != site.Running || r.Method != http.MethodGet || !forPHP(r.URL.Path) || !isLocal(r) {
		return false
	}
	address, cookie := g.Sites.CarryOver(r, s)
	if cookie != "" {
		http.SetCookie(w, &http.Cookie{Name: cookie, Path: "/", MaxAge: -1, Secure: r.TLS != nil})
	}
	if address == "" {
		return false
	}
	http.Redirect(w, r, address+"?to="+url.QueryEscape(r.URL.RequestURI()), http.StatusTemporaryRedirect)
	return true
}

// isLocal tells whether somebody on this machine asks.
func isLocal(r *http.Request) bool {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	return err == nil && net.ParseIP(host).IsLoopback()
}

// forPHP tells whether an address is, as far as it tells, answered by PHP and not by a file.
func forPHP(address string) bool {
	ending := path.Ext(address)
	return ending == "" || ending == ".php"
}

// signIn hands whoever shows a good ticket to the site's own PHP, which signs them in.
func (g *Gateway) signIn(w http.ResponseWriter, r *http.Request, s site.Site) {
	user, secret, good := "", "", false
	if isLocal(r) && r.Method == http.MethodGet {
		user, secret, good = g.Sites.TakeTicket(s, strings.TrimPrefix(r.URL.Path, site.TicketPath))
	}
	if !good {
		write(w, http.StatusForbidden, page.Page{Title: "This ticket is not good",
			Words: "A ticket signs in once, within a minute, to the site that it was drawn for.", Remedy: "Draw another one:",
			Command: "vessik ticket " + s.Name + " -open"})
		return
	}
	asked := r.Clone(context.WithValue(r.Context(), siteKey{}, s))
	asked.URL.Path, asked.URL.RawPath, asked.URL.RawQuery = "/index.php", "", ""
	asked.Header.Set("X-Vessik-Probe", secret)
	asked.Header.Set("X-Vessik-Ticket", base64.StdEncoding.EncodeToString([]byte(user)))
	asked.Header.Del("X-Vessik-To")
	if to := r.URL.Query().Get("to"); strings.HasPrefix(to, "/") && !strings.HasPrefix(to, "//") && !strings.Contains(to, `\`) {
		asked.Header.Set("X-Vessik-To", base64.StdEncoding.EncodeToString([]byte(to)))
	}
	g.proxy.ServeHTTP(w, asked)
}

// settled returns the site of a host name, once it is no longer on its way up.
func (g *Gateway) settled(ctx context.Context, host string) (site.Site, bool) {
	ctx, cancel := context.WithTimeout(ctx, g.Wait)
	defer cancel()
	for {
		changed := g.Sites.Changed()
		s, known := g.Sites.ByDomain(host)
		if !known || s.State != site.Starting && s.State != site.Making {
			return s, known
		}
		select {
		case <-ctx.Done():
			return s, known
		case <-changed:
		}
	}
}

func hostOf(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return strings.TrimSuffix(strings.ToLower(host), ".")
}

func (g *Gateway) unknown(w http.ResponseWriter, host string) {
	p := page.Page{Title: "No site is called " + host, Words: "Which sites there are is told to those who run them:", Command: "vessik sites"}
	if name, local := strings.CutSuffix(host, ".localhost"); local && net.ParseIP(host) == nil {
		p.Remedy, p.Command = "Make one of that name with vessik new "+name+", or see those that there are:", "vessik sites"
		p.Words = ""
	}
	write(w, http.StatusNotFound, p)
}

func (g *Gateway) siteFault(w http.ResponseWriter, r *http.Request, err error) {
	if r.Context().Err() != nil {
		return // the visitor went away
	}
	s, _ := g.Sites.ByDomain(hostOf(r.Host))
	write(w, http.StatusBadGateway, page.Page{Title: s.Title + " does not answer", Words: "Its web server gave no answer:",
		Reason: err.Error(),
		Remedy: "See why with:", Command: "vessik verify " + s.Name})
	http.NewResponseController(w).Flush() // whoever still sends a request may wait for the answer to its first half
}

// write answers with a page of the gateway's own.
func write(w http.ResponseWriter, status int, p page.Page) {
	p.Foot = "The Vessik gateway on this machine"
	page.Write(w, status, p)
}

type buffers struct{ pool sync.Pool }

const bufferBytes = 32 << 10

func (b *buffers) Get() []byte    { return b.pool.Get().(*[bufferBytes]byte)[:] }
func (b *buffers) Put(buf []byte) { b.pool.Put((*[bufferBytes]byte)(buf)) }

type quiet struct{}

func (quiet) Write(text []byte) (int, error) { return len(text), nil }

// Listen opens a port on both loopback addresses: browsers try ::1 first for names below localhost. Port 0 is refused.
func Listen(port int) ([]net.Listener, error) {
	first, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return nil, err
	}
	second, err := net.Listen("tcp6", net.JoinHostPort("::1", strconv.Itoa(port)))
	switch {
	case err == nil:
		return []net.Listener{first, second}, nil
	case errors.Is(err, syscall.EADDRINUSE) || errors.Is(err, syscall.EACCES):
		first.Close()
		return nil, err
	}
	return []net.Listener{first}, nil // this machine has no IPv6
}

// FirstFree opens the first port of a range that is free on both.
func FirstFree(from, to int) ([]net.Listener, int, error) {
	for port := from; port <= to; port++ {
		if listeners, err := Listen(port); err == nil {
			return listeners, port, nil
		}
	}
	return nil, 0, fmt.Errorf("no port from %d to %d is free", from, to)
}
