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
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humaecho"
	"github.com/labstack/echo/v4"

	"vessik/internal/change"
	"vessik/internal/command"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/create"
	"vessik/internal/database"
	"vessik/internal/defaults"
	"vessik/internal/engines"
	"vessik/internal/facts"
	"vessik/internal/fleet"
	"vessik/internal/helpers"
	"vessik/internal/hosts"
	"vessik/internal/info"
	"vessik/internal/invite"
	"vessik/internal/lifecycle"
	"vessik/internal/load"
	"vessik/internal/logs"
	"vessik/internal/mailbox"
	"vessik/internal/moving"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/outgoing"
	"vessik/internal/parts"
	"vessik/internal/phperrors"
	"vessik/internal/records"
	"vessik/internal/registry"
	"vessik/internal/remarks"
	"vessik/internal/rename"
	"vessik/internal/restack"
	"vessik/internal/restore"
	"vessik/internal/running"
	"vessik/internal/saving"
	"vessik/internal/screens"
	"vessik/internal/sending"
	"vessik/internal/settings"
	"vessik/internal/shelf"
	"vessik/internal/standing"
	"vessik/internal/trial"
	"vessik/internal/uploads"
	"vessik/internal/users"
	"vessik/internal/walk"
)

// Version of Vessik.
const Version = "0.1.0"

// Rooms are the parts of the service that the API is the face of.
type Rooms struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Records    *records.Records
	Facts      *facts.Facts
	Origins    *origin.Origins
	Changer    *change.Changer
	Create     *create.Feature
	Lifecycle  *lifecycle.Feature
	Restack    *restack.Feature
	Settings   *settings.Feature
	Rename     *rename.Feature
	Load       *load.Feature
	Restore    *restore.Feature
	Sending    *sending.Feature
	Parts      *parts.Feature
	Uploads    *uploads.Feature
	Trial      *trial.Feature
	Stencils   *saving.Feature
	Shelf      *shelf.Feature
	Engines    *engines.Feature
	Hosts      *hosts.Feature
	Defaults   *defaults.Feature
	Users      *users.Feature
	Info       *info.Feature
	Logs       *logs.Feature
	Command    *command.Feature
	Fleet      *fleet.Feature
	Mail       *mailbox.Mailbox
	Outgoing   *outgoing.Feature
	PHPErrors  *phperrors.Feature
	Helpers    *helpers.Feature
	Walk       *walk.Feature
	Moving     *moving.Feature
	Database   *database.Feature
	Invite     *invite.Feature
	Remarks    *remarks.Feature
	Standing   *standing.Feature
	Screens    *screens.Feature
	// Own are the process ids of engines that the service runs for itself, by engine.
	Own func() map[string]int
}

// API serves one service.
type API struct {
	Rooms     // empty where only the document is wanted
	Port      int
	Token     string // what commands show
	Account   string
	PID       int
	StartedAt time.Time
	Console   fs.FS // the built console

	// SessionsFile is where sessions of the console are kept over a restart; empty for nowhere.
	SessionsFile string

	tickets  tickets
	sessions sessions
	// terminals are those of the console.
	terminals terminals
}

// ConsoleURL is where the console lives.
func (a *API) ConsoleURL() string { return site.Gateway{HTTP: a.Port}.URL(site.ConsoleHost, false) }

// Handler builds the routes and the OpenAPI document.
func (a *API) Handler() (http.Handler, *huma.OpenAPI) {
	a.tickets.valid = map[string]ticket{}
	a.sessions.read(a.SessionsFile)
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
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that gives out this document"}}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	document := humaecho.New(router, config)
	a.registerSessions(document)
	for _, routes := range []func(huma.API, *echo.Echo){a.serviceRoutes, a.operationsRoutes, a.sitesRoutes, a.createRoutes, a.enginesRoutes,
		a.cmsRoutes, a.restackRoutes, a.settingsRoutes, a.trialRoutes, a.renameRoutes, a.loadRoutes, a.restoreRoutes,
		a.parcelRoutes, a.movingRoutes, a.inviteRoutes, a.remarksRoutes, a.standingRoutes, a.screensRoutes, a.partsRoutes,
		a.uploadsRoutes, a.usersRoutes, a.infoRoutes, a.logsRoutes, a.commandRoutes, a.fleetRoutes, a.hostsRoutes, a.authorityRoutes,
		a.mailRoutes, a.outgoingRoutes, a.databaseRoutes, a.terminalRoutes, a.phpErrorRoutes,
		a.helperRoutes, a.walkRoutes, a.defaultsRoutes, a.shelfRoutes, a.stencilRoutes, a.dumpRoutes} {
		routes(document, router)
	}
	router.POST(signInPath, a.signIn)
	router.GET("/*", a.console)
	return router, document.OpenAPI()
}

type body[T any] struct{ Body T }

func register[I, O any](api huma.API, method, path, id, summary string, handler func(context.Context, *I) (*O, error),
	edits ...func(*huma.Operation)) {
	operation := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary, MaxBodyBytes: 1 << 20}
	for _, edit := range edits {
		edit(&operation)
	}
	huma.Register(api, operation, handler)
}

var pathParameter = regexp.MustCompile(`\{(\w+)\}`)

// declare describes in the OpenAPI document what is answered outside of register, since it goes as it is.
func declare(api huma.API, method, path, id, summary string, body *huma.RequestBody, answer map[string]*huma.MediaType,
	parameters ...*huma.Param) {
	for _, each := range pathParameter.FindAllStringSubmatch(path, -1) {
		parameters = append(parameters, &huma.Param{Name: each[1], In: "path", Required: true, Schema: &huma.Schema{Type: "string"}})
	}
	if len(parameters) == 0 {
		parameters = append(parameters, &huma.Param{Name: "name", In: "query", Required: true, Schema: &huma.Schema{Type: "string"}})
	}
	api.OpenAPI().AddOperation(&huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary, RequestBody: body,
		Parameters: parameters,
		Responses: map[string]*huma.Response{"200": {Description: "Done", Content: answer},
			"default": {Description: "What is wrong", Content: map[string]*huma.MediaType{"application/problem+json": {
				Schema: api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.ProblemDetails](), true, "ProblemDetails")}}}}})
}

// details declares what operations of some kinds tell of themselves in the OpenAPI document.
func details[T any](api huma.API) {
	api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[T](), true, "")
}

func accepted(o *huma.Operation) { o.DefaultStatus = http.StatusAccepted }

type idPath struct {
	ID string `path:"id" doc:"The operation's id"`
}

type empty struct{}

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
		if !slices.ContainsFunc(problems, func(p site.Problem) bool { return !p.Absent }) {
			details = problem(http.StatusNotFound, "not all of these sites exist; nothing was changed")
		}
		details.Errors = problems
		return details
	case errors.Is(err, records.ErrNotFound), errors.Is(err, registry.ErrNoSite):
		return problem(http.StatusNotFound, err.Error())
	case errors.Is(err, operation.ErrBusy):
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
