package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// phpErrorRoutes are what PHP of sites said.
func (a *API) phpErrorRoutes(api huma.API, _ *echo.Echo) {
	register(api, "GET", "/sites/{name}/errors", "list-php-errors", "What PHP of the site complained of, by place, the last first",
		func(ctx context.Context, in *SitePath) (*body[[]wire.PHPError], error) {
			all, err := a.PHPErrors.List(ctx, in.Name)
			return &body[[]wire.PHPError]{all}, asProblem(err)
		})
	register(api, "DELETE", "/sites/{name}/errors", "forget-php-errors", "Forget what PHP of the site complained of",
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return nil, asProblem(a.PHPErrors.Forget(ctx, in.Name))
		})
}
