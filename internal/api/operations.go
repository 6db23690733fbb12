package api

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"reflect"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// operationsRoutes are operations, and how they are watched.
func (a *API) operationsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/operations", "list-operations", "Operations, the newest first", func(ctx context.Context, in *struct {
		Limit int `query:"limit" default:"50" minimum:"1" maximum:"1000"`
	}) (*body[[]wire.Operation], error) {
		operations, err := a.Operations.Operations(ctx, in.Limit)
		seen := make([]wire.Operation, len(operations))
		for i, operation := range operations {
			seen[i] = wire.OperationOf(operation)
		}
		return &body[[]wire.Operation]{seen}, asProblem(err)
	})
	register(api, "GET", "/operations/{id}", "get-operation", "One operation",
		func(ctx context.Context, in *idPath) (*body[wire.Watched], error) {
			operation, _, err := a.Operations.Watch(ctx, in.ID, 0)
			return &body[wire.Watched]{wire.WatchedOf(operation)}, asProblem(err)
		})
	register(api, "POST", "/operations/{id}/cancel", "cancel-operation", "Cancel an operation; what it has begun is taken back",
		func(_ context.Context, in *idPath) (*struct{}, error) {
			return nil, asProblem(a.Operations.Cancel(in.ID))
		})
	describeStream(api, "/operations/{id}/events", "watch-operation",
		"An operation as it goes: an event `operation` with all of it, then events "+
			"`parts` with the parts that have changed and, where they have, the details; the last one is `end`", reflect.TypeFor[wire.Watched](),
		&huma.Param{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}})
	describeStream(api, "/events", "watch-fleet", "What changes: events `sites` with the sites that have changed and the names that are "+
		"gone, `operation` "+
		"with one that was begun or is over, `all` where everything is to be asked for again", reflect.TypeFor[wire.SiteChanges]())
	router.GET("/api/v1/operations/:id/events", a.watchOperation)
	router.GET("/api/v1/events", a.watchFleet)
}

// describeStream declares a stream of events in the OpenAPI document, with what they carry.
func describeStream(api huma.API, path, id, summary string, carries reflect.Type, parameters ...*huma.Param) {
	document := api.OpenAPI()
	document.AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1" + path, OperationID: id, Summary: summary, Parameters: parameters,
		Responses: map[string]*huma.Response{"200": {Description: "Events", Content: map[string]*huma.MediaType{
			"text/event-stream": {Schema: document.Components.Schemas.Schema(carries, true, "")}}}}})
}

const (
	keepAlive      = 20 * time.Second       // after so long without a change something is sent, so that the connection is known to be alive
	partsTogether  = 25 * time.Millisecond  // changes of an operation that come together are told together
	changeTogether = 100 * time.Millisecond // and so are those of the fleet
)

// waitFor returns at a change, or when something is to be sent all the same; ok is false at the end of ctx.
func waitFor(ctx context.Context, changed <-chan struct{}, together time.Duration) (ok bool) {
	alive := time.NewTimer(keepAlive)
	defer alive.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-alive.C:
		return true
	case <-changed:
	}
	gather := time.NewTimer(together)
	defer gather.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-gather.C:
		return true
	}
}

func (a *API) watchOperation(c echo.Context) error {
	ctx := c.Request().Context()
	watched, changed, err := a.Operations.Watch(ctx, c.Param("id"), 0)
	if err != nil {
		writeProblem(c.Response(), asProblem(err))
		return nil
	}
	stream, event := openStream(c.Response()), "operation"
	for changed != nil {
		if err := stream.send(event, wire.WatchedOf(watched)); err != nil || !waitFor(ctx, changed, partsTogether) {
			return nil
		}
		event = "parts"
		if watched, changed, err = a.Operations.Watch(ctx, c.Param("id"), watched.Version); err != nil {
			return nil
		}
	}
	stream.send("end", wire.WatchedOf(watched))
	return nil
}

func (a *API) watchFleet(c echo.Context) error {
	ctx := c.Request().Context()
	_, _, sites := a.Machine.Registry.Since(math.MaxUint64)
	_, operations, _ := a.Operations.Since(math.MaxUint64)
	stream := openStream(c.Response())
	if stream.send("all", struct{}{}) != nil {
		return nil
	}
	for {
		changed := a.Machine.Registry.Changed()
		now, gone, version := a.Machine.Registry.Since(sites)
		sites = version
		ids, newest, known := a.Operations.Since(operations)
		operations = newest
		now = slices.DeleteFunc(now, func(s site.Site) bool { return s.TrialOf != "" })
		var err error
		switch {
		case !known:
			err = stream.send("all", struct{}{})
		case len(now)+len(gone) > 0:
			err = stream.send("sites", wire.SiteChanges{Changed: a.sites(now, false), Gone: append([]string{}, gone...)})
		case len(ids) == 0:
			err = stream.send("alive", struct{}{})
		}
		for _, id := range ids {
			if watched, _, missing := a.Operations.Watch(ctx, id, 0); missing == nil && err == nil {
				err = stream.send("operation", wire.WatchedOf(watched))
			}
		}
		if err != nil || !waitFor(ctx, changed, changeTogether) {
			return nil
		}
	}
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
