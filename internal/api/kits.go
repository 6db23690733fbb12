package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/fleet"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/kit"
	"vessik/internal/provision"
	"vessik/internal/stencil"
)

// registerKits adds what concerns kits, users and signing in.
func (a *API) registerKits(api huma.API) {
	p := a.Provisioner
	register(api, "GET", "/kits", "list-kits", "Kits that sites can be made of, and what is wrong with the user's own", func(context.Context, *empty) (*body[wire.Kits], error) {
		return &body[wire.Kits]{a.kits()}, nil
	})
	register(api, "GET", "/defaults", "get-defaults", "What is set once for new sites", func(context.Context, *empty) (*body[wire.DefaultsPage], error) {
		return &body[wire.DefaultsPage]{p.DefaultsPage()}, nil
	})
	register(api, "PUT", "/defaults", "set-defaults", "Set once what new sites have in common", func(_ context.Context, in *body[wire.SetDefaults]) (*body[wire.DefaultsPage], error) {
		if err := p.SetDefaults(in.Body.Settings); err != nil {
			return nil, asProblem(err)
		}
		return &body[wire.DefaultsPage]{p.DefaultsPage()}, nil
	})
	register(api, "POST", "/sites/label", "label-sites", "Change the group, note and place of sites in the fleet", func(ctx context.Context, in *body[wire.Label]) (*body[[]wire.Site], error) {
		if err := p.Label(ctx, in.Body); err != nil {
			return nil, asProblem(err)
		}
		changed := []site.Site{}
		for _, name := range in.Body.Names {
			if s, ok := p.Site(name); ok {
				changed = append(changed, s)
			}
		}
		return &body[[]wire.Site]{a.sites(changed, false)}, nil
	})
	register(api, "POST", "/sites/{name}/site-file", "write-site-file", "Write a site's own file into its folder: it makes the same site on another machine", func(ctx context.Context, in *struct {
		SitePath
		Body wire.WriteSiteFile
	}) (*body[wire.Written], error) {
		s, ok := p.Site(in.Name)
		if !ok {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no site %q; see the names with: vessik sites", in.Name))
		}
		dump := ""
		if in.Body.Content {
			dump = provision.SiteDump
		}
		text, err := fleet.WriteSite(a.sites([]site.Site{s}, false)[0], s.Settings.PHP, dump)
		if err != nil {
			return nil, err
		}
		files, err := p.WriteSiteFile(ctx, in.Name, text, in.Body.Content)
		return &body[wire.Written]{wire.Written{Files: files}}, asProblem(err)
	})
	register(api, "GET", "/fleet", "write-fleet", "The fleet file of what there is", func(context.Context, *empty) (*body[wire.FleetText], error) {
		text, err := fleet.Of(a.sites(p.Sites(), false))
		return &body[wire.FleetText]{wire.FleetText{Text: string(text)}}, err
	})
	register(api, "POST", "/fleet/preview", "preview-fleet", "What leads from the sites that there are to those of a fleet file; changes nothing", func(_ context.Context, in *body[wire.FleetText]) (*body[[]fleet.Step], error) {
		file, err := fleet.Parse([]byte(in.Body.Text))
		if err != nil {
			return nil, asProblem(site.Problems{{Field: "text", Message: err.Error(), Remedy: "mend that line"}})
		}
		steps, problems := fleet.Compare(file, a.sites(p.Sites(), false), p.Engines())
		if len(problems) > 0 {
			return nil, asProblem(problems)
		}
		return &body[[]fleet.Step]{append([]fleet.Step{}, steps...)}, nil
	})
	type renamed struct {
		SitePath
		Who
		Body wire.Rename
	}
	register(api, "POST", "/sites/{name}/rename", "rename-site", "Give a site another name or domain, re-addressed everywhere; its old domain leads on for a while", func(ctx context.Context, in *renamed) (*body[plan.Operation], error) {
		operation, err := p.Rename(ctx, in.Name, in.Body, in.Who.name())
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "POST", "/sites/{name}/rename/rehearse", "rehearse-rename", "What renaming would change in the database; changes nothing", func(ctx context.Context, in *renamed) (*body[rewrite.Tally], error) {
		tally, err := p.RehearseRename(ctx, in.Name, in.Body)
		return &body[rewrite.Tally]{tally}, asProblem(err)
	})
	type loaded struct {
		SitePath
		Who
		Body wire.LoadSQL
	}
	register(api, "POST", "/sites/{name}/load", "load-sql", "Put a dump in the place of a site's database; goes back by itself when the site is worse off", func(ctx context.Context, in *loaded) (*body[plan.Operation], error) {
		operation, err := p.LoadSQL(ctx, in.Name, in.Body, in.Who.name())
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "POST", "/sites/{name}/load/rehearse", "rehearse-load", "What would be changed in a dump while it is loaded; changes nothing", func(ctx context.Context, in *loaded) (*body[rewrite.Tally], error) {
		tally, err := p.RehearseLoad(ctx, in.Name, in.Body)
		return &body[rewrite.Tally]{tally}, asProblem(err)
	})
	register(api, "PUT", "/sites/{name}/domains", "set-domains", "Further domains of a site", func(ctx context.Context, in *struct {
		SitePath
		Body wire.Domains
	}) (*body[wire.Site], error) {
		if err := p.SetDomains(ctx, in.Name, in.Body); err != nil {
			return nil, asProblem(err)
		}
		s, _ := p.Site(in.Name)
		return &body[wire.Site]{a.sites([]site.Site{s}, false)[0]}, nil
	})
	register(api, "GET", "/hosts", "get-hosts", "Domains that this machine has to be told of", func(context.Context, *empty) (*body[wire.HostsPage], error) {
		return &body[wire.HostsPage]{p.Hosts()}, nil
	})
	register(api, "PUT", "/hosts", "allow-hosts", "Let the service keep a marked block in the hosts file, or no longer", func(_ context.Context, in *body[wire.AllowHosts]) (*body[wire.HostsPage], error) {
		if err := p.AllowHosts(in.Body.Allow); err != nil {
			return nil, asProblem(err)
		}
		return &body[wire.HostsPage]{p.Hosts()}, nil
	})
	register(api, "GET", "/sites/{name}/users", "list-users", "A site's own users, administrators first", func(ctx context.Context, in *SitePath) (*body[[]wire.User], error) {
		users, err := p.Users(ctx, in.Name)
		return &body[[]wire.User]{users}, asProblem(err)
	})
	register(api, "POST", "/sites/{name}/tickets", "draw-ticket", "Draw a one-time address that signs a user in to the site", func(ctx context.Context, in *struct {
		SitePath
		Body wire.AskTicket
	}) (*body[wire.Ticket], error) {
		address, user, until, err := p.Ticket(ctx, in.Name, in.Body.As)
		return &body[wire.Ticket]{wire.Ticket{URL: address, User: user, ExpiresAt: until.UTC().Truncate(time.Second)}}, asProblem(err)
	})
	register(api, "PUT", "/sites/{name}/users/{user}/password", "set-password", "Set the password of one of a site's users", func(ctx context.Context, in *struct {
		SitePath
		User string `path:"user" doc:"Login"`
		Body wire.NewPassword
	}) (*body[wire.NewPassword], error) {
		password, err := p.SetPassword(ctx, in.Name, in.User, in.Body.Password)
		return &body[wire.NewPassword]{wire.NewPassword{Password: password}}, asProblem(err)
	})
	register(api, "PUT", "/sites/{name}/administrator", "replace-administrator", "Put the site's administrator in the place of one of its users, with everything that this one wrote", func(ctx context.Context, in *struct {
		SitePath
		Body wire.NewAdministrator
	}) (*body[wire.Admin], error) {
		admin, err := p.ReplaceAdministrator(ctx, in.Name, in.Body)
		return &body[wire.Admin]{wire.Admin{User: admin.User, Email: admin.Email, Password: admin.Password}}, asProblem(err)
	})
}

// shelf adds what concerns releases, plugins and themes that are kept on this machine.
func (a *API) shelf(router *echo.Echo, api huma.API) {
	p := a.Provisioner
	page := func() *body[wire.ShelfPage] { return &body[wire.ShelfPage]{p.ShelfPage()} }
	register(api, "GET", "/shelf", "list-shelf", "Releases, plugins and themes that are kept on this machine", func(context.Context, *empty) (*body[wire.ShelfPage], error) {
		return page(), nil
	})
	register(api, "POST", "/shelf/fetch", "fetch-to-shelf", "Fetch an archive to the shelf, from an address or out of a Debian package", func(ctx context.Context, in *body[wire.FetchToShelf]) (*body[wire.ShelfPage], error) {
		var err error
		if in.Body.Package != "" {
			_, err = p.FetchPackage(ctx, in.Body.Package)
		} else {
			_, err = p.Shelf.Fetch(ctx, in.Body.Address, p.Kits())
		}
		if err != nil {
			return nil, asProblem(site.Problems{{Field: "address", Message: err.Error(), Remedy: "name a zip archive of a release, plugin or theme, or a Debian package of them"}})
		}
		return page(), nil
	})
	register(api, "DELETE", "/shelf/{name}", "drop-from-shelf", "Remove an archive from the shelf; sites that were made of it stay", func(_ context.Context, in *SitePath) (*struct{}, error) {
		err := p.Shelf.Drop(in.Name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, problem(http.StatusNotFound, fmt.Sprintf("there is no %q on the shelf; see what is with: vessik shelf", in.Name))
		}
		return nil, asProblem(err)
	})
	api.OpenAPI().AddOperation(&huma.Operation{Method: "PUT", Path: "/api/v1/shelf/{name}", OperationID: "add-to-shelf", Summary: "Put a zip archive on the shelf",
		Parameters: []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}},
		Responses:  map[string]*huma.Response{"200": {Description: "What it is"}}})
	router.PUT("/api/v1/shelf/:name", func(c echo.Context) error {
		item, err := p.Shelf.Add(c.Param("name"), c.Request().Body, p.Kits())
		if err != nil {
			writeProblem(c.Response(), asProblem(site.Problems{{Field: "file", Message: err.Error(), Remedy: "name a zip archive of a release, plugin or theme"}}))
			return nil
		}
		return c.JSON(http.StatusOK, item)
	})
}

// stencils adds what concerns saved sites; their files come and go as they are.
func (a *API) stencils(router *echo.Echo, api huma.API) {
	p := a.Provisioner
	register(api, "GET", "/stencils", "list-stencils", "Saved sites that new ones can be drawn from", func(context.Context, *empty) (*body[[]stencil.Manifest], error) {
		return &body[[]stencil.Manifest]{p.Stencils.List()}, nil
	})
	register(api, "POST", "/sites/{name}/stencil", "save-stencil", "Save a site as a stencil", func(ctx context.Context, in *struct {
		SitePath
		Body wire.SaveStencil
	}) (*body[plan.Operation], error) {
		operation, err := p.SaveStencil(ctx, in.Name, in.Body.As, in.Body.Description, in.Body.NewestCMS)
		return &body[plan.Operation]{operation}, asProblem(err)
	}, accepted)
	register(api, "PUT", "/stencils/{name}", "describe-stencil", "Describe or rename a stencil", func(_ context.Context, in *struct {
		SitePath
		Body wire.DescribeStencil
	}) (*body[stencil.Manifest], error) {
		if err := p.Stencils.Describe(in.Name, in.Body.Name, in.Body.Description); err != nil {
			return nil, stencilProblem(in.Name, err)
		}
		m, err := p.Stencils.Find(cmp.Or(in.Body.Name, in.Name))
		return &body[stencil.Manifest]{m}, asProblem(err)
	})
	register(api, "DELETE", "/stencils/{name}", "drop-stencil", "Remove a stencil; sites drawn from it stay", func(_ context.Context, in *SitePath) (*struct{}, error) {
		return nil, stencilProblem(in.Name, p.Stencils.Drop(in.Name))
	})
	for _, each := range []struct{ method, id, summary string }{{"GET", "export-stencil", "A stencil as one file"}, {"PUT", "import-stencil", "Take in a stencil's file"}} {
		api.OpenAPI().AddOperation(&huma.Operation{Method: each.method, Path: "/api/v1/stencils/{name}/file", OperationID: each.id, Summary: each.summary,
			Parameters: []*huma.Param{{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}},
			Responses:  map[string]*huma.Response{"200": {Description: "Done"}}})
	}
	router.GET("/api/v1/stencils/:name/file", func(c echo.Context) error {
		if _, err := p.Stencils.Find(c.Param("name")); err != nil {
			writeProblem(c.Response(), stencilProblem(c.Param("name"), err))
			return nil
		}
		return c.Attachment(p.Stencils.File(c.Param("name")), c.Param("name")+stencil.Suffix)
	})
	router.PUT("/api/v1/stencils/:name/file", func(c echo.Context) error {
		m, err := p.Stencils.Import(c.Request().Context(), c.Param("name"), c.Request().Body)
		if err != nil {
			writeProblem(c.Response(), asProblem(site.Problems{{Field: "file", Message: err.Error(), Remedy: "name a stencil's file, and a name that is free"}}))
			return nil
		}
		return c.JSON(http.StatusOK, m)
	})
	router.GET("/api/v1/stencils/:name/picture", func(c echo.Context) error {
		picture, err := p.Stencils.Picture(c.Param("name"))
		if err != nil {
			writeProblem(c.Response(), stencilProblem(c.Param("name"), err))
			return nil
		}
		return c.Blob(http.StatusOK, "image/jpeg", picture)
	})
}

func stencilProblem(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return problem(http.StatusNotFound, fmt.Sprintf("there is no stencil %q; see the names with: vessik stencil", name))
	}
	if err != nil {
		return asProblem(site.Problems{{Field: "name", Message: err.Error(), Remedy: "choose another"}})
	}
	return nil
}

func (a *API) kits() wire.Kits {
	kits := a.Provisioner.Kits()
	releases := a.Provisioner.Releases()
	all := wire.Kits{TouchFolder: a.Provisioner.TouchFolder(), Kits: []wire.KitInfo{}, Faults: map[string]string{}, Folder: a.Provisioner.KitFolder()}
	for _, name := range kits.Names() {
		k := kits[name]
		shown := wire.KitInfo{Name: k.Name, Title: k.Title, About: k.About, Versions: append([]string{}, releases[name]...), From: k.From, Touches: []wire.Touch{}, Languages: []string{}, SignsIn: k.Ticket.Script != "", Sites: []string{}}
		for _, t := range k.Touches {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About, Value: t.Value.About, Example: t.Value.Example})
		}
		for _, t := range kit.OwnTouches(a.Provisioner.TouchFolder()) {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About, Own: true})
		}
		shown.HostExtensions, shown.HostWritable = append([]string{}, k.Host.Extensions...), append([]string{}, k.Host.Writable...)
		shown.Networks = append([]string{}, k.Network.Modes...)
		shown.Languages = append(shown.Languages, a.Provisioner.Languages(name)...)
		for _, s := range a.Provisioner.Sites() {
			if s.Kit.Name == name {
				shown.Sites = append(shown.Sites, s.Name)
			}
		}
		all.Kits = append(all.Kits, shown)
	}
	for folder, fault := range maps.All(a.Provisioner.KitFaults()) {
		all.Faults[folder] = fault.Error()
	}
	return all
}
