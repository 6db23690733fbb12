package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// AccountPath names a hosting account.
type AccountPath struct {
	Name string `path:"name"`
}

// movingRoutes are hosting accounts, and what comes of them and goes to them.
func (a *API) movingRoutes(api huma.API, router *echo.Echo) {
	details[wire.Pushed](api)
	a.accountPictureRoutes(api, router)
	a.hostSignInRoutes(api)
	register(api, "GET", "/accounts", "list-accounts", "All hosting accounts",
		func(ctx context.Context, _ *empty) (*body[[]wire.Account], error) {
			all, err := a.Moving.Accounts(ctx)
			return &body[[]wire.Account]{all}, asProblem(err)
		})
	register(api, "POST", "/accounts", "add-account", "Add a hosting account; nothing is asked of the host",
		func(ctx context.Context, in *body[wire.AddAccount]) (*body[wire.Account], error) {
			added, err := a.Moving.Add(ctx, in.Body)
			return &body[wire.Account]{added}, asProblem(err)
		})
	register(api, "DELETE", "/accounts/{name}", "drop-account", "Forget a hosting account, and what was fetched of it; what is at the "+
		"host stays",
		func(ctx context.Context, in *AccountPath) (*struct{}, error) {
			return nil, asProblem(a.Moving.Drop(ctx, in.Name))
		})
	register(api, "DELETE", "/accounts/{name}/host-key", "unpin-account", "Forget which key the host showed: the next one is pinned",
		func(ctx context.Context, in *AccountPath) (*struct{}, error) {
			return nil, asProblem(a.Moving.Unpin(ctx, in.Name))
		})
	register(api, "POST", "/accounts/{name}/check", "check-account", "Look at a hosting account, from the first connection to its database",
		func(ctx context.Context, in *AccountPath) (*body[wire.HostChecks], error) {
			found, err := a.Moving.Check(ctx, in.Name)
			return &body[wire.HostChecks]{found}, asProblem(err)
		})
	register(api, "POST", "/accounts/{name}/fetch", "fetch-account", "Bring here what differs of the site at a hosting account",
		func(ctx context.Context, in *struct {
			AccountPath
			Body wire.Fetch
		}) (*body[wire.Operation], error) {
			operation, err := a.Moving.Begin(ctx, in.Name, in.Body)
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/accounts/{name}/pull", "pull-account", "Make what was fetched of a hosting account a site, or put it in the "+
		"place of one",
		func(ctx context.Context, in *struct {
			AccountPath
			Who
			Body wire.Pull
		}) (*body[wire.Operation], error) {
			operation, err := a.pull(ctx, in.Name, in.Body, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/accounts/{name}/push", "push-account",
		"Bring to a hosting account what was changed of a site; goes back by itself when the live site answers worse",
		func(ctx context.Context, in *struct {
			AccountPath
			Body wire.Push
		}) (*body[wire.Operation], error) {
			operation, err := a.Moving.BeginPush(ctx, in.Name, in.Body)
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
	register(api, "POST", "/accounts/{name}/push/back", "push-back", "Take the last push to a hosting account back",
		func(ctx context.Context, in *struct {
			AccountPath
			Body wire.PushBack
		}) (*body[wire.Operation], error) {
			operation, err := a.Moving.BeginBack(ctx, in.Name, in.Body.Overwrite)
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
}

// accountPictureRoutes are pictures of live sites, and of what was made of them here.
func (a *API) accountPictureRoutes(api huma.API, router *echo.Echo) {
	register(api, "POST", "/accounts/{name}/pictures", "take-account-pictures", "Take pictures of the front pages of the live site and "+
		"of the "+
		"site here, and compare them",
		func(ctx context.Context, in *AccountPath) (*body[wire.AccountPictures], error) {
			taken, err := a.Moving.Pictures(ctx, in.Name)
			return &body[wire.AccountPictures]{taken}, asProblem(err)
		})
	declare(api, "GET", "/accounts/{name}/pictures/{which}", "get-account-picture", "The picture that was taken last: here or there", nil,
		map[string]*huma.MediaType{"image/jpeg": {}})
	router.GET("/api/v1/accounts/:name/pictures/:which", func(c echo.Context) error {
		file, ok := a.Moving.Picture(c.Request().Context(), c.Param("name"), c.Param("which"))
		if !ok {
			writeProblem(c.Response(), problem(http.StatusNotFound, "there is no such picture"))
			return nil
		}
		c.Response().Header().Set("Cache-Control", "no-store")
		return c.File(file)
	})
}

// hostSignInRoutes are sign-ins at hosts' pages.
func (a *API) hostSignInRoutes(api huma.API) {
	register(api, "POST", "/hosts/sign-ins", "begin-host-sign-in", "Begin to sign in at a host's page; a customer lets Vessik in there",
		func(ctx context.Context, in *body[wire.AskHostSignIn]) (*body[wire.HostSignIn], error) {
			begun, err := a.Moving.SignIn(ctx, in.Body.Page)
			return &body[wire.HostSignIn]{begun}, asProblem(err)
		})
	register(api, "GET", "/hosts/sign-ins/{id}", "get-host-sign-in", "Whether Vessik was let in at a host's page, and what the host tells",
		func(_ context.Context, in *struct {
			ID string `path:"id"`
		}) (*body[wire.HostSignIn], error) {
			said, err := a.Moving.SignInOf(in.ID)
			return &body[wire.HostSignIn]{said}, asProblem(err)
		})
	register(api, "POST", "/accounts/{name}/sign-in", "sign-in-account-again", "Give an account what a new sign-in at its host's page brought",
		func(ctx context.Context, in *struct {
			AccountPath
			Body wire.SignInAgain
		}) (*struct{}, error) {
			return nil, asProblem(a.Moving.SignInAgain(ctx, in.Name, in.Body.ID))
		})
}

// pull makes what was fetched a new site, or unpacks it over one.
func (a *API) pull(ctx context.Context, account string, asked wire.Pull, who string) (begun plan.Operation, err error) {
	from, err := a.Moving.Fetched(ctx, account)
	if err != nil {
		return plan.Operation{}, err
	}
	defer func() {
		if err == nil {
			a.Moving.Settle(account, asked.Site, asked.ByNeed, begun)
		}
	}()
	if _, there := a.Machine.Registry.Site(site.ASCII(asked.Site)); there {
		return a.Sending.Unpack(ctx, site.ASCII(asked.Site), wire.Unpack{Parcel: from, Only: asked.Only, Stay: asked.Stay}, who)
	}
	if asked.Only != "" {
		return plan.Operation{}, site.Problems{{Site: asked.Site, Field: "only", Message: "a new site has files and a database",
			Remedy: "pull both, or name a site that is there"}}
	}
	return a.Create.New(ctx, []site.Request{{Name: asked.Site, Domain: asked.Domain, Parcel: from}})
}
