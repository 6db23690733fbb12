package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// infoRoutes are what sites say of themselves.
func (a *API) infoRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/info", "get-info",
		"What a site runs on and every setting in effect, as told by a request that it served",
		func(ctx context.Context, in *SitePath) (*body[wire.Info], error) {
			info, err := a.Info.Info(ctx, in.Name)
			return &body[wire.Info]{info}, asProblem(err)
		})
}
