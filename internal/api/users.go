package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// usersRoutes are the users of sites.
func (a *API) usersRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/users", "list-users", "A site's own users, administrators first",
		func(ctx context.Context, in *SitePath) (*body[[]wire.User], error) {
			users, err := a.Users.Users(ctx, in.Name)
			return &body[[]wire.User]{users}, asProblem(err)
		})
	register(api, "POST", "/sites/{name}/tickets", "draw-ticket", "Draw a one-time address that signs a user in to the site",
		func(ctx context.Context, in *struct {
			SitePath
			Body wire.AskTicket
		}) (*body[wire.Ticket], error) {
			address, user, until, err := a.Users.Ticket(ctx, in.Name, in.Body.As)
			return &body[wire.Ticket]{wire.Ticket{URL: address, User: user, ExpiresAt: until.UTC().Truncate(time.Second)}}, asProblem(err)
		})
	register(api, "PUT", "/sites/{name}/users/{user}/password", "set-password", "Set the password of one of a site's users",
		func(ctx context.Context, in *struct {
			SitePath
			User string `path:"user" doc:"Login"`
			Body wire.NewPassword
		}) (*body[wire.NewPassword], error) {
			password, err := a.Users.SetPassword(ctx, in.Name, in.User, in.Body.Password, in.Body.ForceWeak)
			return &body[wire.NewPassword]{wire.NewPassword{Password: password}}, asProblem(err)
		})
	register(api, "PUT", "/sites/{name}/administrator", "replace-administrator",
		"Put the site's administrator in the place of one of its users, with everything that this one wrote",
		func(ctx context.Context, in *struct {
			SitePath
			Body wire.NewAdministrator
		}) (*body[site.Administrator], error) {
			admin, err := a.Users.ReplaceAdministrator(ctx, in.Name, in.Body)
			return &body[site.Administrator]{site.Administrator{Name: admin.Name, Mail: admin.Mail, Password: admin.Password}}, asProblem(err)
		})
}
