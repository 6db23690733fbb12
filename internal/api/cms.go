package api

import (
	"context"
	"maps"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/cms"
	"vessik/internal/core/wire"
)

// cmsRoutes are what sites are made of.
func (a *API) cmsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/cms", "list-cms", "CMS definitions that sites can be made of, and what is wrong with the user's own",
		func(context.Context, *empty) (*body[wire.CMSPage], error) {
			return &body[wire.CMSPage]{a.cms()}, nil
		})
}

func (a *API) cms() wire.CMSPage {
	definitions := a.Machine.CMS.Definitions()
	releases := a.Origins.Releases()
	all := wire.CMSPage{TouchFolder: a.Origins.TouchFolder(), CMS: []wire.CMSInfo{}, Faults: map[string]string{}, Folder: a.Machine.CMS.Dir}
	for _, name := range definitions.Names() {
		k := definitions[name]
		shown := wire.CMSInfo{Name: k.Name, Title: k.Title, About: k.About, Versions: append([]string{}, releases[name]...), From: k.From,
			Touches: []wire.Touch{}, Languages: []string{}, SignsIn: k.Ticket.Script != "", ListsParts: k.ListsParts(), Sites: []string{}}
		for _, t := range k.Touches {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About, Value: t.Value.About, Example: t.Value.Example})
		}
		for _, t := range cms.OwnTouches(a.Origins.TouchFolder()) {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About, Own: true})
		}
		shown.HostExtensions, shown.HostWritable = append([]string{}, k.Host.Extensions...), append([]string{}, k.Host.Writable...)
		shown.Networks = append([]string{}, k.Network.Modes...)
		shown.Languages = append(shown.Languages, a.Origins.Languages(name)...)
		for _, s := range a.Machine.Registry.All() {
			if s.CMS.Name == name {
				shown.Sites = append(shown.Sites, s.Name)
			}
		}
		all.CMS = append(all.CMS, shown)
	}
	for folder, fault := range maps.All(a.Machine.CMS.Faults()) {
		all.Faults[folder] = fault.Error()
	}
	return all
}
