package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// parcelRoutes give sites out as parcels, and put parcels in the place of sites.
func (a *API) parcelRoutes(api huma.API, router *echo.Echo) {
	file := map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	text, flag := &huma.Schema{Type: "string"}, &huma.Schema{Type: "boolean"}
	asked := []*huma.Param{{Name: "zip", In: "query", Schema: flag, Description: "A zip archive, and no tar archive with Zstandard"},
		{Name: "without", In: "query", Schema: &huma.Schema{Type: "array", Items: text}, Description: "uploads, caches, or paths"},
		{Name: "no_database", In: "query", Schema: flag},
		{Name: "for", In: "query", Schema: text, Description: "Address that the site is to have where it goes"}}
	declare(api, "GET", "/sites/{name}/parcel", "make-parcel", "The site in one file: a manifest, its files, its database, and checksums", nil,
		file, asked...)
	router.GET("/api/v1/sites/:name/parcel", func(c echo.Context) error { return a.sendParcel(c, "") })
	declare(api, "GET", "/sites/{name}/restore/{id}/parcel", "export-restore-point", "The site in one file, as it was at a restore point", nil,
		file, asked...)
	router.GET("/api/v1/sites/:name/restore/:id/parcel", func(c echo.Context) error { return a.sendParcel(c, c.Param("id")) })
	register(api, "POST", "/sites/{name}/lander", "make-lander",
		"A PHP file that lands the site's parcel at a host without Vessik, and its key",
		func(_ context.Context, in *struct {
			SitePath
			Body wire.AskLander
		}) (*body[wire.Lander], error) {
			lander, err := a.Sending.Lander(in.Name, in.Body.Zip)
			return &body[wire.Lander]{lander}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/unpack", "unpack-parcel",
		"Put a parcel in the place of a site's files and database; goes back by itself when a check fails that passed before",
		func(ctx context.Context, in *struct {
			SitePath
			Who
			Body wire.Unpack
		}) (*body[wire.Operation], error) {
			operation, err := a.Sending.Unpack(ctx, in.Name, in.Body, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/sites/{name}/unpack/preview", "preview-unpacking", "What a parcel holds that would be unpacked; changes nothing",
		func(_ context.Context, in *struct {
			SitePath
			Body wire.Unpack
		}) (*body[wire.Parcel], error) {
			said, err := a.Sending.Preview(in.Name, in.Body.Parcel)
			return &body[wire.Parcel]{said}, asProblem(err)
		})
}

// sendParcel writes a parcel as it is made. What breaks off is not to be taken for the whole.
func (a *API) sendParcel(c echo.Context, point string) error {
	is := func(name string) bool { yes, _ := strconv.ParseBool(c.QueryParam(name)); return yes }
	ctx := c.Request().Context()
	ready, err := a.Sending.Make(ctx, site.ASCII(c.Param("name")), point, wire.MakeParcel{Zip: is("zip"), Without: c.QueryParams()["without"],
		NoDatabase: is("no_database"), For: c.QueryParam("for")})
	if err != nil {
		writeProblem(c.Response(), asProblem(err))
		return nil
	}
	defer ready.Close()
	head := c.Response().Header()
	head.Set("Content-Type", map[bool]string{true: "application/zip", false: "application/zstd"}[is("zip")])
	head.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", ready.Name))
	head.Set("Vessik-Bytes", strconv.FormatInt(ready.Bytes, 10))
	if err := ready.Write(ctx, c.Response(), nil); err != nil {
		a.Machine.Log.Error("a parcel broke off", "site", c.Param("name"), "reason", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}
