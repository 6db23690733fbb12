package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// renameRoutes are names and domains.
func (a *API) renameRoutes(api huma.API, router *echo.Echo) {
	type renamed struct {
		SitePath
		Who
		Body wire.Rename
	}
	register(api, "POST", "/sites/{name}/rename", "rename-site",
		"Give a site another name or domain, re-addressed everywhere; its old domain leads on for a while",
		func(ctx context.Context, in *renamed) (*body[wire.Operation], error) {
			operation, err := a.Rename.Rename(ctx, in.Name, in.Body, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/sites/{name}/rename/preview", "preview-rename", "What renaming would change in the database; changes nothing",
		func(ctx context.Context, in *renamed) (*body[rewrite.Tally], error) {
			tally, err := a.Rename.Preview(ctx, in.Name, in.Body)
			return &body[rewrite.Tally]{tally}, asProblem(err)
		})
	register(api, "PUT", "/sites/{name}/domains", "set-domains", "Further domains of a site", func(ctx context.Context, in *struct {
		SitePath
		Body wire.Domains
	}) (*body[wire.Site], error) {
		if err := a.Rename.SetDomains(ctx, in.Name, in.Body); err != nil {
			return nil, asProblem(err)
		}
		s, _ := a.Machine.Registry.Site(in.Name)
		return &body[wire.Site]{a.sites([]site.Site{s}, false)[0]}, nil
	})
}
