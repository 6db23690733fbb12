// Package load puts somebody's dump in the place of a site's database.
package load

import (
	"context"
	"strings"

	"vessik/internal/change"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/origin"
)

// Kind is that of such a change.
const Kind plan.Kind = "load-sql"

// Feature loads dumps.
type Feature struct{ Changer *change.Changer }

// Kind is how a dump is loaded; a site that is worse off gets its own content back.
func (f *Feature) Kind() operation.Kind {
	c := f.Changer
	return c.Kind(Kind, f.putBack, nil, c.FetchStep(), c.BaselineStep(), c.PointStep(),
		change.Do(change.ReplaceContent, "replacing the database", f.replace), c.ProveStep(), c.SettleStep(f.settled))
}

func (f *Feature) putBack(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if err := f.Changer.PutBack(ctx, w, s, p); err != nil {
		return err
	}
	return f.Changer.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
		if s.HeldHash != "" {
			s.AdminHash, s.HeldHash = s.HeldHash, ""
		}
		return nil
	})
}

// settled forgets what the database held before.
func (f *Feature) settled(ctx context.Context, _ *operation.Part, s site.Site, _ plan.Change) error {
	return f.Changer.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error { s.HeldHash = ""; return nil })
}

func (f *Feature) replace(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	m := f.Changer.Machine
	err := f.Changer.Replace(ctx, w, s, func(string) (tally rewrite.Tally, err error) {
		if err := m.EmptyDatabase(ctx, s); err != nil {
			return tally, err
		}
		if tally, err = f.Changer.Origins.LoadDump(ctx, s, p.Load.Address, p.Load.SQL); err != nil {
			return tally, err
		}
		return tally, m.Registry.Edit(ctx, s.Name, func(s *site.Site) error { // its users are the dump's
			s.HeldHash, s.AdminHash = s.AdminHash, ""
			return nil
		})
	})
	if master := m.Master(s.Name); err == nil && master != nil {
		return master.Release()
	}
	return err
}

// Load puts somebody's dump in the place of a site's database; a restore point is taken first.
func (f *Feature) Load(ctx context.Context, name string, l wire.LoadSQL, who string) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, problems := f.judge(name, l)
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	asked := plan.Change{Site: name, Before: change.TargetOf(s), After: change.TargetOf(s), Stay: l.Stay, Who: who,
		Load: &plan.Loading{SQL: l.SQL, Address: strings.TrimSuffix(l.Address, "/")}}
	return f.Changer.Begin(ctx, Kind, asked)
}

func (f *Feature) judge(name string, l wire.LoadSQL) (site.Site, site.Problems) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return s, site.NoSite(name)
	}
	problems := site.Problems{}
	if fault := origin.Unreadable(l.SQL, false); fault != "" {
		problems = append(problems, site.Problem{Site: name, Field: "sql", Message: fault,
			Remedy: "name a dump, plain or compressed with gzip or Zstandard"})
	}
	problems = append(problems, site.CheckSettled(s)...)
	return s, problems
}

// Preview goes through a dump as Load would, and changes nothing.
func (f *Feature) Preview(ctx context.Context, name string, l wire.LoadSQL) (tally rewrite.Tally, err error) {
	s, problems := f.judge(name, l)
	if len(problems) > 0 {
		return tally, problems
	}
	address := strings.TrimSuffix(l.Address, "/")
	if address == "" {
		dump, err := origin.OpenDump(s.Folder, l.SQL)
		if err != nil {
			return tally, err
		}
		said, err := f.Changer.Machine.CMS.Of(s).Dumped(dump)
		dump.Close()
		if err != nil {
			return tally, err
		}
		address = said.Address
	}
	if address == "" {
		return tally, site.Problems{{Site: name, Field: "address", Message: "the dump does not tell its base address",
			Remedy: "give it with -address"}}
	}
	err = f.Changer.Machine.Aside(ctx, s, func(scratch site.Site) error { // what a server says to a dump is known only once it has been asked
		tally, err = f.Changer.Origins.LoadDump(ctx, scratch, address, l.SQL)
		return err
	})
	return tally, err
}
