package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// defaultsRoutes are what is set once.
func (a *API) defaultsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/defaults", "get-defaults", "What is set once for new sites",
		func(context.Context, *empty) (*body[wire.DefaultsPage], error) {
			return &body[wire.DefaultsPage]{a.Defaults.Page()}, nil
		})
	register(api, "PUT", "/defaults", "set-defaults", "Set once what new sites have in common",
		func(_ context.Context, in *body[wire.SetDefaults]) (*body[wire.DefaultsPage], error) {
			if err := a.Defaults.Set(in.Body.Settings); err != nil {
				return nil, asProblem(err)
			}
			return &body[wire.DefaultsPage]{a.Defaults.Page()}, nil
		})
}
