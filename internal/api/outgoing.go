package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// outgoingRoutes are what sites ask of other machines.
func (a *API) outgoingRoutes(api huma.API, _ *echo.Echo) {
	register(api, "GET", "/sites/{name}/outgoing", "list-outgoing", "What the site asked of other machines, the last first",
		func(ctx context.Context, in *SitePath) (*body[[]wire.Outgoing], error) {
			all, err := a.Outgoing.List(ctx, in.Name)
			return &body[[]wire.Outgoing]{all}, asProblem(err)
		})
	register(api, "DELETE", "/sites/{name}/outgoing", "forget-outgoing", "Forget what the site asked of other machines",
		func(ctx context.Context, in *SitePath) (*struct{}, error) {
			return nil, asProblem(a.Outgoing.Forget(ctx, in.Name))
		})
	register(api, "POST", "/sites/{name}/outgoing/page", "outgoing-page", "Load a page, and tell what the site asked for it",
		func(ctx context.Context, in *struct {
			SitePath
			Body wire.OutgoingPath
		}) (*body[wire.OutgoingPage], error) {
			page, err := a.Outgoing.Page(ctx, in.Name, in.Body.Path)
			return &body[wire.OutgoingPage]{page}, asProblem(err)
		})
}
