package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// CopyPath names a standing copy: by its site, or by its key.
type CopyPath struct {
	Name  string `path:"name" doc:"Of its site, or the copy's key"`
	Relay string `query:"relay" doc:"Host of the relay, where it stands at several"`
}

// standingRoutes are the copies that stand at relays.
func (a *API) standingRoutes(api huma.API, _ *echo.Echo) {
	register(api, "GET", "/standing", "list-standing", "The copies that stand at relays, the newest first",
		func(ctx context.Context, in *struct {
			Site    string `query:"site" doc:"Of this one alone"`
			Secrets bool   `query:"secrets" doc:"With passwords"`
		}) (*body[wire.Standing], error) {
			standing, err := a.Standing.List(ctx, in.Site)
			for i := range standing.Copies {
				if !in.Secrets {
					standing.Copies[i].Password = ""
				}
			}
			return &body[wire.Standing]{standing}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/standing", "stand", "Send a copy of a site to a relay, or bring the one that stands there up to date",
		func(ctx context.Context, in *struct {
			SitePath
			Body wire.Stand
		}) (*body[wire.Operation], error) {
			operation, err := a.Standing.Begin(ctx, in.Name, in.Body)
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/standing/home", "bring-home", "Bring home the mail that copies caught",
		func(ctx context.Context, _ *empty) (*struct{}, error) {
			return nil, asProblem(a.Standing.BringHome(ctx))
		})
	register(api, "DELETE", "/standing/{name}", "end-standing", "End a copy; what guests left at it comes home first",
		func(ctx context.Context, in *CopyPath) (*struct{}, error) {
			return nil, asProblem(a.Standing.End(ctx, in.Name, in.Relay))
		})
	register(api, "GET", "/standing/{name}/remarks", "list-copy-remarks", "The remarks on a copy, the oldest first",
		func(ctx context.Context, in *CopyPath) (*body[[]wire.Remark], error) {
			all, err := a.Standing.Remarks(ctx, in.Name, in.Relay)
			return &body[[]wire.Remark]{all}, asProblem(err)
		})
	register(api, "POST", "/standing/{name}/remarks/{id}", "answer-copy-remark", "Answer a remark on a copy, or say where it stands",
		func(ctx context.Context, in *struct {
			CopyPath
			ID   int64 `path:"id"`
			Body wire.ReplyTo
		}) (*body[wire.Remark], error) {
			changed, err := a.Standing.Reply(ctx, in.Name, in.Relay, in.ID, in.Body)
			return &body[wire.Remark]{changed}, asProblem(err)
		})
}
