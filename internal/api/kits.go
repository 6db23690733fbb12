package api

import (
	"context"
	"maps"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/wire"
	"vessik/internal/kit"
)

// kitsRoutes are kits that sites are made of.
func (a *API) kitsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/kits", "list-kits", "Kits that sites can be made of, and what is wrong with the user's own",
		func(context.Context, *empty) (*body[wire.Kits], error) {
			return &body[wire.Kits]{a.kits()}, nil
		})
}

func (a *API) kits() wire.Kits {
	kits := a.Machine.Kits.Kits()
	releases := a.Origins.Releases()
	all := wire.Kits{TouchFolder: a.Origins.TouchFolder(), Kits: []wire.KitInfo{}, Faults: map[string]string{}, Folder: a.Machine.Kits.Dir}
	for _, name := range kits.Names() {
		k := kits[name]
		shown := wire.KitInfo{Name: k.Name, Title: k.Title, About: k.About, Versions: append([]string{}, releases[name]...), From: k.From,
			Touches: []wire.Touch{}, Languages: []string{}, SignsIn: k.Ticket.Script != "", Sites: []string{}}
		for _, t := range k.Touches {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About, Value: t.Value.About, Example: t.Value.Example})
		}
		for _, t := range kit.OwnTouches(a.Origins.TouchFolder()) {
			shown.Touches = append(shown.Touches, wire.Touch{Name: t.Name, About: t.About, Own: true})
		}
		shown.HostExtensions, shown.HostWritable = append([]string{}, k.Host.Extensions...), append([]string{}, k.Host.Writable...)
		shown.Networks = append([]string{}, k.Network.Modes...)
		shown.Languages = append(shown.Languages, a.Origins.Languages(name)...)
		for _, s := range a.Machine.Registry.All() {
			if s.Kit.Name == name {
				shown.Sites = append(shown.Sites, s.Name)
			}
		}
		all.Kits = append(all.Kits, shown)
	}
	for folder, fault := range maps.All(a.Machine.Kits.Faults()) {
		all.Faults[folder] = fault.Error()
	}
	return all
}
