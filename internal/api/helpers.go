package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// helperRoutes are local helpers. Which a site has is one of its settings.
func (a *API) helperRoutes(api huma.API, _ *echo.Echo) {
	register(api, "GET", "/sites/{name}/helpers", "list-helpers", "Local helpers that the site may have, and those that it has",
		func(_ context.Context, in *SitePath) (*body[[]wire.Helper], error) {
			all, err := a.Helpers.List(in.Name)
			return &body[[]wire.Helper]{all}, asProblem(err)
		})
}
