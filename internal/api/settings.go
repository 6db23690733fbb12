package api

import (
	"context"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v4"

	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
)

// settingsRoutes are settings of engines.
func (a *API) settingsRoutes(api huma.API, router *echo.Echo) {
	register(api, "GET", "/sites/{name}/settings", "get-settings", "Settings of a site's engines, what could be set, and their history",
		func(ctx context.Context, in *SitePath) (*body[wire.SettingsPage], error) {
			page, err := a.settings(ctx, in.Name)
			return &body[wire.SettingsPage]{page}, asProblem(err)
		})
	register(api, "PUT", "/sites/{name}/settings", "adjust-site",
		"Change settings of a site's engines; they are taken back when a check fails that passed before", func(ctx context.Context, in *struct {
			SitePath
			Who
			Body wire.Adjust
		}) (*body[wire.Operation], error) {
			operation, err := a.Settings.Adjust(ctx, in.Name, in.Body.Settings, in.Body.Stay, in.Who.name())
			return &body[wire.Operation]{wire.OperationOf(operation)}, asProblem(err)
		}, accepted)
}

func (a *API) settings(ctx context.Context, name string) (wire.SettingsPage, error) {
	s, ok := a.Machine.Registry.Site(name)
	if !ok {
		return wire.SettingsPage{}, noSuchSite(name)
	}
	page := wire.SettingsPage{Limits: a.Machine.LimitsOf(s), Settings: s.Settings, Usual: map[string]string{}, Extensions: []string{},
		Extras: []string{}, Directives: []string{}}
	for _, d := range (render.PHP{}).Directives() {
		page.Usual[d.Name] = d.Value
	}
	if e, err := a.Machine.Store.Find(s.Stack.PHP); err == nil {
		page.Extras = slices.AppendSeq(page.Extras, maps.Keys(e.Extras))
		slices.Sort(page.Extras)
		if page.Extensions, err = engine.Switchable(e); err != nil {
			return page, err
		}
		if page.Directives, err = a.Changer.Directives(ctx, e); err != nil {
			return page, err
		}
		page.Xdebug = engine.HasXdebug(e)
	}
	history, err := a.Records.SettingsHistory(ctx, name)
	for i := range history {
		before := site.Settings{}
		if i+1 < len(history) {
			before = history[i+1].Settings
		}
		history[i].Changed = append([]string{}, before.Differences(history[i].Settings)...)
	}
	page.History = history
	return page, err
}
