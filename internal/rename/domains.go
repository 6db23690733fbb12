package rename

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// SetDomains gives a site further domains, and drops some that it had before.
func (f *Feature) SetDomains(ctx context.Context, name string, d wire.Domains) error {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return site.NoSite(name)
	}
	if err := f.Changer.Operations.Free(name); err != nil {
		return err
	}
	next, facts := s, f.Facts.Now()
	next.Domains = []string{}
	for _, domain := range d.Domains {
		next.Domains = append(next.Domains, site.ASCII(strings.ToLower(domain)))
	}
	problems := site.CheckDomains(next, d.ForceDomain, facts)
	problems = slices.DeleteFunc(problems, func(each site.Problem) bool { return each.Field == "domain" })
	for _, domain := range d.Drop {
		if !slices.ContainsFunc(s.Forwards, func(f site.Forward) bool { return f.Domain == domain }) {
			problems = append(problems, site.Problem{Site: name, Field: "drop", Message: domain +
				" is no further domain of the site, and none that it had before",
				Remedy: "see them with: vessik domains " + name})
		}
	}
	if len(problems) > 0 {
		return problems
	}
	next.Forwards = slices.DeleteFunc(slices.Clone(s.Forwards), func(f site.Forward) bool {
		return slices.Contains(d.Drop, f.Domain) || slices.Contains(next.Domains, f.Domain)
	})
	named := func(as site.Site) func(*site.Site) error {
		return func(s *site.Site) error { s.Domains, s.Forwards = as.Domains, as.Forwards; return nil }
	}
	if err := f.Changer.Machine.Registry.Edit(ctx, name, named(next)); err != nil {
		return err
	}
	if s.State != site.Running {
		return nil
	}
	if failed := f.Changer.Machine.Publish(ctx, []string{name}); failed[name] != nil {
		return errors.Join(failed[name], f.Changer.Machine.Registry.Edit(ctx, name, named(s)),
			f.Changer.Machine.Publish(ctx, []string{name})[name])
	}
	return nil
}

// EndForwards drops, each minute, domains whose time has come, until the service ends.
func (f *Feature) EndForwards() {
	look := time.NewTicker(time.Minute)
	defer look.Stop()
	for {
		select {
		case <-f.Changer.Machine.Work.Context().Done():
			return
		case now := <-look.C:
			f.endForwards(now)
		}
	}
}

// endForwards drops domains whose time has come.
func (f *Feature) endForwards(now time.Time) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	over := func(f site.Forward) bool { return now.After(f.Until) }
	for _, s := range f.Changer.Machine.Registry.All() {
		if !slices.ContainsFunc(s.Forwards, over) || f.Changer.Operations.Free(s.Name) != nil { // later, then
			continue
		}
		if err := f.Changer.Machine.Registry.Edit(f.Changer.Machine.Work.Context(), s.Name, func(s *site.Site) error {
			s.Forwards = slices.DeleteFunc(slices.Clone(s.Forwards), over)
			return nil
		}); err != nil {
			f.Changer.Machine.Log.Error("end a forward", "site", s.Name, "reason", err)
		}
	}
}
