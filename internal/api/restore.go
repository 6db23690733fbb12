package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// PointPath is a restore point in an address, and who asks.
type PointPath struct {
	SitePath
	Who
	ID string `path:"id" doc:"Of the restore point"`
}

// restoreRoutes are restore points.
func (a *API) restoreRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/restore", "list-restore-points", "A site's restore points, the newest first",
		func(_ context.Context, in *SitePath) (*body[[]wire.RestorePoint], error) {
			points, err := a.Restore.List(in.Name)
			return &body[[]wire.RestorePoint]{points}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/restore", "make-restore-point", "Take a restore point that stays until it is dropped",
		func(ctx context.Context, in *struct {
			SitePath
			Who
			Body wire.MakePoint
		}) (*body[wire.Operation], error) {
			operation, err := a.Restore.Make(ctx, in.Name, in.Body.Note, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "GET", "/sites/{name}/restore/rules", "get-restore-rules",
		"When a site's points are taken by themselves, and how much all take",
		func(_ context.Context, in *SitePath) (*body[wire.RestoreRules], error) {
			rules, err := a.Restore.Rules(in.Name)
			return &body[wire.RestoreRules]{rules}, asProblem(err)
		})
	register(api, "PATCH", "/sites/{name}/restore/rules", "set-restore-rules", "Have a site's points taken by themselves, or no more",
		func(_ context.Context, in *struct {
			SitePath
			Body wire.SetRestoreRules
		}) (*body[wire.RestoreRules], error) {
			rules, err := a.Restore.SetRules(in.Name, in.Body)
			return &body[wire.RestoreRules]{rules}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/restore/verify", "verify-restore-points",
		"Read all that a site's restore points are made of, and tell what is damaged",
		func(ctx context.Context, in *SitePath) (*body[wire.VerifiedPoints], error) {
			verified, err := a.Restore.Verify(ctx, in.Name)
			return &body[wire.VerifiedPoints]{verified}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/restore/{id}/back", "go-back",
		"Lead a site's files and database back to a restore point; one of how it is now is taken first, and taken up again by itself when a "+
			"check fails that passed before",
		func(ctx context.Context, in *struct {
			PointPath
			Body wire.GoBack
		}) (*body[wire.Operation], error) {
			operation, err := a.Restore.GoBack(ctx, in.Name, in.ID, in.Body.Stay, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/sites/{name}/restore/{id}/preview", "preview-going-back",
		"What going back to a restore point would change; changes nothing",
		func(ctx context.Context, in *PointPath) (*body[wire.RestorePreview], error) {
			preview, err := a.Restore.Preview(ctx, in.Name, in.ID)
			return &body[wire.RestorePreview]{preview}, asProblem(err)
		})
	register(api, "DELETE", "/sites/{name}/restore/{id}", "drop-restore-point", "Drop a restore point",
		func(_ context.Context, in *PointPath) (*struct{}, error) {
			return nil, asProblem(a.Restore.Drop(in.Name, in.ID))
		})
}
