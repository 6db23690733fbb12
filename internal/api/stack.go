package api

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/plan"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/proc"
	"vessik/internal/provision"
	"vessik/internal/survey"
)

type SitePath struct {
	Name string `path:"name" doc:"The site's name"`
}

// Who is the person who asks, as their program says.
type Who struct {
	Who string `header:"X-Vessik-User" doc:"Who asks, for the history; the console where empty" maxLength:"100"`
}

func (w Who) name() string {
	if w.Who == "" {
		return "console"
	}
	return w.Who
}

// registerStack adds what concerns engines, stacks and settings.
func (a *API) registerStack(api huma.API) {
	p := a.Provisioner
	register(api, "GET", "/engines", "list-engines", "Engines that are there, and that could be", func(context.Context, *empty) (*body[wire.Engines], error) {
		return &body[wire.Engines]{wire.Engines{Engines: a.engines(), Disk: p.Store.DiskUse()}}, nil
	})
	register(api, "POST", "/engines/fetch", "fetch-engines", "Fetch engines", func(ctx context.Context, in *body[wire.EngineIDs]) (*body[plan.Operation], error) {
		operation, err := p.FetchEngines(ctx, in.Body.IDs)
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "POST", "/engines/drop", "drop-engines", "Remove engines that no site uses", func(_ context.Context, in *body[wire.EngineIDs]) (*body[wire.EngineIDs], error) {
		dropped := wire.EngineIDs{IDs: []string{}}
		for _, part := range in.Body.IDs {
			id, err := p.DropEngine(part)
			if err != nil {
				return nil, asProblem(err)
			}
			dropped.IDs = append(dropped.IDs, id)
		}
		return &body[wire.EngineIDs]{dropped}, nil
	})
	register(api, "POST", "/engines/adopt", "adopt-engine", "Take an engine from a folder of the user's own into the catalogue, once it has been started", func(ctx context.Context, in *body[wire.Adopt]) (*body[wire.Engine], error) {
		e, err := p.AdoptEngine(ctx, in.Body.ID, in.Body.Path)
		if err != nil {
			return nil, asProblem(err)
		}
		return &body[wire.Engine]{wire.Engine{ID: e.ID, Kind: string(e.Kind), Generation: e.Generation, Present: true, Version: e.Version, SizeBytes: e.SizeBytes, FetchedAt: &e.FetchedAt,
			Sites: []string{}, Processes: []int{}, From: e.From()}}, nil
	})
	register(api, "GET", "/engines/{id}/variables", "get-variables", "Server variables of a database engine, and their history", func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*body[wire.VariablesPage], error) {
		page, err := p.VariablesPage(ctx, in.ID)
		return &body[wire.VariablesPage]{page}, asProblem(err)
	})
	register(api, "PUT", "/engines/{id}/variables", "set-variables", "Set server variables of a database engine; they are taken back when a site on it is worse off", func(ctx context.Context, in *struct {
		ID string `path:"id"`
		Who
		Body wire.Variables
	}) (*body[wire.VariablesPage], error) {
		if err := p.SetVariables(ctx, in.ID, in.Body.Variables, in.Who.name()); err != nil {
			return nil, asProblem(err)
		}
		page, err := p.VariablesPage(ctx, in.ID)
		return &body[wire.VariablesPage]{page}, asProblem(err)
	})
	register(api, "GET", "/survey", "survey", "The machine as Vessik finds it, with verdicts and remedies", func(ctx context.Context, _ *empty) (*body[survey.Survey], error) {
		return &body[survey.Survey]{survey.Look(ctx, p.Home)}, nil
	})
	restack := func(in wire.Restack, by Who) provision.Restack {
		return provision.Restack{PHP: in.PHP, Web: in.Web, Database: in.Database, Keep: in.Keep, Who: by.name()}
	}
	register(api, "POST", "/sites/{name}/restack/preview", "preview-restack", "What a change of stack would do; changes nothing", func(ctx context.Context, in *struct {
		SitePath
		Body wire.Restack
	}) (*body[wire.Preview], error) {
		preview, err := p.PreviewRestack(ctx, in.Name, restack(in.Body, Who{}))
		return &body[wire.Preview]{preview}, asProblem(err)
	})
	register(api, "POST", "/sites/{name}/restack", "restack-site", "Change a site's stack; it goes back by itself when the site is worse off", func(ctx context.Context, in *struct {
		SitePath
		Who
		Body wire.Restack
	}) (*body[plan.Operation], error) {
		operation, err := p.Restack(ctx, in.Name, restack(in.Body, in.Who))
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "GET", "/sites/{name}/settings", "get-settings", "Settings of a site's engines, what could be set, and their history", func(ctx context.Context, in *SitePath) (*body[wire.SettingsPage], error) {
		page, err := a.settings(ctx, in.Name)
		return &body[wire.SettingsPage]{page}, asProblem(err)
	})
	register(api, "PUT", "/sites/{name}/settings", "adjust-site", "Change settings of a site's engines; they are taken back when the site is worse off", func(ctx context.Context, in *struct {
		SitePath
		Who
		Body wire.Adjust
	}) (*body[plan.Operation], error) {
		operation, err := p.Adjust(ctx, in.Name, in.Body.Settings, in.Body.Keep, in.Who.name())
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "POST", "/sites/{name}/trial", "try-site", "Try copies of a site on many stacks", func(ctx context.Context, in *struct {
		SitePath
		Body wire.TrialRequest
	}) (*body[plan.Operation], error) {
		b := in.Body
		operation, err := p.StartTrial(ctx, in.Name, provision.Trial{PHP: b.PHP, Web: b.Web, Database: b.Database, Visit: b.Visit, Keep: b.Keep, NoPicture: b.NoPicture})
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "GET", "/sites/{name}/info", "get-info", "What a site runs on and every setting in effect, as told by a request that it served", func(ctx context.Context, in *SitePath) (*body[wire.Info], error) {
		info, err := p.Info(ctx, in.Name)
		return &body[wire.Info]{info}, asProblem(err)
	})
	register(api, "GET", "/sites/{name}/environment", "get-environment", "What a command needs to run as one of the site's own", func(_ context.Context, in *SitePath) (*body[wire.Environment], error) {
		environment, err := p.Environment(in.Name)
		return &body[wire.Environment]{environment}, asProblem(err)
	})
	register(api, "GET", "/sites/{name}/logs", "list-logs", "A site's logs", func(_ context.Context, in *SitePath) (*body[[]wire.Log], error) {
		logs, err := p.Logs(in.Name)
		return &body[[]wire.Log]{logs}, asProblem(err)
	})
}

func (a *API) settings(ctx context.Context, name string) (wire.SettingsPage, error) {
	p := a.Provisioner
	s, ok := p.Site(name)
	if !ok {
		return wire.SettingsPage{}, noSuchSite(name)
	}
	page := wire.SettingsPage{Settings: s.Settings, Usual: map[string]string{}, Extensions: []string{}, Directives: []string{}}
	for _, d := range (render.PHP{}).Directives() {
		page.Usual[d.Name] = d.Value
	}
	if e, err := p.Store.Find(s.Stack.PHP); err == nil {
		if page.Extensions, err = engine.Switchable(e); err != nil {
			return page, err
		}
		if page.Directives, err = p.Directives(ctx, e); err != nil {
			return page, err
		}
		page.Xdebug = engine.HasXdebug(e)
	}
	history, err := p.Records().SettingsHistory(ctx, name)
	for i := range history {
		before := site.Settings{}
		if i+1 < len(history) {
			before = history[i+1].Settings
		}
		history[i].Changed = append([]string{}, before.Differences(history[i].Settings)...)
	}
	page.History = history
	return page, err
}

// memoryOf sums what the processes of an engine take.
func memoryOf(pids []int) (bytes int64) {
	for _, pid := range pids {
		bytes += proc.Memory(pid)
	}
	return bytes
}

// logs streams a site's logs.
func (a *API) logs(router *echo.Echo) {
	router.GET("/api/v1/sites/:name/logs/events", func(c echo.Context) error {
		asked := slices.DeleteFunc(strings.Split(c.QueryParam("log"), ","), func(name string) bool { return name == "" })
		last, follow := 50, c.QueryParam("follow") == "true"
		if err := echo.QueryParamsBinder(c).Int("last", &last).BindError(); err != nil || last < 0 || last > 10000 {
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
		if follow {
			if _, known := a.Provisioner.Site(c.Param("name")); known {
				if err := send("begin", struct{}{}); err != nil { // whoever waits for the first line knows that it is being followed
					return nil
				}
			}
		}
		err := a.Provisioner.FollowLog(c.Request().Context(), c.Param("name"), asked, last, follow, func(line wire.LogLine) error { return send("line", line) })
		if err != nil && out == nil {
			writeProblem(c.Response(), asProblem(err))
			return nil
		}
		send("end", struct{}{})
		return nil
	})
}
