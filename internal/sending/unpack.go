package sending

import (
	"context"
	"errors"

	"vessik/internal/change"
	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Unpacking is the kind of a change that puts a parcel in the place of a site's files and database, by one step.
const (
	Unpacking plan.Kind = "unpack"
	Replace   plan.Step = "unpack"
)

// Kind is how a parcel is unpacked; a site that is worse off afterwards becomes what it was before.
func (f *Feature) Kind() operation.Kind {
	c := f.Changer
	return c.Kind(Unpacking, f.putBack, nil, c.FetchStep(), c.BaselineStep(), c.PointStep(),
		change.Do(Replace, "replacing files and database", f.replace), c.ProveStep(), c.SettleStep(f.settled))
}

func (f *Feature) putBack(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if err := f.Changer.PutPointBack(ctx, w, s, Replace); err != nil {
		return err
	}
	if err := ownfile.RemoveAll(f.place(w)); err != nil {
		return err
	}
	return f.Changer.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
		if s.CMS = p.Unpack.Before; s.HeldHash != "" {
			s.AdminHash, s.HeldHash = s.HeldHash, ""
		}
		return nil
	})
}

// settled forgets what the database held before.
func (f *Feature) settled(ctx context.Context, _ *operation.Part, s site.Site, _ plan.Change) error {
	return f.Changer.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error { s.HeldHash = ""; return nil })
}

// place is where a parcel lies unpacked until it is in the site's folder.
func (f *Feature) place(w *operation.Part) string {
	return f.Changer.Machine.Home.Path("restore", w.Name, w.ID(), "parcel")
}

// replace makes folder and database like the parcel's, while requests wait. What it was made without stays as it is.
func (f *Feature) replace(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	m, k := f.Changer.Machine, f.Changer.Machine.CMS.Of(s)
	said, err := parcel.Read(p.Unpack.Parcel)
	if err != nil {
		return err
	}
	if err := errors.Join(running.Room(m.Home.Dir, said.FileBytes+3*said.DatabaseBytes), running.Room(s.Folder, said.FileBytes)); err != nil {
		return err
	}
	if err := ownfile.RemoveAll(f.place(w)); err != nil {
		return err
	}
	defer ownfile.RemoveAll(f.place(w))
	opened, err := parcel.Open(ctx, p.Unpack.Parcel, f.place(w))
	if err != nil {
		return err
	}
	files, err := safefile.Folder(ctx, opened.Files)
	if err != nil {
		return err
	}
	brought := change.Content{Files: files, LeaveOut: said.LeftOut, Dump: opened.Dump,
		From: cms.Place{URL: said.URL, Folder: said.Folder}, Prefix: said.Prefix}
	switch p.Unpack.Only {
	case "files":
		brought.Dump = ""
	case "database":
		brought.Files, said.CMS = safefile.Source{}, s.CMS
	}
	return f.Changer.PutContent(ctx, w, s, brought, func() error {
		if err := m.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
			if s.CMS = said.CMS; brought.Dump != "" { // its users are the parcel's
				s.HeldHash, s.AdminHash = s.AdminHash, ""
			}
			return nil
		}); err != nil {
			return err
		}
		return k.DrawConfiguration(s.Folder, m.CMSFacts(s))
	})
}

// Unpack puts a parcel in the place of a site's files and database; a restore point is taken first. Name, domain, stack and settings stay.
func (f *Feature) Unpack(ctx context.Context, name string, asked wire.Unpack, who string) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, _, err := f.judge(name, asked.Parcel)
	if err != nil {
		return plan.Operation{}, err
	}
	return f.Changer.Begin(ctx, Unpacking, plan.Change{Site: name, Before: change.TargetOf(s), After: change.TargetOf(s), Stay: asked.Stay,
		Who: who, Unpack: &plan.Unpacking{Parcel: asked.Parcel, Only: asked.Only, Before: s.CMS}})
}

// judge says what a parcel is, and whether it can take the place of a site.
func (f *Feature) judge(name, file string) (s site.Site, said wire.Parcel, err error) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return s, said, site.NoSite(name)
	}
	problem := func(message, remedy string) error {
		return site.Problems{{Site: name, Field: "parcel", Message: message, Remedy: remedy}}
	}
	if fault := origin.Unreadable(file, parcel.IsMirror(f.Changer.Machine.Home.Dir, file)); fault != "" {
		return s, said, problem(fault, "name a parcel, as vessik parcel makes it")
	}
	said, err = parcel.Read(file)
	switch {
	case err != nil:
		return s, said, problem(err.Error(), "name a parcel, as vessik parcel makes it; a new site can be made of other archives with -archive")
	case said.CMS.Name != s.CMS.Name:
		return s, said, problem("it holds "+said.CMS.Name+", and the site is of "+s.CMS.Name,
			"make a new site of it: vessik new NAME -parcel FILE")
	case said.Network != s.Network:
		return s, said, problem("one of both is a network of sites, and the other is not or is another",
			"make a new site of it: vessik new NAME -parcel FILE")
	}
	if problems := site.CheckSettled(s); len(problems) > 0 {
		return s, said, problems
	}
	return s, said, nil
}

// Preview tells what a parcel holds that would be unpacked.
func (f *Feature) Preview(name, file string) (wire.Parcel, error) {
	_, said, err := f.judge(name, file)
	return said, err
}
