package api

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"vessik/internal/core/wire"
)

// registerKits adds what concerns kits, users and signing in.
func (a *API) registerKits(api huma.API) {
	p := a.Provisioner
	register(api, "GET", "/kits", "list-kits", "Kits that sites can be made of, and what is wrong with the user's own", func(context.Context, *empty) (*body[wire.Kits], error) {
		return &body[wire.Kits]{a.kits()}, nil
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
}

func (a *API) kits() wire.Kits {
	kits := a.Provisioner.Kits()
	releases := kits.Releases(a.Provisioner.Store)
	all := wire.Kits{Kits: []wire.KitInfo{}, Faults: map[string]string{}, Folder: a.Provisioner.KitFolder()}
	for _, name := range kits.Names() {
		k := kits[name]
		shown := wire.KitInfo{Name: k.Name, Title: k.Title, About: k.About, Versions: slices.Concat([]string{}, releases[name]), From: k.From, Touches: []wire.Touch{}, SignsIn: k.Ticket.Script != "", Sites: []string{}}
		for _, t := range k.Touches {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About})
		}
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
