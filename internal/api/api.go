// Package api is the service's face: JSON over HTTP for the commands, the console and anybody else, its OpenAPI document, event
// streams, and the console's files. It decides nothing about sites.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humaecho"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/provision"
	"vessik/internal/records"
)

// Version of Vessik.
const Version = "0.1.0"

// API serves one service.
type API struct {
	Provisioner *provision.Provisioner // nil where only the document is wanted
	Port        int
	Token       string // what commands show
	Account     string
	PID         int
	StartedAt   time.Time
	Console     fs.FS // the built console

	tickets tickets
}

// ConsoleURL is where the console lives.
func (a *API) ConsoleURL() string { return site.URL(site.ConsoleHost, a.Port) }

// Handler builds the routes and the OpenAPI document.
func (a *API) Handler() (http.Handler, *huma.OpenAPI) {
	a.tickets.valid = map[string]time.Time{}
	huma.NewError = func(status int, message string, faults ...error) huma.StatusError {
		return problem(status, message, faults...)
	}
	router := echo.New()
	router.HTTPErrorHandler = func(err error, c echo.Context) {
		var fault *echo.HTTPError
		if errors.As(err, &fault) {
			writeProblem(c.Response(), problem(fault.Code, fmt.Sprint(fault.Message)))
			return
		}
		writeProblem(c.Response(), problem(http.StatusInternalServerError, err.Error()))
	}
	router.Use(a.guard)
	config := huma.DefaultConfig("Vessik", Version)
	config.CreateHooks, config.DocsPath, config.SchemasPath, config.OpenAPIPath = nil, "", "", "/api/v1/openapi"
	config.Info.Description = "Provisions many local CMS sites side by side and verifies that each of them answers."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	document := humaecho.New(router, config)
	a.register(document)
	a.registerStack(document)
	a.registerKits(document)
	a.stencils(router, document)
	a.shelf(router, document)
	a.events(router, document.OpenAPI())
	a.logs(router)
	router.GET("/sign-in", a.signIn)
	router.GET("/*", a.console)
	return router, document.OpenAPI()
}

type body[T any] struct{ Body T }

func register[I, O any](api huma.API, method, path, id, summary string, handler func(context.Context, *I) (*O, error), edits ...func(*huma.Operation)) {
	operation := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary, MaxBodyBytes: 1 << 20}
	for _, edit := range edits {
		edit(&operation)
	}
	huma.Register(api, operation, handler)
}

func accepted(o *huma.Operation) { o.DefaultStatus = http.StatusAccepted }

type idPath struct {
	ID string `path:"id" doc:"The operation's id"`
}

type empty struct{}

func (a *API) register(api huma.API) {
	p := a.Provisioner
	register(api, "GET", "/status", "status", "The service itself", func(context.Context, *empty) (*body[wire.Status], error) {
		return &body[wire.Status]{a.status()}, nil
	})
	register(api, "GET", "/sites", "list-sites", "All sites", func(_ context.Context, in *struct {
		Secrets bool `query:"secrets" doc:"With passwords"`
		Trials  bool `query:"trials" doc:"With the temporary copies of trials that are going on"`
	}) (*body[[]wire.Site], error) {
		visible := slices.DeleteFunc(p.Sites(), func(s site.Site) bool { return s.TrialOf != "" && !in.Trials })
		return &body[[]wire.Site]{a.sites(visible, in.Secrets)}, nil
	})
	register(api, "GET", "/sites/{name}", "get-site", "One site", func(_ context.Context, in *struct {
		Name    string `path:"name" doc:"The site's name"`
		Secrets bool   `query:"secrets" doc:"With passwords"`
	}) (*body[wire.Site], error) {
		s, ok := p.Site(in.Name)
		if !ok {
			return nil, noSuchSite(in.Name)
		}
		return &body[wire.Site]{a.sites([]site.Site{s}, in.Secrets)[0]}, nil
	})
	register(api, "POST", "/sites", "new-sites", "Make sites: all that are named, or none", func(ctx context.Context, in *body[wire.NewSites]) (*body[plan.Operation], error) {
		operation, err := p.New(ctx, in.Body.Sites)
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "POST", "/sites/derive", "derive-sites", "What requests would become, and what is wrong with them; changes nothing",
		func(_ context.Context, in *body[wire.NewSites]) (*body[wire.Derived], error) {
			sites, problems := p.Derive(in.Body.Sites)
			derived := wire.Derived{Sites: a.sites(sites, false), Plans: []wire.Planned{}, Problems: problems}
			if len(problems) == 0 {
				for _, s := range sites {
					derived.Plans = append(derived.Plans, p.Planned(s))
				}
			}
			return &body[wire.Derived]{derived}, nil
		})
	for _, kind := range []plan.Kind{plan.Start, plan.Stop, plan.Verify, plan.Retire} {
		summary := map[plan.Kind]string{plan.Start: "Start sites", plan.Stop: "Stop sites", plan.Verify: "Verify sites", plan.Retire: "Retire sites: remove all that belongs to them"}[kind]
		register(api, "POST", "/sites/"+string(kind), string(kind)+"-sites", summary, func(ctx context.Context, in *body[wire.Names]) (*body[plan.Operation], error) {
			names := in.Body.Names
			if in.Body.All {
				names = nil
				for _, s := range p.Sites() {
					if s.TrialOf == "" {
						names = append(names, s.Name)
					}
				}
			} else if len(names) == 0 {
				return nil, asProblem(site.Problems{{Field: "names", Message: "no site is named", Remedy: "name sites, or ask for all"}})
			}
			operation, err := p.Do(ctx, kind, names, in.Body.KeepFiles)
			return &body[plan.Operation]{operation}, asProblem(err)
		}, accepted)
	}
	register(api, "GET", "/reports", "latest-report", "The newest report of every site", func(ctx context.Context, _ *empty) (*body[check.Report], error) {
		reports, err := p.Records().LatestReports(ctx)
		sites := []check.SiteReport{}
		for _, s := range p.Sites() {
			if report, ok := reports[s.Name]; ok {
				sites = append(sites, report)
			}
		}
		return &body[check.Report]{check.Together(sites)}, asProblem(err)
	})
	register(api, "GET", "/operations", "list-operations", "Operations, the newest first", func(ctx context.Context, in *struct {
		Limit int `query:"limit" default:"50" minimum:"1" maximum:"1000"`
	}) (*body[[]plan.Operation], error) {
		operations, err := p.Records().Operations(ctx, in.Limit)
		return &body[[]plan.Operation]{operations}, asProblem(err)
	})
	register(api, "GET", "/operations/{id}", "get-operation", "One operation", func(ctx context.Context, in *idPath) (*body[plan.Watched], error) {
		operation, _, err := p.Watch(ctx, in.ID)
		return &body[plan.Watched]{operation}, asProblem(err)
	})
	register(api, "POST", "/operations/{id}/cancel", "cancel-operation", "Cancel an operation; what it has begun is taken back", func(_ context.Context, in *idPath) (*struct{}, error) {
		return nil, asProblem(p.Cancel(in.ID))
	})
	register(api, "POST", "/links", "new-link", "A one-time link that signs a browser in to the console", func(context.Context, *empty) (*body[wire.Link], error) {
		ticket, expires := a.tickets.issue()
		return &body[wire.Link]{wire.Link{URL: a.ConsoleURL() + "sign-in?ticket=" + ticket, ExpiresAt: expires}}, nil
	})
}

func (a *API) status() wire.Status {
	p := a.Provisioner
	s := wire.Status{Version: Version, Home: p.Home.Dir, EngineStore: p.Store.Dir, Account: a.Account, PID: a.PID, StartedAt: a.StartedAt, API: fmt.Sprintf("http://127.0.0.1:%d", a.Port),
		Console: a.ConsoleURL(), GatewayPort: p.GatewayPort(), Sites: map[string]int{}, Settling: p.Settling(),
		Confinement: wire.Confinement{LandlockABI: p.Abilities.Landlock, Files: p.Abilities.Files, Signals: p.Abilities.Signals, Sockets: p.Abilities.Sockets, Ports: p.Abilities.Ports}}
	for _, each := range p.Sites() {
		s.Sites[string(each.State)]++
	}
	return s
}

// sites shows sites, with their passwords only if asked for.
func (a *API) sites(sites []site.Site, secrets bool) []wire.Site {
	p := a.Provisioner
	versions := map[string]string{}
	for _, e := range p.Store.List() {
		versions[e.ID] = e.Version
	}
	part := func(id string) wire.StackEngine { return wire.StackEngine{Engine: id, Version: versions[id]} }
	shown := make([]wire.Site, len(sites))
	for i, s := range sites {
		shown[i] = wire.Site{Name: s.Name, Title: s.Title, State: s.State, Reason: s.Reason, Notice: s.Notice, URL: s.URL(p.GatewayPort()), Domain: s.Domain, Folder: s.Folder, DocumentRoot: s.DocumentRoot(), Prefix: p.Prefix(s),
			Kit: s.Kit, Stack: wire.FullStack{PHP: part(s.Stack.PHP), Web: part(s.Stack.Web), Database: part(s.Stack.Database)}, Port: s.Port, Resting: p.Resting(s.Name), TrialOf: s.TrialOf, Group: s.Group, Note: s.Note, Top: s.Top, Origin: s.Origin,
			Language: s.Language, TimeZone: s.TimeZone, Offline: s.Settings.Offline, SearchEngines: s.Visible, Touches: s.Touches, Domains: s.Domains, Forwards: s.Forwards, Network: s.Network, Plugins: s.Plugins, Themes: s.Themes,
			Database: wire.Database{Host: "127.0.0.1", Port: p.DatabasePort(s.Stack.Database), Name: s.Database.Name, User: s.Database.User},
			Admin:    wire.Admin{User: s.Admin.User, Email: s.Admin.Email}, CreatedAt: s.CreatedAt}
		if k := p.Kits()[s.Kit.Name]; k != nil {
			shown[i].KitTitle = k.Title
			if k.SignIn.Address != "" {
				shown[i].SignIn = shown[i].URL + k.SignIn.Address
			}
		}
		if read := site.Unicode(s.Domain); read != s.Domain {
			shown[i].DomainUnicode = read
		}
		for _, sub := range s.SubSites {
			shown[i].SubSites = append(shown[i].SubSites, s.SubURL(sub, p.GatewayPort()))
		}
		if secrets {
			shown[i].Database.Password, shown[i].Admin.Password = s.Database.Password, s.Admin.Password
		}
	}
	return shown
}

func (a *API) engines() []wire.Engine {
	running := a.Provisioner.Running()
	sites := a.Provisioner.Sites()
	listed := []wire.Engine{}
	for _, row := range a.Provisioner.Store.Rows() {
		e := wire.Engine{ID: row.ID, Kind: string(row.Kind), Generation: row.Generation, Age: row.Age(), Sites: []string{}, Processes: append([]int{}, running[row.ID]...), MemoryBytes: memoryOf(running[row.ID]),
			From: "Debian " + row.Generation, Variables: a.Provisioner.Variables(row.ID)}
		if found, err := a.Provisioner.Store.Find(row.ID); err == nil {
			e.Present, e.Version, e.SizeBytes, e.FetchedAt, e.From, e.Note = true, found.Version, found.SizeBytes, &found.FetchedAt, found.From(), found.Note
		}
		for _, s := range sites {
			if slices.Contains(s.Stack.IDs(), row.ID) || s.Kit.Release() == row.ID {
				e.Sites = append(e.Sites, s.Name)
			}
		}
		listed = append(listed, e)
	}
	return listed
}

// events are the two streams of server-sent events (https://html.spec.whatwg.org/multipage/server-sent-events.html).
func (a *API) events(router *echo.Echo, document *huma.OpenAPI) {
	describe := func(path, id, summary string, parameters ...*huma.Param) {
		document.AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1" + path, OperationID: id, Summary: summary, Parameters: parameters,
			Responses: map[string]*huma.Response{"200": {Description: "Events", Content: map[string]*huma.MediaType{"text/event-stream": {}}}}})
	}
	describe("/operations/{id}/events", "watch-operation", "An operation as it goes: events `operation` with the whole operation each time, the last one `end`",
		&huma.Param{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}})
	describe("/sites/{name}/logs/events", "follow-logs", "Lines of a site's logs: events `line`, and `end` where they are not followed",
		&huma.Param{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}, &huma.Param{Name: "log", In: "query", Description: "Names, joined by commas; all where empty", Schema: &huma.Schema{Type: "string"}},
		&huma.Param{Name: "last", In: "query", Schema: &huma.Schema{Type: "integer"}}, &huma.Param{Name: "follow", In: "query", Schema: &huma.Schema{Type: "boolean"}})
	describe("/events", "watch-fleet", "An event `change` whenever any site or operation has changed")
	router.GET("/api/v1/operations/:id/events", func(c echo.Context) error {
		ctx := c.Request().Context()
		watched, changed, err := a.Provisioner.Watch(ctx, c.Param("id"))
		if err != nil {
			writeProblem(c.Response(), asProblem(err))
			return nil
		}
		stream := openStream(c.Response())
		for changed != nil {
			if err := stream.send("operation", watched); err != nil {
				return nil
			}
			select {
			case <-ctx.Done():
				return nil
			case <-changed:
			case <-time.After(20 * time.Second): // keeps the connection known to be alive
			}
			time.Sleep(25 * time.Millisecond) // changes that come together are told together
			if watched, changed, err = a.Provisioner.Watch(ctx, c.Param("id")); err != nil {
				return nil
			}
		}
		stream.send("end", watched)
		return nil
	})
	document.AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1/operations/{id}/pictures/{name}", OperationID: "get-picture", Summary: "The picture that a trial took of a copy, or of the site itself",
		Responses: map[string]*huma.Response{"200": {Description: "A picture", Content: map[string]*huma.MediaType{"image/jpeg": {}}}}, Parameters: []*huma.Param{{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}, {Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}})
	router.GET("/api/v1/operations/:id/pictures/:name", func(c echo.Context) error {
		o, err := a.Provisioner.Records().Operation(c.Request().Context(), c.Param("id"))
		if name := c.Param("name"); err != nil || o.Trial == nil || name != o.Trial.Site && !slices.ContainsFunc(o.Trial.Cells, func(cell plan.Cell) bool { return cell.Copy == name }) {
			writeProblem(c.Response(), problem(http.StatusNotFound, "there is no such picture"))
			return nil
		}
		c.Response().Header().Set("Cache-Control", "private, max-age=60")
		return c.File(a.Provisioner.PictureFile(o.Trial.Site, o.ID, c.Param("name")))
	})
	router.GET("/api/v1/events", func(c echo.Context) error {
		stream := openStream(c.Response())
		for {
			changed := a.Provisioner.Changed()
			if err := stream.send("change", struct{}{}); err != nil {
				return nil
			}
			select {
			case <-c.Request().Context().Done():
				return nil
			case <-changed:
				time.Sleep(100 * time.Millisecond)
			case <-time.After(20 * time.Second):
			}
		}
	})
}

type stream struct{ response *echo.Response }

func openStream(response *echo.Response) stream {
	response.Header().Set("Content-Type", "text/event-stream")
	response.Header().Set("Cache-Control", "no-store")
	response.WriteHeader(http.StatusOK)
	response.Flush()
	return stream{response}
}

func (s stream) send(event string, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(s.response, "event: %s\ndata: %s\n\n", event, text)
	s.response.Flush()
	return err
}

func noSuchSite(name string) *wire.ProblemDetails {
	return problem(http.StatusNotFound, fmt.Sprintf("there is no site %q; see the names with: vessik sites", name))
}

// asProblem turns any error into problem details; it is the one place where that is decided.
func asProblem(err error) error {
	var problems site.Problems
	var already *wire.ProblemDetails
	switch {
	case err == nil:
		return nil
	case errors.As(err, &already):
		return already
	case errors.As(err, &problems):
		details := problem(http.StatusUnprocessableEntity, "the request cannot be carried out; nothing was changed")
		if !slices.ContainsFunc(problems, func(p site.Problem) bool { return p.Message != "there is no such site" }) {
			details = problem(http.StatusNotFound, "not all of these sites exist; nothing was changed")
		}
		details.Errors = problems
		return details
	case errors.Is(err, records.ErrNotFound):
		return problem(http.StatusNotFound, err.Error())
	case errors.Is(err, provision.ErrBusy):
		return problem(http.StatusConflict, err.Error())
	}
	return problem(http.StatusInternalServerError, err.Error())
}

func problem(status int, detail string, faults ...error) *wire.ProblemDetails {
	p := &wire.ProblemDetails{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: detail}
	for _, fault := range faults {
		entry := site.Problem{Field: "body", Message: fault.Error(), Remedy: "see the OpenAPI document at /api/v1/openapi.json"}
		var located *huma.ErrorDetail
		if errors.As(fault, &located) {
			entry.Field, entry.Message = strings.TrimPrefix(located.Location, "body."), located.Message
		}
		p.Errors = append(p.Errors, entry)
	}
	return p
}

func writeProblem(w http.ResponseWriter, fault error) {
	var details *wire.ProblemDetails
	if !errors.As(fault, &details) {
		details = problem(http.StatusInternalServerError, fault.Error())
	}
	w.Header().Set("Content-Type", details.ContentType(""))
	w.WriteHeader(details.Status)
	json.NewEncoder(w).Encode(details)
}
