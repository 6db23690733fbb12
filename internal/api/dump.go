package api

import (
	"compress/gzip"
	"errors"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/labstack/echo/v4"

	"vessik/internal/cms"
	"vessik/internal/core/site"
)

// dumpRoutes give a site's database out as SQL.
func (a *API) dumpRoutes(api huma.API, router *echo.Echo) {
	declare(api, "GET", "/sites/{name}/dump", "dump-site", "The site's database as SQL, at one moment, or the tables that are named", nil,
		map[string]*huma.MediaType{"application/sql": {Schema: &huma.Schema{Type: "string"}}}, &huma.Param{Name: "table", In: "query",
			Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}}, &huma.Param{Name: "pack", In: "query",
			Schema: &huma.Schema{Type: "string", Enum: []any{"gz", "zst"}}})
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
		to := packed(c.Response(), c.QueryParam("pack"))
		if err = cms.Dump(c.Request().Context(), pool, to, c.QueryParams()["table"]...); err == nil {
			err = to.Close()
		}
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

// packed compresses what is written as somebody wants it.
func packed(to http.ResponseWriter, how string) io.WriteCloser {
	switch how {
	case "gz":
		to.Header().Set("Content-Type", "application/gzip")
		return gzip.NewWriter(to)
	case "zst":
		if writer, err := zstd.NewWriter(to); err == nil {
			to.Header().Set("Content-Type", "application/zstd")
			return writer
		}
	}
	return plain{to}
}

type plain struct{ io.Writer }

func (plain) Close() error { return nil }
