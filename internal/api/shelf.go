package api

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// shelfRoutes are what is kept on this machine.
func (a *API) shelfRoutes(api huma.API, router *echo.Echo) {
	page := func() *body[wire.ShelfPage] { return &body[wire.ShelfPage]{a.Shelf.Page()} }
	register(api, "GET", "/shelf", "list-shelf", "Releases, plugins and themes that are kept on this machine",
		func(context.Context, *empty) (*body[wire.ShelfPage], error) {
			return page(), nil
		})
	register(api, "POST", "/shelf/fetch", "fetch-to-shelf", "Fetch an archive to the shelf, from an address or out of a Debian package",
		func(ctx context.Context, in *body[wire.FetchToShelf]) (*body[wire.ShelfPage], error) {
			var err error
			if in.Body.Package != "" {
				_, err = a.Shelf.FetchPackage(ctx, in.Body.Package)
			} else {
				_, err = a.Shelf.Shelf.Fetch(ctx, in.Body.Address, a.Machine.CMS.Definitions())
			}
			if err != nil {
				return nil, asProblem(site.Problems{{Field: "address", Message: err.Error(),
					Remedy: "name a zip archive of a release, plugin or theme, or a Debian package of them"}})
			}
			return page(), nil
		})
	register(api, "DELETE", "/shelf/{name}", "drop-from-shelf", "Drop an archive from the shelf; sites that were made of it stay",
		func(_ context.Context, in *SitePath) (*struct{}, error) {
			err := a.Shelf.Shelf.Drop(in.Name)
			if errors.Is(err, fs.ErrNotExist) {
				return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no %q on the shelf; see what is with: vessik shelf", in.Name))
			}
			return nil, asProblem(err)
		})
	api.OpenAPI().AddOperation(&huma.Operation{Method: "PUT", Path: "/api/v1/shelf/{name}", OperationID: "add-to-shelf",
		Summary:    "Put a zip archive on the shelf",
		Parameters: []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}},
		Responses:  map[string]*huma.Response{"200": {Description: "What it is"}}})
	router.PUT("/api/v1/shelf/:name", func(c echo.Context) error {
		item, err := a.Shelf.Shelf.Add(c.Param("name"), c.Request().Body, a.Machine.CMS.Definitions())
		if err != nil {
			writeProblem(c.Response(), asProblem(site.Problems{{Field: "file", Message: err.Error(),
				Remedy: "name a zip archive of a release, plugin or theme"}}))
			return nil
		}
		return c.JSON(http.StatusOK, item)
	})
}
