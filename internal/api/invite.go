package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
)

// InvitationPath names an invitation.
type InvitationPath struct {
	ID string `path:"id"`
}

// inviteRoutes are relays, and the addresses that guests have.
func (a *API) inviteRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/relays", "list-relays", "The relays that this home has an account at",
		func(context.Context, *empty) (*body[[]wire.Relay], error) {
			return &body[[]wire.Relay]{a.Invite.Relays()}, nil
		})
	register(api, "POST", "/relays", "join-relay", "Use a relay at which there is an account",
		func(ctx context.Context, in *body[wire.JoinRelay]) (*body[wire.Relay], error) {
			joined, err := a.Invite.Join(ctx, in.Body)
			return &body[wire.Relay]{joined}, asProblem(err)
		})
	register(api, "DELETE", "/relays/{host}", "leave-relay", "Use a relay no more; what it lends ends",
		func(ctx context.Context, in *struct {
			Host string `path:"host"`
		}) (*struct{}, error) {
			return nil, asProblem(a.Invite.Leave(ctx, in.Host))
		})
	register(api, "GET", "/invitations", "list-invitations", "The invitations that stand, the newest first",
		func(_ context.Context, in *struct {
			Site string `query:"site" doc:"Of this one alone"`
		}) (*body[[]wire.Invitation], error) {
			return &body[[]wire.Invitation]{a.Invite.List(in.Site)}, nil
		})
	register(api, "GET", "/invitations/{id}", "get-invitation", "An invitation, with its password",
		func(_ context.Context, in *InvitationPath) (*body[wire.Invitation], error) {
			one, err := a.Invite.One(in.ID)
			return &body[wire.Invitation]{one}, asProblem(err)
		})
	register(api, "DELETE", "/invitations/{id}", "end-invitation", "End an invitation",
		func(_ context.Context, in *InvitationPath) (*struct{}, error) {
			return nil, asProblem(a.Invite.End(in.ID))
		})
	register(api, "POST", "/sites/{name}/invitations", "invite", "Lend a running site an address for guests",
		func(ctx context.Context, in *struct {
			SitePath
			Who
			Body wire.Invite
		}) (*body[wire.Invitation], error) {
			made, err := a.Invite.Invite(ctx, in.Name, in.Body, in.Who.name())
			return &body[wire.Invitation]{made}, asProblem(err)
		})
	register(api, "GET", "/sites/{name}/guests", "list-guested", "What guests asked of a site, the last first",
		func(_ context.Context, in *struct {
			SitePath
			Most int `query:"most" minimum:"1" maximum:"10000" default:"200"`
		}) (*body[[]wire.Guested], error) {
			all, err := a.Invite.Asked(in.Name, in.Most)
			return &body[[]wire.Guested]{all}, asProblem(err)
		})
	api.OpenAPI().AddOperation(&huma.Operation{Method: "GET", Path: "/api/v1/invitations/{id}/qr.png", OperationID: "get-invitation-code",
		Summary:    "The invitation's address as a QR code",
		Responses:  map[string]*huma.Response{"200": {Description: "A picture", Content: map[string]*huma.MediaType{"image/png": {}}}},
		Parameters: []*huma.Param{{Name: "id", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}})
	router.GET("/api/v1/invitations/:id/qr.png", func(c echo.Context) error {
		picture, err := a.Invite.QR(c.Param("id"))
		if err != nil {
			writeProblem(c.Response(), asProblem(err))
			return nil
		}
		c.Response().Header().Set("Cache-Control", "no-store")
		return c.Blob(http.StatusOK, "image/png", picture)
	})
}
