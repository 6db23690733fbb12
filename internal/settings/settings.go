// Package settings changes what sites' engines are set to.
package settings

import (
	"context"

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

// Adjust changes the settings of a site's engines.
func (f *Feature) Adjust(ctx context.Context, name string, settings site.Settings, stay bool, who string) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return plan.Operation{}, site.NoSite(name)
	}
	problems := f.Changer.CheckSettings(ctx, s, settings)
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
