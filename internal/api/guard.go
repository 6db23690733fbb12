package api

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"mime"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
)

const (
	sessionCookie   = "vessik-session"
	sessionLifetime = 7 * 24 * time.Hour
	ticketLifetime  = 5 * time.Minute
)

// guard lets in who may. Every request must name this service as its host (a page elsewhere whose name was made to point here does
// not); the API wants the token, or a session of the console. A session counts on the console's own host only, and what changes
// something must come from the console's own pages.
func (a *API) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		r, header := c.Request(), c.Response().Header()
		header.Set("X-Content-Type-Options", "nosniff")
		header.Set("Referrer-Policy", "same-origin")
		header.Set("X-Frame-Options", "DENY")
		header.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		host, ours := a.ownHost(r.Host)
		if !ours {
			return echo.NewHTTPError(http.StatusMisdirectedRequest, "this service is not called "+r.Host)
		}
		if !strings.HasPrefix(r.URL.Path, "/api/") {
			return next(c)
		}
		header.Set("Cache-Control", "no-store")
		if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			if subtle.ConstantTimeCompare([]byte(token), []byte(a.Token)) == 1 {
				return next(c)
			}
			return echo.NewHTTPError(http.StatusUnauthorized, "the token is not this service's")
		}
		cookie, err := r.Cookie(sessionCookie)
		if err != nil || host != site.ConsoleHost || !a.sessionValid(cookie.Value) {
			return echo.NewHTTPError(http.StatusUnauthorized, "sign in with a link from: vessik console")
		}
		changes := r.Method != http.MethodGet && r.Method != http.MethodHead
		if changes && r.Header.Get("Origin") != strings.TrimSuffix(a.ConsoleURL(), "/") {
			return echo.NewHTTPError(http.StatusForbidden, "this request does not come from the console")
		}
		return next(c)
	}
}

// ownHost tells whether a Host header names this service, on its own port.
func (a *API) ownHost(header string) (host string, ours bool) {
	host, port, err := net.SplitHostPort(header)
	if err != nil {
		host, port = header, "80"
	}
	host = strings.ToLower(strings.Trim(host, "[]"))
	return host, port == strconv.Itoa(a.Port) && slices.Contains([]string{"127.0.0.1", "::1", "localhost", site.ConsoleHost}, host)
}

// tickets are one-time: each is good for one sign-in, for a few minutes.
type tickets struct {
	mu    sync.Mutex
	valid map[string]time.Time
}

func (t *tickets) issue() (ticket string, expires time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for old, until := range t.valid {
		if time.Now().After(until) {
			delete(t.valid, old)
		}
	}
	ticket, expires = rand.Text(), time.Now().Add(ticketLifetime).UTC().Truncate(time.Second)
	t.valid[ticket] = expires
	return ticket, expires
}

func (t *tickets) take(ticket string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	until, ok := t.valid[ticket]
	delete(t.valid, ticket)
	return ok && time.Now().Before(until)
}

// signIn turns a ticket into a session.
func (a *API) signIn(c echo.Context) error {
	if host, _ := a.ownHost(c.Request().Host); host != site.ConsoleHost || !a.tickets.take(c.QueryParam("ticket")) {
		return c.Redirect(http.StatusSeeOther, a.ConsoleURL()+"?link=used")
	}
	http.SetCookie(c.Response(), &http.Cookie{Name: sessionCookie, Value: a.newSession(time.Now().Add(sessionLifetime)), Path: "/", HttpOnly: true,
		SameSite: http.SameSiteStrictMode, MaxAge: int(sessionLifetime.Seconds())})
	return c.Redirect(http.StatusSeeOther, "/")
}

// newSession makes a session that needs no memory, so that it outlives a restart of the service: its end and a signature.
func (a *API) newSession(until time.Time) string {
	text := fmt.Sprintf("%d.%s", until.Unix(), rand.Text())
	return text + "." + a.sign(text)
}

func (a *API) sessionValid(session string) bool {
	at := strings.LastIndexByte(session, '.')
	if at < 0 || !hmac.Equal([]byte(session[at+1:]), []byte(a.sign(session[:at]))) {
		return false
	}
	until, err := strconv.ParseInt(strings.Split(session, ".")[0], 10, 64)
	return err == nil && time.Now().Unix() < until
}

func (a *API) sign(text string) string {
	mac := hmac.New(sha256.New, []byte("session:"+a.Token))
	mac.Write([]byte(text))
	return hex.EncodeToString(mac.Sum(nil))
}

// console serves the built console. Its pages hold no data; an address that is no file is one of its pages.
func (a *API) console(c echo.Context) error {
	if strings.HasPrefix(c.Request().URL.Path, "/api/") {
		return echo.NewHTTPError(http.StatusNotFound, "there is no "+c.Request().URL.Path)
	}
	if host, _ := a.ownHost(c.Request().Host); host != site.ConsoleHost {
		return c.Redirect(http.StatusFound, a.ConsoleURL())
	}
	name := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
	text, err := fs.ReadFile(a.Console, name)
	if err != nil {
		name = "index.html"
		text, err = fs.ReadFile(a.Console, name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return echo.NewHTTPError(http.StatusNotFound, "this program was built without its console: run make build")
	}
	if err != nil {
		return err
	}
	header := c.Response().Header()
	header.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	if strings.HasPrefix(name, "assets/") {
		header.Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		header.Set("Cache-Control", "no-cache")
	}
	http.ServeContent(c.Response(), c.Request(), name, time.Time{}, bytes.NewReader(text))
	return nil
}
