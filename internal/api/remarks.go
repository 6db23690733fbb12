package api

import (
	"context"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// RemarkPath names a remark on a site.
type RemarkPath struct {
	SitePath
	ID int64 `path:"id"`
}

// remarksRoutes are what guests remarked.
func (a *API) remarksRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/remarks", "list-remarks", "The remarks on a site, the oldest first",
		func(ctx context.Context, in *SitePath) (*body[[]wire.Remark], error) {
			all, err := a.Remarks.List(ctx, in.Name)
			return &body[[]wire.Remark]{all}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/remarks/{id}", "answer-remark", "Answer a remark, or say where it stands",
		func(ctx context.Context, in *struct {
			RemarkPath
			Who
			Body wire.ReplyTo
		}) (*body[wire.Remark], error) {
			changed, err := a.Remarks.Reply(ctx, in.Name, in.ID, in.Body, in.Who.name())
			return &body[wire.Remark]{changed}, asProblem(err)
		})
	register(api, "DELETE", "/sites/{name}/remarks/{id}", "drop-remark", "Remove a remark",
		func(ctx context.Context, in *RemarkPath) (*struct{}, error) {
			return nil, asProblem(a.Remarks.Drop(ctx, in.Name, in.ID))
		})
	text := &huma.Schema{Type: "string"}
	api.OpenAPI().AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1/sites/{name}/remarks/{id}/drawing.png",
		OperationID: "get-drawing", Summary: "What was drawn for a remark",
		Responses: map[string]*huma.Response{"200": {Description: "A picture", Content: map[string]*huma.MediaType{"image/png": {}}}},
		Parameters: []*huma.Param{{Name: "name", In: "path", Required: true, Schema: text},
			{Name: "id", In: "path", Required: true, Schema: text}}})
	router.GET("/api/v1/sites/:name/remarks/:id/drawing.png", func(c echo.Context) error {
		id, err := strconv.ParseInt(c.Param("id"), 10, 64)
		var drawing []byte
		if err == nil {
			drawing, err = a.Remarks.Drawing(c.Request().Context(), c.Param("name"), id)
		}
		if err != nil {
			writeProblem(c.Response(), problem(http.StatusNotFound, "there is no such drawing"))
			return nil
		}
		return c.Blob(http.StatusOK, "image/png", drawing)
	})
}
