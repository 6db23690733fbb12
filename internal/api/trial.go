package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
	"vessik/internal/trial"
)

// trialRoutes are trials.
func (a *API) trialRoutes(api huma.API, router *echo.Echo) {
	details[plan.Trial](api)
	register(api, "POST", "/sites/{name}/trial", "try-site", "Try copies of a site on many stacks", func(ctx context.Context, in *struct {
		SitePath
		Body wire.TrialRequest
	}) (*body[wire.Operation], error) {
		b := in.Body
		operation, err := a.Trial.Start(ctx, in.Name, trial.Request{PHP: b.PHP, Web: b.Web, Database: b.Database, Visit: b.Visit,
			KeepCopies: b.KeepCopies,
			NoPicture:  b.NoPicture, Walk: b.Walk})
		return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
	}, accepted)
	api.OpenAPI().AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1/operations/{id}/pictures/{name}", OperationID: "get-picture",
		Summary:   "The picture that a trial took of a copy, or of the site itself",
		Responses: map[string]*huma.Response{"200": {Description: "A picture", Content: map[string]*huma.MediaType{"image/jpeg": {}}}},
		Parameters: []*huma.Param{{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}})
	router.GET("/api/v1/operations/:id/pictures/:name", func(c echo.Context) error {
		picture, ok := a.Trial.PictureOf(c.Request().Context(), c.Param("id"), c.Param("name"))
		if !ok {
			writeProblem(c.Response(), problem(http.StatusNotFound, "there is no such picture"))
			return nil
		}
		c.Response().Header().Set("Cache-Control", "private, max-age=60")
		return c.File(picture)
	})
}
