package api

import (
	"encoding/json"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// walkRoutes walk through all pages of a site.
func (a *API) walkRoutes(api huma.API, router *echo.Echo) {
	asked := api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Walk](), true, "")
	declare(api, "POST", "/sites/{name}/walk", "walk-site", "Walk through all pages of the site; a line of JSON (WalkLine) for all",
		&huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/json": {Schema: asked}}}, ndjson)
	details[wire.WalkLine](api)
	router.POST("/api/v1/sites/:name/walk", a.walk)
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
	if err == nil {
		err = a.Walk.Walk(ctx, name, asked, signIn, func(line wire.WalkLine) error { return tell(line, line.Progress != nil || line.End != nil) })
	}
	if err != nil && !c.Response().Committed {
		writeProblem(c.Response(), asProblem(err))
	} else if err != nil {
		return tell(wire.WalkLine{Error: err.Error()}, true)
	}
	return nil
}
