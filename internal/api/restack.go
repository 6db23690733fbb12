package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
	"vessik/internal/restack"
)

// restackRoutes are changes of stack.
func (a *API) restackRoutes(api huma.API, router *echo.Echo) {
	details[plan.Change](api)
	restack := func(in wire.Restack, by Who) restack.Request {
		return restack.Request{PHP: in.PHP, Web: in.Web, Database: in.Database, Stay: in.Stay, Walk: in.Walk, Who: by.name()}
	}
	register(api, "POST", "/sites/{name}/restack/preview", "preview-restack", "What a change of stack would do; changes nothing",
		func(ctx context.Context, in *struct {
			SitePath
			Body wire.Restack
		}) (*body[wire.RestackPreview], error) {
			preview, err := a.Restack.Preview(ctx, in.Name, restack(in.Body, Who{}))
			return &body[wire.RestackPreview]{preview}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/restack", "restack-site",
		"Change a site's stack; it goes back by itself when a check fails that passed before",
		func(ctx context.Context, in *struct {
			SitePath
			Who
			Body wire.Restack
		}) (*body[wire.Operation], error) {
			operation, err := a.Restack.Restack(ctx, in.Name, restack(in.Body, in.Who))
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
}
