package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// createRoutes are how sites are made.
func (a *API) createRoutes(api huma.API, router *echo.Echo) {
	register(api, "POST", "/sites", "new-sites", "Make sites: all that are named, or none",
		func(ctx context.Context, in *body[wire.NewSites]) (*body[wire.Operation], error) {
			operation, err := a.Create.New(ctx, in.Body.Requests())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/sites/preview", "preview-sites", "What requests would become, and what is wrong with them; changes nothing",
		func(_ context.Context, in *body[wire.NewSites]) (*body[wire.SitesPreview], error) {
			sites, problems := a.Create.Preview(in.Body.Requests())
			derived := wire.SitesPreview{Sites: a.sites(sites, false), Plans: []wire.Planned{}, Problems: problems}
			if len(problems) == 0 {
				for _, s := range sites {
					derived.Plans = append(derived.Plans, a.Create.Planned(s))
				}
			}
			return &body[wire.SitesPreview]{derived}, nil
		})
}
