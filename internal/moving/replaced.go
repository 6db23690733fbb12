package moving

import (
	"context"
	"path/filepath"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
)

// mostReplaced is how many files are named that a pull replaces.
const mostReplaced = 20

// replaced tells what was changed in a site since the last move, and is not at the host: a pull over it would lose it, but for its restore
// point. Nothing is told where the account was never fetched.
func (f *Feature) replaced(ctx context.Context, w *operation.Part, account string, at found, asked wire.Fetch) (*wire.PullReplaces, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(asked.Into))
	m := f.mirror(account)
	said, err := parcel.Read(m.dir)
	if !known || err != nil || said.CMS.Name != s.CMS.Name {
		return nil, nil
	}
	w.Progress("looking at what was changed here", -1)
	if err := f.settled(ctx, account); err != nil {
		return nil, err
	}
	c := &comparing{f: f, m: m, s: s, at: at, base: m.base(s), said: said,
		preview: &wire.Pushed{Files: []wire.PushedFile{}, Tables: []wire.PushedTable{}}}
	fetched := m.fetched()
	c.asked.People = !c.base.Masked && !asked.Mask && (fetched == nil || !fetched.Masked)
	folder := filepath.Join(m.dir, "replaced")
	if err := ownfile.RemoveAll(folder); err != nil {
		return nil, err
	}
	if err := ownfile.Make(folder, 0o700); err != nil {
		return nil, err
	}
	defer ownfile.RemoveAll(folder)
	c.plan.Dump = filepath.Join(folder, "database.sql")
	k := f.Machine.CMS.Of(s)
	if err := c.files(ctx, k); err != nil {
		return nil, err
	}
	if err := c.tables(ctx, k); err != nil {
		return nil, err
	}
	p := c.preview
	result := &wire.PullReplaces{Files: p.New + p.Changed + p.Gone, Names: []string{}, Tables: p.Tables}
	for _, file := range p.Files[:min(len(p.Files), mostReplaced)] {
		result.Names = append(result.Names, file.Path)
	}
	return result, nil
}
