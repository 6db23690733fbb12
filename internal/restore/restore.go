// Package restore takes restore points of sites when somebody asks for one, and leads sites back to them.
package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"vessik/internal/change"
	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/points"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Kinds of operations: one takes a restore point, the other leads a site back to one.
const (
	Make plan.Kind = "make-point"
	Back plan.Kind = "go-back"
)

// Replace makes a site's folder and database what they were.
const Replace plan.Step = "replace-site"

// Feature is the restore points of one machine's sites.
type Feature struct{ Changer *change.Changer }

// Kinds are how points are taken and gone back to; a site that is worse off afterwards becomes what it was before.
func (f *Feature) Kinds() []operation.Kind {
	c := f.Changer
	return []operation.Kind{
		{Name: Make, OnFailure: operation.TakeBack, Recover: plan.Always(plan.TakeBack), Again: "make it again", Steps: []operation.Step{
			{Name: points.Step, Title: "taking a restore point", Do: f.take,
				Undo: func(_ context.Context, w *operation.Part, _ string) error { return c.Points.Drop(w) }}}},
		c.Kind(Back, func(ctx context.Context, w *operation.Part, s site.Site, _ plan.Change) error {
			return c.PutPointBack(ctx, w, s, Replace)
		}, nil, c.FetchStep(), c.BaselineStep(), c.PointStep(), change.Do(Replace, "replacing files and database", f.replace), c.ProveStep(),
			c.SettleStep(nil)),
	}
}

func (f *Feature) take(ctx context.Context, w *operation.Part) error {
	s, err := w.Site()
	if err != nil {
		return err
	}
	asked, err := operation.Payload[points.Point](w)
	if err != nil {
		return err
	}
	_, err = f.Changer.Points.Take(ctx, w, s, asked, "")
	return err
}

// replace makes folder and database like the point's, while requests wait. The configuration names the site's database as it is now.
func (f *Feature) replace(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	m, k := f.Changer.Machine, f.Changer.Machine.CMS.Of(s)
	point, err := f.Changer.Points.Find(s, p.Back)
	if err != nil {
		return err
	}
	content, err := f.Changer.Points.Open(ctx, s.Name, point.ID)
	if err != nil {
		return err
	}
	defer content.Close()
	room := errors.Join(running.Room(s.Folder, content.Files.Bytes()), running.Room(m.Home.Dir, 2*m.DatabaseBytes(ctx, s)))
	if room != nil {
		return room
	}
	then := change.Content{Files: content.Files, Dump: content.Dump, From: point.Place(), Prefix: cmp.Or(point.Prefix, s.Prefix)}
	return f.Changer.PutContent(ctx, w, s, then, func() error {
		if err := k.Reconfigure(s.Folder, s.Database, m.CMSFacts(s).Port); err != nil {
			return err
		}
		return k.Redomain(s.Folder, m.CMSFacts(s))
	})
}

// List tells a site's points, the newest first.
func (f *Feature) List(name string) ([]wire.RestorePoint, error) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return nil, site.NoSite(name)
	}
	all, err := f.Changer.Points.List(s)
	if err != nil {
		return nil, err
	}
	seen := make([]wire.RestorePoint, len(all))
	for i, p := range all {
		seen[i] = wire.RestorePoint{ID: p.ID, At: p.At, Who: p.Who, Note: p.Note, Kept: p.Kept, Bytes: p.Stored}
	}
	return seen, nil
}

// Verify reads all that a site's points are made of, and tells what is damaged.
func (f *Feature) Verify(ctx context.Context, name string) (wire.VerifiedPoints, error) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return wire.VerifiedPoints{}, site.NoSite(name)
	}
	damages, points, blobs, err := f.Changer.Points.Verify(ctx, s)
	verified := wire.VerifiedPoints{Points: points, Blobs: blobs, Damaged: []wire.DamagedPoint{}}
	for _, d := range damages {
		verified.Damaged = append(verified.Damaged, wire.DamagedPoint{ID: d.ID, Files: orEmpty(d.Files)})
	}
	return verified, err
}

// Make takes a point that stays until it is dropped; the operation goes on after it returns.
func (f *Feature) Make(ctx context.Context, name, note, who string) (plan.Operation, error) {
	return f.begin(ctx, name, points.Point{Who: who, Note: strings.TrimSpace(note), Kept: true})
}

// ready is a site that nothing is being done with.
func (f *Feature) ready(name string) (site.Site, error) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return s, site.NoSite(name)
	}
	if problems := site.CheckSettled(s); len(problems) > 0 {
		return s, problems
	}
	return s, nil
}

// GoBack leads a site back to a point: files and database. Name, domain, stack and settings stay. A point of how it is now is taken first.
func (f *Feature) GoBack(ctx context.Context, name, id string, stay bool, who string) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, err := f.ready(name)
	if err != nil {
		return plan.Operation{}, err
	}
	point, err := f.Changer.Points.Find(s, id)
	if err != nil {
		return plan.Operation{}, err
	}
	return f.Changer.Begin(ctx, Back, plan.Change{Site: name, Before: change.TargetOf(s), After: change.TargetOf(s), Stay: stay, Who: who,
		Back: point.ID})
}

// Preview tells what going back would change, and changes nothing.
func (f *Feature) Preview(ctx context.Context, name, id string) (preview wire.RestorePreview, err error) {
	s, err := f.ready(name)
	if err != nil {
		return preview, err
	}
	point, err := f.Changer.Points.Find(s, id)
	if err != nil {
		return preview, err
	}
	content, err := f.Changer.Points.Open(ctx, name, point.ID)
	if err != nil {
		return preview, err
	}
	defer content.Close()
	m := f.Changer.Machine
	leaveOut := change.Keep(s)
	leaveOut = append(leaveOut, m.CMS.Of(s).Layout.Caches...)
	difference, err := safefile.Compare(ctx, content.Files, s.Folder, leaveOut...)
	if err != nil {
		return preview, err
	}
	preview.NewFiles, preview.ChangedFiles, preview.GoneFiles = orEmpty(difference.New), orEmpty(difference.Changed), orEmpty(difference.Gone)
	pool, release, err := m.Pool(ctx, s)
	if err != nil {
		return preview, err
	}
	defer release()
	now, err := cms.Sums(ctx, pool)
	if err != nil {
		return preview, err
	}
	err = m.Aside(ctx, s, func(scratch site.Site) error {
		if _, err := f.Changer.RefillFrom(ctx, scratch, content.Dump, point.Place(),
			cmp.Or(point.Prefix, s.Prefix)); err != nil {
			return err
		}
		pool, release, err := m.Pool(ctx, scratch)
		if err != nil {
			return err
		}
		defer release()
		then, err := cms.Sums(ctx, pool)
		preview.Tables = orEmpty(cms.Compare(now, then))
		return err
	})
	return preview, err
}

func orEmpty(texts []string) []string { return append([]string{}, texts...) }

// Drop removes a point.
func (f *Feature) Drop(name, id string) error {
	dropped, err := f.setAside(name, id)
	if err != nil {
		return err
	}
	return f.Changer.Points.Remove(name, dropped)
}

// setAside takes a point out of those that there are, in a moment; removing what it holds may take longer.
func (f *Feature) setAside(name, id string) (aside string, err error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	s, err := f.ready(name)
	if err != nil {
		return "", err
	}
	if f.Changer.Operations.Busy(name) {
		return "", fmt.Errorf("%s: %w; wait until nothing is being done with it", name, operation.ErrBusy)
	}
	point, err := f.Changer.Points.Find(s, id)
	if err != nil {
		return "", err
	}
	return f.Changer.Points.SetAside(name, point.ID)
}
