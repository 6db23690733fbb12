package api

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
	"vessik/internal/survey"
)

// serviceRoutes are the service and the machine.
func (a *API) serviceRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/status", "status", "The service itself", func(context.Context, *empty) (*body[wire.Status], error) {
		return &body[wire.Status]{a.status()}, nil
	})
	register(api, "GET", "/survey", "survey", "The machine as Vessik finds it, with verdicts and remedies",
		func(ctx context.Context, _ *empty) (*body[survey.Survey], error) {
			return &body[survey.Survey]{survey.Look(ctx, a.Machine.Home)}, nil
		})
	register(api, "POST", "/links", "new-link", "A one-time link that signs a browser in to the console",
		func(context.Context, *empty) (*body[wire.Link], error) {
			ticket, expires := a.tickets.issue(signIn)
			return &body[wire.Link]{wire.Link{URL: a.ConsoleURL() + "#ticket=" + ticket, ExpiresAt: expires}}, nil
		})
}

func (a *API) status() wire.Status {
	w := a.Machine.Abilities
	s := wire.Status{Version: Version, Home: a.Machine.Home.Dir, EngineStore: a.Machine.Store.Dir, Account: a.Account, PID: a.PID,
		StartedAt: a.StartedAt, API: fmt.Sprintf("http://127.0.0.1:%d", a.Port),
		Console: a.ConsoleURL(), GatewayPort: a.Machine.Gateway().HTTP, HTTPSPort: a.Machine.Gateway().HTTPS,
		Sites: map[string]int{}, Settling: a.Machine.Settling(),
		Confinement: wire.Confinement{LandlockABI: w.Landlock, Cells: w.Namespaces, Governed: w.Governor, Why: w.Why, Files: w.Files(),
			Signals: w.Signals(), Sockets: true}}
	for _, each := range a.Machine.Registry.All() {
		s.Sites[string(each.State)]++
	}
	return s
}
