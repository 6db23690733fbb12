package api

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// uploadsRoutes are files that a browser brings.
func (a *API) uploadsRoutes(api huma.API, router *echo.Echo) {
	register(api, "POST", "/uploads/{id}/keep", "keep-upload", "Put a file that was brought on the shelf, or among the stencils",
		func(ctx context.Context, in *struct {
			ID   string `path:"id" doc:"Of the file"`
			Body wire.KeepUpload
		}) (*struct{}, error) {
			return nil, uploadProblem(a.Uploads.Keep(ctx, in.ID, in.Body))
		})
	register(api, "DELETE", "/uploads/{id}", "drop-upload", "Drop a file that was brought",
		func(_ context.Context, in *struct {
			ID string `path:"id" doc:"Of the file"`
		}) (*struct{}, error) {
			return nil, uploadProblem(a.Uploads.Drop(in.ID))
		})
	file := map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	taken := map[string]*huma.MediaType{"application/json": {Schema: api.OpenAPI().Components.Schemas.Schema(
		reflect.TypeFor[wire.Upload](), true, "Upload")}}
	declare(api, "POST", "/uploads", "take-upload", "Bring a file: an archive, a dump, a stencil, a plugin or a theme; it stays for a "+
		"day, or until something is done with it", &huma.RequestBody{Required: true, Content: file}, taken)
	router.POST("/api/v1/uploads", func(c echo.Context) error {
		upload, err := a.Uploads.Take(c.QueryParam("name"), c.Request().ContentLength, c.Request().Body)
		if err != nil {
			writeProblem(c.Response(), asProblem(site.Problems{{Field: "file", Message: err.Error(),
				Remedy: "bring another, or name the file by its path on the service's machine"}}))
			return nil
		}
		return c.JSON(http.StatusOK, upload)
	})
}

func uploadProblem(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return problem(http.StatusNotFound, "there is no such file any more; bring it again")
	}
	return asProblem(err)
}
