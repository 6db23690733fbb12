package api

import (
	"context"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
	"vessik/internal/proc"
)

// enginesRoutes are engines.
func (a *API) enginesRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/engines", "list-engines", "Engines that are there, and that could be",
		func(context.Context, *empty) (*body[wire.Engines], error) {
			return &body[wire.Engines]{wire.Engines{Engines: a.engines(), Disk: a.Machine.Store.DiskUse()}}, nil
		})
	register(api, "POST", "/engines/fetch", "fetch-engines", "Fetch engines",
		func(ctx context.Context, in *body[wire.EngineIDs]) (*body[wire.Operation], error) {
			operation, err := a.Engines.Fetch(ctx, in.Body.IDs)
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/engines/drop", "drop-engines", "Drop engines that no site uses",
		func(_ context.Context, in *body[wire.EngineIDs]) (*body[wire.EngineIDs], error) {
			dropped := wire.EngineIDs{IDs: []string{}}
			for _, part := range in.Body.IDs {
				id, err := a.Engines.Drop(part)
				if err != nil {
					return nil, asProblem(err)
				}
				dropped.IDs = append(dropped.IDs, id)
			}
			return &body[wire.EngineIDs]{dropped}, nil
		})
	register(api, "POST", "/engines/adopt", "adopt-engine",
		"Take an engine from a folder of the user's own into the catalogue, once it has been started",
		func(ctx context.Context, in *body[wire.Adopt]) (*body[wire.Engine], error) {
			e, err := a.Engines.Adopt(ctx, in.Body.ID, in.Body.Path)
			if err != nil {
				return nil, asProblem(err)
			}
			return &body[wire.Engine]{wire.Engine{ID: e.ID, Kind: string(e.Kind), Generation: e.Generation, Present: true, Version: e.Version,
				SizeBytes: e.SizeBytes, FetchedAt: &e.FetchedAt,
				Sites: []string{}, Processes: []int{}, From: e.From()}}, nil
		})
	register(api, "GET", "/engines/{id}/extensions", "list-extensions", "What Debian has for a PHP besides the extensions that it brings",
		func(ctx context.Context, in *struct {
			ID string `path:"id"`
		}) (*body[[]wire.Extension], error) {
			all, err := a.Engines.Extensions(ctx, in.ID)
			return &body[[]wire.Extension]{all}, asProblem(err)
		})
	register(api, "POST", "/engines/{id}/extensions", "fetch-extensions", "Fetch extensions of a PHP; sites switch them on in their settings",
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body wire.FetchExtensions
		}) (*body[wire.Operation], error) {
			operation, err := a.Engines.FetchExtensions(ctx, in.ID, in.Body.Names)
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "GET", "/engines/{id}/variables", "get-variables", "Server variables of a database engine, and their history",
		func(ctx context.Context, in *struct {
			ID string `path:"id"`
		}) (*body[wire.VariablesPage], error) {
			page, err := a.Engines.VariablesPage(ctx, in.ID)
			return &body[wire.VariablesPage]{page}, asProblem(err)
		})
	register(api, "PUT", "/engines/{id}/variables", "set-variables",
		"Set server variables of a database engine; they are taken back when a check of a site on it fails that passed before",
		func(ctx context.Context, in *struct {
			ID string `path:"id"`
			Who
			Body wire.Variables
		}) (*body[wire.VariablesPage], error) {
			if err := a.Engines.SetVariables(ctx, in.ID, in.Body.Variables, in.Who.name()); err != nil {
				return nil, asProblem(err)
			}
			page, err := a.Engines.VariablesPage(ctx, in.ID)
			return &body[wire.VariablesPage]{page}, asProblem(err)
		})
}

func (a *API) engines() []wire.Engine {
	running := a.Machine.Running()
	for id, pid := range a.Own() {
		running[id] = append(running[id], pid)
	}
	sites := a.Machine.Registry.All()
	listed := []wire.Engine{}
	for _, row := range a.Machine.Store.Rows() {
		e := wire.Engine{ID: row.ID, Kind: string(row.Kind), Generation: row.Generation, Age: row.Age(), Sites: []string{},
			Processes: append([]int{}, running[row.ID]...), MemoryBytes: memoryOf(running[row.ID]),
			From: "Debian " + row.Generation, Variables: a.Machine.Variables(row.ID)}
		if found, err := a.Machine.Store.Find(row.ID); err == nil {
			e.Present, e.Version, e.SizeBytes, e.FetchedAt, e.From, e.Note = true, found.Version, found.SizeBytes, &found.FetchedAt, found.From(),
				found.Note
		}
		for _, s := range sites {
			if slices.Contains(s.Stack.IDs(), row.ID) || s.CMS.Release() == row.ID {
				e.Sites = append(e.Sites, s.Name)
			}
		}
		listed = append(listed, e)
	}
	return listed
}

// memoryOf sums what the processes of an engine take.
func memoryOf(pids []int) (bytes int64) {
	for _, pid := range pids {
		bytes += proc.Memory(pid)
	}
	return bytes
}
