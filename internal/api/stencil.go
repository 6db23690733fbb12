package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/stencil"
)

// stencilRoutes are saved sites; their files come and go as they are.
func (a *API) stencilRoutes(api huma.API, router *echo.Echo) {
	details[plan.Saving](api)
	register(api, "GET", "/stencils", "list-stencils", "Saved sites that new ones can be drawn from",
		func(context.Context, *empty) (*body[[]stencil.Manifest], error) {
			return &body[[]stencil.Manifest]{a.Stencils.Shelf.List()}, nil
		})
	register(api, "POST", "/sites/{name}/stencil", "save-stencil", "Save a site as a stencil", func(ctx context.Context, in *struct {
		SitePath
		Body wire.SaveStencil
	}) (*body[wire.Operation], error) {
		operation, err := a.Stencils.Save(ctx, in.Name, plan.Saving{Name: in.Body.As, Description: in.Body.Description,
			NewestCMS: in.Body.NewestCMS, Settings: in.Body.Settings})
		return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
	}, accepted)
	register(api, "PUT", "/stencils/{name}", "describe-stencil", "Describe or rename a stencil", func(_ context.Context, in *struct {
		SitePath
		Body wire.DescribeStencil
	}) (*body[stencil.Manifest], error) {
		if err := a.Stencils.Shelf.Describe(in.Name, in.Body.Name, in.Body.Description); err != nil {
			return nil, stencilProblem(in.Name, err)
		}
		m, err := a.Stencils.Shelf.Find(cmp.Or(in.Body.Name, in.Name))
		return &body[stencil.Manifest]{m}, asProblem(err)
	})
	register(api, "DELETE", "/stencils/{name}", "drop-stencil", "Drop a stencil; sites drawn from it stay",
		func(_ context.Context, in *SitePath) (*struct{}, error) {
			return nil, stencilProblem(in.Name, a.Stencils.Shelf.Drop(in.Name))
		})
	file := map[string]*huma.MediaType{"application/zstd": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	picture := map[string]*huma.MediaType{"image/jpeg": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	taken := map[string]*huma.MediaType{"application/json": {Schema: api.OpenAPI().Components.Schemas.Schema(
		reflect.TypeFor[stencil.Manifest](), true, "Stencil")}}
	for _, each := range []struct {
		method, path, id, summary string
		body                      *huma.RequestBody
		answer                    map[string]*huma.MediaType
	}{{"GET", "file", "export-stencil", "A stencil as one file", nil, file},
		{"PUT", "file", "import-stencil", "Take in a stencil's file", &huma.RequestBody{Required: true, Content: file}, taken},
		{"GET", "picture", "picture-stencil", "The picture of the site that a stencil was saved from", nil, picture}} {
		declare(api, each.method, "/stencils/{name}/"+each.path, each.id, each.summary, each.body, each.answer)
	}
	router.GET("/api/v1/stencils/:name/file", func(c echo.Context) error {
		if _, err := a.Stencils.Shelf.Find(c.Param("name")); err != nil {
			writeProblem(c.Response(), stencilProblem(c.Param("name"), err))
			return nil
		}
		return c.Attachment(a.Stencils.Shelf.File(c.Param("name")), c.Param("name")+stencil.Suffix)
	})
	router.PUT("/api/v1/stencils/:name/file", func(c echo.Context) error {
		m, err := a.Stencils.Shelf.Import(c.Request().Context(), c.Param("name"), c.Request().Body)
		if err != nil {
			writeProblem(c.Response(), asProblem(site.Problems{{Field: "file", Message: err.Error(),
				Remedy: "name a stencil's file, and a name that is free"}}))
			return nil
		}
		return c.JSON(http.StatusOK, m)
	})
	router.GET("/api/v1/stencils/:name/picture", func(c echo.Context) error {
		picture, err := a.Stencils.Shelf.Picture(c.Param("name"))
		if err != nil {
			writeProblem(c.Response(), stencilProblem(c.Param("name"), err))
			return nil
		}
		return c.Blob(http.StatusOK, "image/jpeg", picture)
	})
}

func stencilProblem(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return problem(http.StatusNotFound, fmt.Sprintf("there is no stencil %q; see the names with: vessik stencil", name))
	}
	if err != nil {
		return asProblem(site.Problems{{Field: "name", Message: err.Error(), Remedy: "choose another"}})
	}
	return nil
}
