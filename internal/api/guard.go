package api

import (
	"bytes"
	"crypto/subtle"
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
	"time"

	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
)

// signInPath is the one path of the API that needs neither token nor session: a link's ticket opens one.
const signInPath = "/api/v1/session"

// frames lets the console show sites, at the gateway's ports, and nothing else.
func (a *API) frames() string {
	if a.Machine == nil {
		return ""
	}
	at := a.Machine.Gateway()
	return fmt.Sprintf("; frame-src http://*:%d https://*:%d", at.Port(false), at.Port(true))
}

// guard lets in who may. Every request must name this service as its host (a page elsewhere whose name was made to point here does
// not); the API wants the token, or a session of the console. A session counts on the console's own host only, and what changes
// something must come from the console's own pages.
func (a *API) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		r, header := c.Request(), c.Response().Header()
		header.Set("X-Content-Type-Options", "nosniff")
		header.Set("Referrer-Policy", "same-origin")
		header.Set("X-Frame-Options", "DENY")
		header.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: "+
			"blob:; font-src 'self'; connect-src 'self' ws://"+site.ConsoleHost+":"+strconv.Itoa(a.Port)+
			a.frames()+"; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		host, ours := a.ownHost(r.Host)
		if !ours {
			return echo.NewHTTPError(http.StatusMisdirectedRequest, "this service is not called "+r.Host)
		}
		if !strings.HasPrefix(r.URL.Path, "/api/") {
			return next(c)
		}
		header.Set("Cache-Control", "no-store")
		fromConsole := r.Header.Get("Origin") == strings.TrimSuffix(a.ConsoleURL(), "/")
		if r.Method == http.MethodPost && r.URL.Path == signInPath {
			if host != site.ConsoleHost || !fromConsole {
				return echo.NewHTTPError(http.StatusForbidden, "this request does not come from the console")
			}
			return next(c)
		}
		if secret := c.QueryParam("ticket"); r.Method == http.MethodGet && secret != "" && a.tickets.take(secret, r.URL.Path) {
			return next(c)
		}
		secret := secretOf(r)
		if subtle.ConstantTimeCompare([]byte(secret), []byte(a.Token)) == 1 {
			return next(c)
		}
		if host != site.ConsoleHost || !a.sessions.use(secret, time.Now()) {
			return echo.NewHTTPError(http.StatusUnauthorized, "sign in with a link from: vessik console")
		}
		if changes := r.Method != http.MethodGet && r.Method != http.MethodHead; changes && !fromConsole {
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
