package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// hostsRoutes are domains that this machine has to be told of.
func (a *API) hostsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/hosts", "get-hosts", "Domains that this machine has to be told of",
		func(context.Context, *empty) (*body[wire.HostsPage], error) {
			return &body[wire.HostsPage]{a.Hosts.Page()}, nil
		})
	register(api, "PUT", "/hosts", "allow-hosts", "Let the service keep a marked block in the hosts file, or no longer",
		func(_ context.Context, in *body[wire.AllowHosts]) (*body[wire.HostsPage], error) {
			if err := a.Hosts.Allow(in.Body.Allow); err != nil {
				return nil, asProblem(err)
			}
			return &body[wire.HostsPage]{a.Hosts.Page()}, nil
		})
}
