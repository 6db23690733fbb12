package api

import (
	"context"
	"encoding/json"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

// walkRoutes walk through all pages of a site.
func (a *API) walkRoutes(api huma.API, router *echo.Echo) {
	asked := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Walk](), true, "")
	declare(api, "POST", "/sites/{name}/walk", "walk-site", "Walk through all pages of the site; a line of JSON (WalkLine) for all",
		&huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: asked}}}, ndjson)
	details[wire.WalkLine](api)
	router.POST("/api/v1/sites/:name/walk", a.walk)
	register(api, "GET", "/sites/{name}/walks", "list-walks", "The walks of the site that are kept, the newest first",
		func(_ context.Context, in *SitePath) (*body[[]wire.WalkEnd], error) {
			all, err := a.Walk.List(in.Name)
			return &body[[]wire.WalkEnd]{all}, asProblem(err)
		})
	register(api, "GET", "/sites/{name}/walks/{id}", "get-walk", "A walk that is kept; last is the newest",
		func(_ context.Context, in *WalkPath) (*body[walk.Walked], error) {
			walked, err := a.Walk.Earlier(in.Name, in.ID)
			return &body[walk.Walked]{walked}, asProblem(err)
		})
	register(api, "DELETE", "/sites/{name}/walks/{id}", "drop-walk", "Forget a walk, and its pictures",
		func(_ context.Context, in *WalkPath) (*empty, error) {
			return nil, asProblem(a.Walk.Drop(in.Name, in.ID))
		})
	declare(api, "GET", "/sites/{name}/walks/{id}/pictures/{picture}", "get-walk-picture", "A page, as a walk's browser saw it", nil,
		map[string]*huma.MediaType{"image/jpeg": {}})
	router.GET("/api/v1/sites/:name/walks/:id/pictures/:picture", func(c echo.Context) error {
		file, ok := a.Walk.Picture(c.Param("name"), c.Param("id"), c.Param("picture"))
		if !ok {
			writeProblem(c.Response(), problem(http.StatusNotFound, "there is no such picture"))
			return nil
		}
		c.Response().Header().Set("Cache-Control", "private, max-age=3600")
		return c.File(file)
	})
}

// WalkPath is a walk in an address.
type WalkPath struct {
	SitePath
	ID string `path:"id" doc:"Of the walk; last is the newest"`
}

func (a *API) walk(c echo.Context) error {
	var asked wire.Walk
	from := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, 1<<16))
	from.DisallowUnknownFields()
	if err := from.Decode(&asked); err != nil {
		writeProblem(c.Response(), problem(http.StatusBadRequest, "the body is no walk: "+err.Error()))
		return nil
	}
	ctx, name, signIn := c.Request().Context(), c.Param("name"), ""
	var err error
	if asked.As != "" {
		signIn, _, _, err = a.Users.Ticket(ctx, name, asked.As)
	}
	tell := lines(c)
	var walked walk.Walked
	if err == nil {
		walked, err = a.Walk.Walk(ctx, name, asked, signIn, func(p wire.WalkProgress) error { return tell(wire.WalkLine{Progress: &p}, true) })
	}
	switch {
	case err != nil && !c.Response().Committed:
		writeProblem(c.Response(), asProblem(err))
		return nil
	case err != nil:
		return tell(wire.WalkLine{Error: err.Error()}, true)
	}
	for _, page := range walked.Pages {
		if err := tell(wire.WalkLine{Page: &page}, false); err != nil {
			return err
		}
	}
	if walked.Compared != nil {
		if err := tell(wire.WalkLine{Compared: walked.Compared}, false); err != nil {
			return err
		}
	}
	end := wire.WalkEndOf(walked)
	return tell(wire.WalkLine{End: &end}, true)
}
