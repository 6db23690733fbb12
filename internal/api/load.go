package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/wire"
)

// loadRoutes are dumps that take the place of databases.
func (a *API) loadRoutes(api huma.API, router *echo.Echo) {
	type loaded struct {
		SitePath
		Who
		Body wire.LoadSQL
	}
	register(api, "POST", "/sites/{name}/load", "load-sql",
		"Put a dump in the place of a site's database; goes back by itself when a check fails that passed before",
		func(ctx context.Context, in *loaded) (*body[wire.Operation], error) {
			operation, err := a.Load.Load(ctx, in.Name, in.Body, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/sites/{name}/load/preview", "preview-load",
		"What would be changed in a dump while it is loaded; changes nothing",
		func(ctx context.Context, in *loaded) (*body[rewrite.Tally], error) {
			tally, err := a.Load.Preview(ctx, in.Name, in.Body)
			return &body[rewrite.Tally]{tally}, asProblem(err)
		})
}
