package api

import (
	"context"
	"crypto/rand"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

const (
	terminalIdle    = time.Hour // without input, one ends
	terminalLooks   = 2 * time.Second
	mostTerminals   = 20      // of the console, at once
	mostUnseen      = 1 << 20 // bytes that are sent before the page says that it has shown them
	terminalForgets = 30 * time.Second
)

// terminals are those of the console: by their one-time address, whose session each belongs to while it is not open yet; and how many are
// open.
type terminals struct {
	mu      sync.Mutex
	waiting map[string]waitingTerminal
	open    int
}

type waitingTerminal struct {
	session string // its hash; empty for whoever has the token
	until   time.Time
}

func (t *terminals) wait(session string) (id string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.waiting == nil {
		t.waiting = map[string]waitingTerminal{}
	}
	for old, each := range t.waiting {
		if time.Now().After(each.until) {
			delete(t.waiting, old)
		}
	}
	id = strings.ToLower(rand.Text())
	t.waiting[id] = waitingTerminal{session, time.Now().Add(terminalForgets)}
	return id
}

// begin opens one that waits, unless too many are open.
func (t *terminals) begin(id string) (session string, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	found, ok := t.waiting[id]
	delete(t.waiting, id)
	if !ok || time.Now().After(found.until) || t.open >= mostTerminals {
		return "", false
	}
	t.open++
	return found.session, true
}

func (t *terminals) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.open--
}

// terminalRoutes are terminals of the console: a shell in the site's cell, over a WebSocket as commands have it, that ends with the page,
// with its session, or when nothing was typed for an hour.
func (a *API) terminalRoutes(api huma.API, router *echo.Echo) {
	register(api, "POST", "/sites/{name}/terminal", "new-terminal", "A one-time address of a terminal in the site's cell (WebSocket)",
		func(_ context.Context, in *struct {
			SitePath
			Authorization string `header:"Authorization"`
		}) (*body[wire.Link], error) {
			if _, known := a.Machine.Registry.Site(site.ASCII(in.Name)); !known {
				return nil, noSuchSite(in.Name)
			}
			session := ""
			if secret := strings.TrimPrefix(in.Authorization, "Bearer "); secret != a.Token {
				session = hash(secret)
			}
			path := "/api/v1/sites/" + site.ASCII(in.Name) + "/terminal/" + a.terminals.wait(session)
			secret, _ := a.tickets.issue(path)
			return &body[wire.Link]{wire.Link{URL: path + "?ticket=" + secret, ExpiresAt: time.Now().Add(terminalForgets)}}, nil
		})
	router.GET("/api/v1/sites/:name/terminal/:id", a.terminal)
}

func (a *API) terminal(c echo.Context) error {
	session, ok := a.terminals.begin(c.Param("id"))
	if !ok {
		return echo.NewHTTPError(http.StatusForbidden, "that terminal was opened already, or too many are open; close one")
	}
	defer a.terminals.end()
	socket, err := websocket.Accept(c.Response(), c.Request(), nil) // from the console's own pages alone
	if err != nil {
		return nil // it has answered
	}
	defer socket.CloseNow()
	socket.SetReadLimit(1 << 20)
	ctx, cancel := context.WithCancel(c.Request().Context())
	defer cancel()
	run := &attached{ctx: ctx, cancel: cancel, socket: socket, typed: make(chan struct{}, 1), room: make(chan struct{}, 1)}
	go a.watchTerminal(run, session)
	size := wire.TerminalSize{Rows: 24, Columns: 80}
	environment := map[string]string{"TERM": "xterm-256color", "PS1": c.Param("name") + `:\W\$ `}
	run.finish(a.runCommand(run, c.Param("name"), wire.Command{Terminal: &size, Environment: environment}))
	return nil
}

// watchTerminal ends a terminal at which nothing is typed, or whose session is over.
func (a *API) watchTerminal(run *attached, session string) {
	defer run.cancel()
	idle := time.NewTimer(terminalIdle)
	defer idle.Stop()
	look := time.NewTicker(terminalLooks)
	defer look.Stop()
	for {
		select {
		case <-run.ctx.Done():
			return
		case <-idle.C:
			return
		case <-run.typed:
			idle.Reset(terminalIdle)
		case <-look.C:
			if session != "" && !a.sessions.isOpen(session, time.Now()) {
				return
			}
		}
	}
}
