package guest

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"maps"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/gzhttp"
	"github.com/klauspost/compress/gzip"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/page"
)

// Path begins the addresses that Vessik itself answers at a guest address.
const Path = "/vessik-guest/"

// cookieName is that of a guest's session; browsers send it to no other host, and only by TLS.
const cookieName = "__Host-vessik-guest"

// Host is what a guest address needs of the sites.
type Host interface {
	Site(name string) (site.Site, bool)
	Gateway() site.Gateway
	// Pass hands a request to a site.
	Pass(w http.ResponseWriter, r *http.Request, s site.Site)
	// IsFile tells whether an address is that of a file which a site serves as it is.
	IsFile(s site.Site, address string) bool
	// Spool is a folder for bodies of requests that are led.
	Spool() string
}

// Guests answers those who were invited.
type Guests struct {
	Host Host
	Log  *slog.Logger
	// Note is told of each request.
	Note func(i Invitation, asked wire.Guested)
	// Extra answers what Vessik itself has at a guest address besides the door; false where it has nothing there.
	Extra func(w http.ResponseWriter, r *http.Request, i Invitation) bool
	// Script is put at the end of pages of an invitation; nothing where it is empty.
	Script func(i Invitation) string
	Now    func() time.Time

	spooled atomic.Int64 // bytes of requests that are being led

	packed http.Handler

	mu   sync.RWMutex
	open map[string]*lent // by each host that it lends
}

// lent is an invitation that stands, with its door.
type lent struct {
	Invitation
	door  *door
	ended chan struct{} // closed when it ends: what is being answered ends then, too

	mu     sync.Mutex
	https  bool            // of the site, when the ways were found
	ways   ways            // none yet
	guests map[string]bool // addresses that were let in
}

// New is one that nobody is invited by.
func New(host Host, log *slog.Logger) *Guests {
	g := &Guests{Host: host, Log: log, Note: func(Invitation, wire.Guested) {}, Now: time.Now, open: map[string]*lent{},
		Extra: func(http.ResponseWriter, *http.Request, Invitation) bool { return false }, Script: func(Invitation) string { return "" }}
	g.packed = packing()(http.HandlerFunc(g.serve))
	return g
}

// Invite has an invitation be answered for.
func (g *Guests) Invite(i Invitation) {
	l := &lent{Invitation: i, door: newDoor(g.Now), ended: make(chan struct{}), guests: map[string]bool{}}
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, base := range i.Bases {
		g.open[hostPart(base)] = l
	}
}

// End has it be answered for no more: who is let in by it now is so no longer.
func (g *Guests) End(i Invitation) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for host, l := range g.open {
		if l.ID != i.ID {
			continue
		}
		delete(g.open, host)
		select {
		case <-l.ended: // by another of its hosts
		default:
			close(l.ended)
		}
	}
}

// Count is how many guests an invitation let in.
func (g *Guests) Count(i Invitation) int {
	g.mu.RLock()
	defer g.mu.RUnlock()
	for _, l := range g.open {
		if l.ID == i.ID {
			l.mu.Lock()
			defer l.mu.Unlock()
			return len(l.guests)
		}
	}
	return 0
}

// ServeHTTP answers a guest. Who asks is the request's remote address: whoever hands requests here sees to that. What is text is
// compressed, for the way from home to a relay is narrow; by how much it became shorter tells nothing of what is secret in it.
func (g *Guests) ServeHTTP(w http.ResponseWriter, r *http.Request) { g.packed.ServeHTTP(w, r) }

const (
	shortestPacked = 1000 // bytes
	jitter         = 32   // bytes by which what is compressed becomes longer, at the most
)

// packing compresses what a handler answers, where it is text and whoever asks knows how.
var packing = sync.OnceValue(func() func(http.Handler) http.HandlerFunc {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(shortestPacked), gzhttp.CompressionLevel(gzip.BestSpeed),
		gzhttp.RandomJitter(jitter, 0, false), gzhttp.ContentTypeFilter(func(kind string) bool {
			kind, _, err := mime.ParseMediaType(kind)
			return err == nil && isText(kind) && kind != "text/event-stream"
		}))
	if err != nil {
		panic(err) // of our own options
	}
	return wrap
})

func (g *Guests) serve(w http.ResponseWriter, r *http.Request) {
	head := w.Header()
	head.Set("X-Robots-Tag", "noindex, nofollow, noarchive")
	host := hostPart("https://" + r.Host)
	g.mu.RLock()
	l := g.open[host]
	g.mu.RUnlock()
	if l == nil || !g.Now().Before(l.Until) {
		write(w, http.StatusNotFound, page.Page{Title: "This address leads nowhere now", Words: "It was lent for a time that is over, or " +
			"never was. " +
			"Ask whoever sent it to you for another one."})
		return
	}
	told, refused := &telling{ResponseWriter: w}, ""
	asked := wire.Guested{At: g.Now().UTC(), Guest: who(r), Method: r.Method, Address: short(r.URL.RequestURI(), 1000)}
	defer func() { // also of an answer that breaks off
		asked.Status, asked.Refused = told.status, refused
		g.Note(l.Invitation, asked)
	}()
	refused = g.answer(told, r, l, host)
}

// answer answers one for an invitation; refused is why it was not let through.
func (g *Guests) answer(w http.ResponseWriter, r *http.Request, l *lent, host string) (refused string) {
	if r.URL.Path == "/robots.txt" {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		fmt.Fprint(w, "User-agent: *\nDisallow: /\n")
		return ""
	}
	if l.Password != "" {
		if in, refused := g.letIn(w, r, l); !in {
			return refused
		}
	}
	l.seen(who(r))
	if strings.HasPrefix(r.URL.Path, Path) || strings.HasPrefix(r.URL.Path, site.TicketPath) {
		if r.URL.Path == Path || !g.Extra(w, r, l.Invitation) {
			http.NotFound(w, r)
		}
		return ""
	}
	s, known := g.Host.Site(l.Site)
	if !known || s.State != site.Running {
		w.Header().Set("Retry-After", "10")
		write(w, http.StatusServiceUnavailable, page.Page{Title: "Not at this moment", Words: "The site that you were invited to does not " +
			"run now. " +
			"This page looks again by itself.", Again: 10})
		return "not running"
	}
	if why := l.Allows(r, func(address string) bool { return g.Host.IsFile(s, address) }); why != "" {
		write(w, http.StatusForbidden, page.Page{Title: "Not by this invitation", Words: why})
		return why
	}
	g.pass(w, r, l, s, host)
	return ""
}

func (l *lent) seen(guest string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.guests) < mostGuests {
		l.guests[guest] = true
	}
}

// who is the address of a guest.
func who(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return "unknown"
	}
	return host
}

// oneOf is what guests are told apart by where they guess: a network of IPv6 is one.
func oneOf(guest string) string {
	address, err := netip.ParseAddr(guest)
	if err != nil || address.Unmap().Is4() {
		return guest
	}
	network, err := address.WithZone("").Prefix(64)
	if err != nil {
		return guest
	}
	return network.String()
}

// letIn tells whether a guest has said the password before; who has not is asked, and is led on once it was said.
func (g *Guests) letIn(w http.ResponseWriter, r *http.Request, l *lent) (in bool, refused string) {
	if cookie, err := r.Cookie(cookieName); err == nil && l.door.knows(cookie.Value) {
		return true, ""
	}
	p := page.Page{Title: "A site to look at", Words: "Say the password that came with the address.", Door: Path, To: r.URL.RequestURI()}
	if r.Method != http.MethodPost || r.URL.Path != Path {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			p.To = "/"
		}
		write(w, http.StatusUnauthorized, p)
		return false, "no password"
	}
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	p.To = inside(r.PostFormValue("to"))
	session, wait := l.door.try(oneOf(who(r)), r.PostFormValue("password"), l.Password)
	if session == "" {
		p.Words = "That is not the password. Say it once more, as it was sent to you."
		if wait > 0 {
			p.Words = "That was not the password, too often. Wait for " + roundUp(wait) + ", then try again."
			w.Header().Set("Retry-After", fmt.Sprint(int(wait.Seconds())+1))
			write(w, http.StatusTooManyRequests, p)
			return false, "too many wrong passwords"
		}
		write(w, http.StatusUnauthorized, p)
		return false, "a wrong password"
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: session, Path: "/", Secure: true, HttpOnly: true, SameSite: http.SameSiteLaxMode})
	w.Header().Set("Cache-Control", "no-store")
	http.Redirect(w, r, p.To, http.StatusSeeOther)
	return false, ""
}

func roundUp(wait time.Duration) string {
	if wait > time.Minute {
		return fmt.Sprintf("%d minutes", int(wait.Minutes())+1)
	}
	return fmt.Sprintf("%d seconds", int(wait.Seconds())+1)
}

// inside is an address within the same site.
func inside(to string) string {
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\\r\n") || strings.HasPrefix(to, Path) {
		return "/"
	}
	return to
}

// pass hands a guest's request to the site, as if it were asked at its own address, and leads what it answers.
func (g *Guests) pass(w http.ResponseWriter, r *http.Request, l *lent, s site.Site, host string) {
	at := g.Host.Gateway()
	domain := l.hostOf(host)
	led := r.Clone(r.Context())
	led.Host = strings.TrimPrefix(strings.TrimPrefix(strings.TrimSuffix(at.URL(domain, s.HTTPS), "/"), "https://"), "http://")
	led.TLS = nil
	if s.HTTPS {
		led.TLS = &tls.ConnectionState{}
	}
	by := l.leads(s, at)
	leadRequest(led, by, l.anonymous())
	if l.Only != "" && g.Host.IsFile(s, path.Clean("/"+r.URL.Path)) {
		led.URL.RawQuery = ""
	}
	body, done, err := g.body(led, by)
	if err != nil {
		write(w, http.StatusRequestEntityTooLarge, page.Page{Title: "That was too much", Words: "What was sent could not be taken: " +
			err.Error()})
		return
	}
	defer done()
	led.Body = body
	ctx, cancel := context.WithCancel(led.Context())
	defer cancel()
	go func() {
		select {
		case <-l.ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	answer := &answer{ResponseWriter: w, by: by, request: led, anonymous: l.anonymous(), script: g.Script(l.Invitation)}
	defer answer.close()
	g.Host.Pass(answer, led.WithContext(ctx), s)
}

// leads are the ways of an invitation, as its site is addressed now.
func (l *lent) leads(s site.Site, at site.Gateway) ways {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ways.out == nil || l.https != s.HTTPS {
		l.ways, l.https = l.Invitation.ways(s, at), s.HTTPS
	}
	return l.ways.own()
}

// longestFirst are the domains of bases.
func longestFirst(bases map[string]string) []string {
	return slices.SortedFunc(maps.Keys(bases), func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
}

// telling notes the status of an answer.
type telling struct {
	http.ResponseWriter
	status int
}

func (t *telling) WriteHeader(status int) {
	if t.status == 0 && status >= 200 || status == http.StatusSwitchingProtocols {
		t.status = status
	}
	t.ResponseWriter.WriteHeader(status)
}

func (t *telling) Write(text []byte) (int, error) {
	if t.status == 0 {
		t.status = http.StatusOK
	}
	return t.ResponseWriter.Write(text)
}

// Hijack implements http.Hijacker.
func (t *telling) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	t.status = http.StatusSwitchingProtocols
	return http.NewResponseController(t.ResponseWriter).Hijack()
}

// Unwrap lets http.ResponseController reach what is beneath.
func (t *telling) Unwrap() http.ResponseWriter { return t.ResponseWriter }

func short(text string, most int) string {
	if len(text) > most {
		return text[:most] + "…"
	}
	return text
}

// write answers with a page of ours.
func write(w http.ResponseWriter, status int, p page.Page) {
	p.Alone = true
	page.Write(w, status, p)
}
