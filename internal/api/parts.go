package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// partsRoutes are the plugins and themes of sites.
func (a *API) partsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/parts", "list-parts", "The plugins and themes of a site",
		func(ctx context.Context, in *SitePath) (*body[[]wire.Part], error) {
			parts, err := a.Parts.List(ctx, in.Name)
			return &body[[]wire.Part]{parts}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/parts", "change-parts",
		"Change the plugins and themes of a site; it goes back by itself when a check fails that passed before",
		func(ctx context.Context, in *struct {
			SitePath
			Who
			Body wire.ChangeParts
		}) (*body[wire.Operation], error) {
			operation, err := a.Parts.Change(ctx, in.Name, in.Body, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
}
