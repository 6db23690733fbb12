package api

import (
	"context"
	"fmt"
	"net/http"

	file "vessik/internal/core/fleet"
	"vessik/internal/fleet"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// fleetRoutes are sites as members of the fleet.
func (a *API) fleetRoutes(api huma.API, router *echo.Echo) {
	register(api, "POST", "/sites/label", "label-sites", "Change the group, note and place of sites in the fleet",
		func(ctx context.Context, in *body[wire.Label]) (*body[[]wire.Site], error) {
			if err := a.Fleet.Label(ctx, in.Body); err != nil {
				return nil, asProblem(err)
			}
			changed := []site.Site{}
			for _, name := range in.Body.Names {
				if s, ok := a.Machine.Registry.Site(name); ok {
					changed = append(changed, s)
				}
			}
			return &body[[]wire.Site]{a.sites(changed, false)}, nil
		})
	register(api, "POST", "/sites/{name}/site-file", "write-site-file",
		"Write a site's own file into its folder: it makes the same site on another machine", func(ctx context.Context, in *struct {
			SitePath
			Body wire.WriteSiteFile
		}) (*body[wire.Written], error) {
			s, ok := a.Machine.Registry.Site(in.Name)
			if !ok {
				return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no site %q; see the names with: vessik sites", in.Name))
			}
			dump := ""
			if in.Body.Content {
				dump = fleet.SiteDump
			}
			text, err := file.WriteSite(a.sites([]site.Site{s}, false)[0], dump)
			if err != nil {
				return nil, err
			}
			files, err := a.Fleet.WriteSiteFile(ctx, in.Name, text, in.Body.Content)
			return &body[wire.Written]{wire.Written{Files: files}}, asProblem(err)
		})
	register(api, "GET", "/fleet", "write-fleet", "The fleet file of what there is",
		func(context.Context, *empty) (*body[wire.FleetText], error) {
			text, err := file.Of(a.sites(a.Machine.Registry.All(), false))
			return &body[wire.FleetText]{wire.FleetText{Text: string(text)}}, err
		})
	register(api, "POST", "/fleet/compare", "compare-fleet",
		"What leads from the sites that there are to those of a fleet file; changes nothing",
		func(_ context.Context, in *body[wire.FleetText]) (*body[[]file.Step], error) {
			steps, err := a.Fleet.Compare([]byte(in.Body.Text), a.sites(a.Machine.Registry.All(), false))
			return &body[[]file.Step]{steps}, asProblem(err)
		})
	register(api, "POST", "/fleet/match", "match-fleet",
		"Bring the sites to what a fleet file says; those that it does not name are left alone",
		func(ctx context.Context, in *body[wire.FleetText]) (*body[wire.Operation], error) {
			operation, err := a.Fleet.Match(ctx, []byte(in.Body.Text), a.sites(a.Machine.Registry.All(), false))
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
}
