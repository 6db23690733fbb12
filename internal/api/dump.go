package api

import (
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/cms"
	"vessik/internal/core/site"
)

// dumpRoutes give a site's database out as SQL.
func (a *API) dumpRoutes(api huma.API, router *echo.Echo) {
	declare(api, "GET", "/sites/{name}/dump", "dump-site", "The site's database as SQL, at one moment, or the tables that are named", nil,
		map[string]*huma.MediaType{"application/sql": {Schema: &huma.Schema{Type: "string"}}}, &huma.Param{Name: "table", In: "query",
			Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}})
	router.GET("/api/v1/sites/:name/dump", func(c echo.Context) error {
		s, ok := a.Machine.Registry.Site(site.ASCII(c.Param("name")))
		if !ok {
			writeProblem(c.Response(), asProblem(site.NoSite(c.Param("name"))))
			return nil
		}
		pool, release, err := a.Machine.Pool(c.Request().Context(), s)
		if err != nil {
			writeProblem(c.Response(), asProblem(err))
			return nil
		}
		defer release()
		c.Response().Header().Set("Content-Type", "application/sql; charset=utf-8")
		err = cms.Dump(c.Request().Context(), pool, c.Response(), c.QueryParams()["table"]...)
		if errors.Is(err, cms.ErrNoTable) {
			writeProblem(c.Response(), problem(http.StatusNotFound, err.Error()))
			return nil
		}
		if err != nil {
			a.Machine.Log.Error("a dump broke off", "site", s.Name, "reason", err)
			panic(http.ErrAbortHandler) // what was sent already is not to be taken for the whole
		}
		return nil
	})
}
