package moving

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// keepUndo keeps what is at the host, and will not be after a push, until that stands.
func (f *Feature) keepUndo(m mirror, p planned) error {
	undo := planned{Folder: m.undoing("files"), Dump: m.undoing("database.sql"), Before: p.Before, CMS: p.CMS,
		Prefix: p.Prefix, Without: p.Without, Undo: true, Said: p.Said}
	if err := errors.Join(ownfile.RemoveAll(m.pushing("undo")), ownfile.Make(m.pushing("undo", "files"), 0o700)); err != nil {
		return err
	}
	for _, each := range slices.Concat(p.Put, p.Gone) {
		from := filepath.Join(m.files(), filepath.FromSlash(each))
		if !ownfile.IsThere(from) {
			undo.Gone = append(undo.Gone, each)
			continue
		}
		undo.Put = append(undo.Put, each)
		to := m.pushing("undo", "files", filepath.FromSlash(each))
		if err := errors.Join(ownfile.Make(filepath.Dir(to), 0o700), ownfile.Link(from, to)); err != nil {
			return err
		}
	}
	if ownfile.IsThere(m.baseFile()) {
		if err := ownfile.Link(m.baseFile(), m.pushing("undo", "base.json")); err != nil {
			return err
		}
	}
	if undo.Tables = p.Tables; len(undo.Tables) > 0 {
		if err := ownfile.Link(m.dump(), m.pushing("undo", "database.sql")); err != nil {
			return err
		}
	}
	return writeJSON(m.pushing("undo", "plan.json"), undo)
}

// offerUndo has a push that stands be the one that can be taken back, with what the host has since.
func (f *Feature) offerUndo(m mirror) error {
	undo, err := readPlan(m.pushing("undo", "plan.json"))
	if errors.Is(err, fs.ErrNotExist) { // nothing differed
		return nil
	}
	if err != nil {
		return err
	}
	if undo.After, err = f.state(m, undo); err != nil {
		return err
	}
	return errors.Join(writeJSON(m.pushing("undo", "plan.json"), undo), ownfile.RemoveAll(m.undoing()),
		ownfile.Rename(m.pushing("undo"), m.undoing()))
}

// state is what the mirror has of what a push concerns.
func (f *Feature) state(m mirror, p planned) (*base, error) {
	of := &base{Files: map[string]string{}, Tables: map[string]string{}}
	for _, path := range slices.Concat(p.Put, p.Gone) {
		if !ownfile.IsThere(filepath.Join(m.files(), filepath.FromSlash(path))) {
			continue
		}
		sum, err := sumOf(m.files(), path)
		if err != nil {
			return nil, err
		}
		of.Files[path] = sum
	}
	k, _ := f.behind(p)
	rows, err := m.rows(k, m.dump(), p.Prefix)
	for _, each := range p.Tables {
		of.Tables[each] = rows[each].Sum()
	}
	return of, err
}

// planBack has what was there before the last push be pushed. What was changed at the host since then would be lost: that is refused,
// unless it is said.
func (f *Feature) planBack(ctx context.Context, w *operation.Part, v *visit, overwrite bool) error {
	m := f.mirror(v.account.Name)
	undo, err := readPlan(m.undoing("plan.json"))
	if err != nil {
		return err
	}
	v.watches = !overwrite
	masked := m.fetched() != nil && m.fetched().Masked
	_, at, err := f.fetchBy(ctx, w, v, wire.Fetch{Mask: masked, Without: undo.Without}, nil)
	if err != nil {
		return err
	}
	undo.asSeen(v, at, overwrite)
	now, err := f.state(m, undo)
	if err != nil {
		return err
	}
	if undo.After == nil { // nothing is known: all of it may have been changed
		undo.After = &base{}
	}
	changed := undo.After.changed(now)
	if len(changed) > 0 && !overwrite {
		return fmt.Errorf("%d files and tables were changed at the host since that push, and would be what they were before it (%s); say "+
			"-overwrite", len(changed), strings.Join(changed[:min(len(changed), 3)], ", "))
	}
	if err := errors.Join(ownfile.RemoveAll(m.pushing()), ownfile.Make(m.pushing(), 0o700)); err != nil {
		return err
	}
	return writeJSON(m.pushing("plan.json"), undo)
}

// changed names what is another one in another state.
func (b *base) changed(now *base) (names []string) {
	for path := range union(b.Files, now.Files) {
		if b.Files[path] != now.Files[path] {
			names = append(names, path)
		}
	}
	for table := range union(b.Tables, now.Tables) {
		if b.Tables[table] != now.Tables[table] {
			names = append(names, "the table "+table)
		}
	}
	slices.Sort(names)
	return names
}

func union(a, b map[string]string) map[string]string {
	all := map[string]string{}
	maps.Copy(all, a)
	maps.Copy(all, b)
	return all
}
