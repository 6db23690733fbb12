// Package parts lists and changes the plugins and themes of sites that are there.
package parts

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vessik/internal/change"
	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/operation"
	"vessik/internal/safefile"
	"vessik/internal/shelf"
)

// Kind is that of such a change, whose own step is Replace.
const (
	Kind    plan.Kind = "change-parts"
	Replace plan.Step = "replace-parts"
)

// Feature is the plugins and themes of one machine's sites.
type Feature struct{ Changer *change.Changer }

// Kind is how they are changed; a site that is worse off becomes what it was.
func (f *Feature) Kind() operation.Kind {
	c := f.Changer
	return c.Kind(Kind, func(ctx context.Context, w *operation.Part, s site.Site, _ plan.Change) error {
		return c.PutPointBack(ctx, w, s, Replace)
	}, nil, c.FetchStep(), c.BaselineStep(), c.PointStep(), change.Do(Replace, "changing plugins and themes", f.replace), c.ProveStep(),
		c.SettleStep(nil))
}

// List tells the plugins and themes of a site, and which of them are on; none of them is run for it.
func (f *Feature) List(ctx context.Context, name string) ([]wire.Part, error) {
	_, all, err := f.look(ctx, name)
	seen := []wire.Part{}
	for _, one := range all {
		seen = append(seen, wire.Part{Kind: one.Part.Kind, Name: one.Name, Title: one.Title, Version: one.Version, On: one.On,
			Folder: one.Shared})
	}
	return seen, err
}

func (f *Feature) look(ctx context.Context, name string) (s site.Site, all []cms.Installed, err error) {
	m := f.Changer.Machine
	s, ok := m.Registry.Site(name)
	if !ok {
		return s, nil, site.NoSite(name)
	}
	k := m.CMS.Of(s)
	if !k.ListsParts() {
		return s, nil, site.Problems{{Site: name, Field: "name", Message: "nothing is known of the plugins and themes of " + k.Title,
			Remedy: "describe them in its definition: parts in cms.yaml"}}
	}
	if s.State == site.Making || s.State == site.Retiring {
		return s, nil, site.Problems{{Site: name, Field: "name", Message: "the site is " + string(s.State), Remedy: "wait for it"}}
	}
	if all, err = k.Installed(s); err != nil {
		return s, nil, err
	}
	return s, all, f.inside(ctx, s, func(ctx context.Context, php *engine.Engine) error {
		return k.MarkActive(ctx, php, s, m.CMSFacts(s), all)
	})
}

// patience is for how long a site's PHP may take to tell or to change what is on; it runs what anybody may have written.
const patience = 2 * time.Minute

// inside has a site's PHP and its database at hand, also where it does not run.
func (f *Feature) inside(ctx context.Context, s site.Site, do func(ctx context.Context, php *engine.Engine) error) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	php, err := f.Changer.Machine.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	_, release, err := f.Changer.Machine.Lease(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	defer release()
	return do(ctx, php)
}

// Change changes the plugins and themes of a site; the operation goes on after it returns.
func (f *Feature) Change(ctx context.Context, name string, asked wire.ChangeParts, who string) (plan.Operation, error) {
	s, all, err := f.look(ctx, name)
	if err != nil {
		return plan.Operation{}, err
	}
	if problems := f.judge(s, all, asked); len(problems) > 0 {
		return plan.Operation{}, problems
	}
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	if s, ok := f.Changer.Machine.Registry.Site(name); ok { // it may run on something else by now
		asked := plan.Change{Site: name, Before: change.TargetOf(s), After: change.TargetOf(s), Stay: asked.Stay, Who: who,
			Parts: &plan.Parts{Add: asked.Add, On: asked.On, Off: asked.Off, Drop: asked.Drop}}
		return f.Changer.Begin(ctx, Kind, asked)
	}
	return plan.Operation{}, site.NoSite(name)
}

func (f *Feature) judge(s site.Site, all []cms.Installed, asked wire.ChangeParts) (problems site.Problems) {
	add := func(field, message, remedy string) {
		problems = append(problems, site.Problem{Site: s.Name, Field: field, Message: message, Remedy: remedy})
	}
	if len(asked.Add)+len(asked.On)+len(asked.Off)+len(asked.Drop) == 0 {
		add("add", "nothing is to be changed", "name what is to be added, switched on or off, or dropped")
	}
	coming := []string{}
	for _, each := range asked.Add {
		item, known, ok := f.onShelf(s, each)
		if !ok {
			add("add", fmt.Sprintf("no plugin or theme %q for %s is on the shelf", each, s.CMS.Name), "put it there with vessik shelf add FILE"+
				", or name the zip archive; the shelf has "+words(known))
			continue
		}
		if i := slices.IndexFunc(all, func(one cms.Installed) bool { return one.Name == item.Name && one.Shared != "" }); i >= 0 {
			add("add", item.Name+" is a shared folder here", "change it there: "+all[i].Shared)
		}
		coming = append(coming, item.Name)
	}
	for field, names := range map[string][]string{"on": asked.On, "off": asked.Off, "drop": asked.Drop} {
		for _, each := range names {
			i := slices.IndexFunc(all, func(one cms.Installed) bool { return one.Name == each })
			switch {
			case i < 0 && field == "on" && slices.Contains(coming, each):
			case i < 0:
				there := []string{}
				for _, one := range all {
					there = append(there, one.Name)
				}
				add(field, fmt.Sprintf("the site has no plugin or theme %q", each), "choose one of "+words(there))
			case field != "on" && all[i].On && all[i].Part.Deactivate == "":
				add(field, fmt.Sprintf("the site uses the %s %s", all[i].Part.Kind, each), "switch another one on first")
			case field == "drop" && all[i].Shared != "":
				add(field, each+" is a shared folder", fmt.Sprintf("close it with: vessik settings %s -drop %s", s.Name, all[i].Shared))
			}
		}
	}
	slices.SortFunc(problems, func(a, b site.Problem) int { return strings.Compare(a.Field+a.Message, b.Field+b.Message) })
	return problems
}

func words(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// onShelf finds what somebody means by a name, of either kind; known are all names for the site's CMS.
func (f *Feature) onShelf(s site.Site, asked string) (item wire.ShelfItem, known []string, ok bool) {
	for _, part := range f.Changer.Machine.CMS.Of(s).Parts {
		found, fits, names := f.Changer.Origins.FindPart(s.CMS.Name, part.Kind, asked)
		known = append(known, names...)
		if fits && !ok {
			item, ok = found, true
		}
	}
	return item, known, ok
}

// replace carries it out: first what goes, then what comes.
func (f *Feature) replace(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if err := w.Note(change.Replaced); err != nil {
		return err
	}
	m, k := f.Changer.Machine, f.Changer.Machine.CMS.Of(s)
	_, before, err := f.look(ctx, s.Name)
	if err != nil {
		return err
	}
	if err := f.inside(ctx, s, func(ctx context.Context, php *engine.Engine) error {
		off := picked(before, slices.Concat(p.Parts.Off, p.Parts.Drop), func(one cms.Installed) bool { return one.On })
		for part, mains := range off {
			if err := k.SwitchOff(ctx, php, s, m.CMSFacts(s), part, mains); err != nil {
				return fmt.Errorf("switch off %s: %w", strings.Join(mains, ", "), err)
			}
		}
		return nil
	}); err != nil {
		return err
	}
	for _, one := range before {
		if slices.Contains(p.Parts.Drop, one.Name) {
			if err := safefile.Remove(s.Folder, one.Place()); err != nil {
				return err
			}
		}
	}
	added, err := f.add(ctx, w, s, before, p.Parts.Add)
	if err != nil {
		return err
	}
	if err := f.inside(ctx, s, func(ctx context.Context, php *engine.Engine) error {
		return f.switchOn(ctx, php, s, slices.Concat(p.Parts.On, added))
	}); err != nil {
		return err
	}
	return k.ClearCaches(s.Folder)
}

// add puts parts of the shelf into a site; added are the plugins that were not there before.
func (f *Feature) add(ctx context.Context, w *operation.Part, s site.Site, before []cms.Installed, asked []string) (added []string,
	err error) {
	for _, each := range asked {
		item, _, ok := f.onShelf(s, each)
		if !ok {
			return nil, fmt.Errorf("%s is on the shelf no longer", each)
		}
		w.Progress(item.Name, -1)
		if err := f.Changer.Origins.PutPart(ctx, s, item); err != nil {
			return nil, fmt.Errorf("%s: %w", item.File, err)
		}
		isNew := !slices.ContainsFunc(before, func(one cms.Installed) bool { return one.Name == item.Name })
		if isNew && item.Kind == shelf.Plugin {
			added = append(added, item.Name)
		}
	}
	return added, nil
}

func (f *Feature) switchOn(ctx context.Context, php *engine.Engine, s site.Site, names []string) error {
	m, k := f.Changer.Machine, f.Changer.Machine.CMS.Of(s)
	now, err := k.Installed(s)
	if err != nil {
		return err
	}
	if err := k.MarkActive(ctx, php, s, m.CMSFacts(s), now); err != nil {
		return err
	}
	for part, mains := range picked(now, names, func(one cms.Installed) bool { return !one.On }) {
		if part.Activate == "" {
			continue
		}
		if err := k.With(ctx, php, s, m.CMSFacts(s), strings.Join(mains, ";"), part.Activate); err != nil {
			return fmt.Errorf("switch on %s: %w", strings.Join(mains, ", "), err)
		}
	}
	return nil
}

// picked are the main files of those that are named and fit, by kind.
func picked(all []cms.Installed, names []string, fits func(cms.Installed) bool) map[*cms.Part][]string {
	found := map[*cms.Part][]string{}
	for _, one := range all {
		if slices.Contains(names, one.Name) && fits(one) {
			found[one.Part] = append(found[one.Part], one.Main)
		}
	}
	return found
}
