package api

import (
	"context"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
	"vessik/internal/logs"
)

// logsRoutes are logs.
func (a *API) logsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/logs", "list-logs", "A site's logs", func(_ context.Context, in *SitePath) (*body[[]wire.Log], error) {
		logs, err := a.Logs.List(in.Name)
		return &body[[]wire.Log]{logs}, asProblem(err)
	})
	describeStream(api, "/sites/{name}/logs/events", "follow-logs",
		"Lines of a site's logs: events `line`, and `end` where they are not followed", reflect.TypeFor[wire.LogLine](),
		&huma.Param{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
		&huma.Param{Name: "log", In: "query", Description: "Names, joined by commas; all where empty", Schema: &huma.Schema{Type: "string"}},
		&huma.Param{Name: "last", In: "query", Schema: &huma.Schema{Type: "integer"}},
		&huma.Param{Name: "follow", In: "query", Schema: &huma.Schema{Type: "boolean"}},
		&huma.Param{Name: "checks", In: "query", Description: "Also requests of Vessik's own checks", Schema: &huma.Schema{Type: "boolean"}})
	router.GET("/api/v1/sites/:name/logs/events", a.followLogs)
}

// followLogs streams a site's logs.
func (a *API) followLogs(c echo.Context) error {
	asked := slices.DeleteFunc(strings.Split(c.QueryParam("log"), ","), func(name string) bool { return name == "" })
	wanted := logs.Wanted{Logs: asked, Last: 50, Follow: c.QueryParam("follow") == "true", Checks: c.QueryParam("checks") == "true"}
	if err := echo.QueryParamsBinder(c).Int("last", &wanted.Last).BindError(); err != nil || wanted.Last < 0 || wanted.Last > 10000 {
		writeProblem(c.Response(), problem(http.StatusBadRequest, "last must be a number from 0 to 10000"))
		return nil
	}
	var out *stream
	send := func(event string, data any) error {
		if out == nil {
			opened := openStream(c.Response())
			out = &opened
		}
		return out.send(event, data)
	}
	if wanted.Follow {
		if _, known := a.Machine.Registry.Site(c.Param("name")); known {
			if err := send("begin", struct{}{}); err != nil { // whoever waits for the first line knows that it is being followed
				return nil
			}
		}
	}
	err := a.Logs.Follow(c.Request().Context(), c.Param("name"), wanted, func(line wire.LogLine) error { return send("line", line) })
	if err != nil && out == nil {
		writeProblem(c.Response(), asProblem(err))
		return nil
	}
	send("end", struct{}{})
	return nil
}
