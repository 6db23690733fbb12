// Package settings changes what sites' engines are set to.
package settings

import (
	"context"
	"maps"
	"slices"

	"vessik/internal/change"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/records"
)

// Kind is that of a change of settings.
const Kind plan.Kind = "adjust"

// Feature changes settings.
type Feature struct {
	Changer *change.Changer
	Records *records.Records
}

// Kind is how settings are changed; what they were stays in the site's history.
func (f *Feature) Kind() operation.Kind {
	c := f.Changer
	clear := func(_ context.Context, _ *operation.Part, s site.Site, p plan.Change) error {
		s.Settings = p.Before.Settings
		c.Machine.ClearPlaces(s, p.After.Settings)
		return nil
	}
	return c.Kind(Kind, nil, clear, c.FetchStep(), c.BaselineStep(), c.CheckStep(), c.SwitchStep(), c.ProveStep(), c.SettleStep(
		func(ctx context.Context, _ *operation.Part, s site.Site, p plan.Change) error {
			c.Machine.ClearPlaces(s, p.Before.Settings)
			return f.Records.SaveSettings(ctx, plan.SettingsEntry{Site: s.Name, Who: p.Who, Settings: p.After.Settings})
		}))
}

// coming are extensions that the site's PHP lacks, and that are fetched for it; which of them there are, Debian's archive is asked.
func (f *Feature) coming(ctx context.Context, name string, settings site.Settings) (names []string, err error) {
	s, _ := f.Changer.Machine.Registry.Site(name)
	lacking := f.Changer.Machine.Store.LacksExtensions(s.Stack.PHP, settings)
	if len(lacking) == 0 {
		return nil, nil
	}
	e, err := f.Changer.Machine.Store.Find(s.Stack.PHP)
	if err != nil {
		return nil, err
	}
	all, err := f.Changer.Machine.Store.Extensions(ctx, e)
	for _, each := range all {
		if slices.Contains(lacking, each.Name) {
			names = append(names, each.Name)
		}
	}
	return names, err
}

// Adjust changes the settings of a site's engines.
func (f *Feature) Adjust(ctx context.Context, name string, settings site.Settings, stay bool, who string) (plan.Operation, error) {
	coming, err := f.coming(ctx, name, settings)
	if err != nil {
		return plan.Operation{}, err
	}
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return plan.Operation{}, site.NoSite(name)
	}
	judged := settings
	judged.Extensions = maps.Clone(settings.Extensions)
	maps.DeleteFunc(judged.Extensions, func(name string, _ bool) bool { return slices.Contains(coming, name) })
	problems := f.Changer.CheckSettings(ctx, s, judged)
	if settings.Equal(s.Settings) {
		problems = append(problems, site.Problem{Site: name, Field: "settings", Message: "they are so already",
			Remedy: "name what is to be different"})
	}
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	asked := plan.Change{Site: name, Before: plan.Target{Stack: s.Stack, Settings: s.Settings},
		After: plan.Target{Stack: s.Stack, Settings: settings}, Stay: stay, Who: who}
	return f.Changer.Begin(ctx, Kind, asked)
}
