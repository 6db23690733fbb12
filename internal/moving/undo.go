package moving

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/running"
)

// keepUndo keeps what is at the host, and will not be after a push.
func (f *Feature) keepUndo(ctx context.Context, m mirror, p planned) error {
	if err := errors.Join(ownfile.RemoveAll(m.undoing()), ownfile.Make(m.undoing("files"), 0o700)); err != nil {
		return err
	}
	undo := planned{Folder: m.undoing("files"), Dump: m.undoing("database.sql"), Before: p.Before, Title: p.Title, CMS: p.CMS,
		Prefix: p.Prefix, Without: p.Without, Undo: true, Said: p.Said}
	for _, each := range slices.Concat(p.Put, p.Gone) {
		if !ownfile.IsThere(filepath.Join(m.files(), filepath.FromSlash(each))) {
			undo.Gone = append(undo.Gone, each)
			continue
		}
		undo.Put = append(undo.Put, each)
		to := filepath.Join(undo.Folder, filepath.FromSlash(each))
		if err := errors.Join(ownfile.Make(filepath.Dir(to), 0o700),
			ownfile.Link(filepath.Join(m.files(), filepath.FromSlash(each)), to)); err != nil {
			return err
		}
	}
	if ownfile.IsThere(m.baseFile()) {
		if err := ownfile.Link(m.baseFile(), m.undoing("base.json")); err != nil {
			return err
		}
	}
	if undo.Tables = p.Tables; len(undo.Tables) > 0 {
		if err := running.Room(m.dir, ownfile.Size(m.dump())); err != nil {
			return err
		}
		if err := ownfile.Link(m.dump(), undo.Dump); err != nil {
			return err
		}
	}
	return writeJSON(m.undoing("plan.json"), undo)
}

// planBack has what was there before the last push be pushed. What was changed at the host since then would be lost: that is refused,
// unless it is said.
func (f *Feature) planBack(ctx context.Context, w *operation.Part, v *visit, overwrite bool) error {
	m := f.mirror(v.account.Name)
	undo, err := readPlan(m.undoing("plan.json"))
	if err != nil {
		return err
	}
	k, _ := f.behind(undo)
	files := slices.Concat(undo.Put, undo.Gone)
	pushed, err := m.sums(files)
	if err != nil {
		return err
	}
	rows, err := m.rows(k, m.dump(), undo.Prefix)
	if err != nil {
		return err
	}
	masked := m.fetched() != nil && m.fetched().Masked
	if _, _, err := f.fetchBy(ctx, w, v, wire.Fetch{Mask: masked, Without: undo.Without}, nil); err != nil {
		return err
	}
	now, err := m.sums(files)
	if err != nil {
		return err
	}
	rowsNow, err := m.rows(k, m.dump(), undo.Prefix)
	if err != nil {
		return err
	}
	changed := []string{}
	for _, each := range files {
		if pushed[each] != now[each] {
			changed = append(changed, each)
		}
	}
	for _, each := range undo.Tables {
		if rows[each].Sum() != rowsNow[each].Sum() {
			changed = append(changed, "the table "+each)
		}
	}
	if len(changed) > 0 && !overwrite {
		return fmt.Errorf("%d files and tables were changed at the host since that push, and would be what they were before it (%s); say "+
			"-overwrite",
			len(changed), strings.Join(changed[:min(len(changed), 3)], ", "))
	}
	if err := errors.Join(ownfile.RemoveAll(m.pushing()), ownfile.Make(m.pushing(), 0o700)); err != nil {
		return err
	}
	return writeJSON(m.pushing("plan.json"), undo)
}

// sums tells the SHA-256 of files of the mirror; nothing of those that are not there.
func (m mirror) sums(paths []string) (map[string]string, error) {
	all := map[string]string{}
	for _, path := range paths {
		if !ownfile.IsThere(filepath.Join(m.files(), filepath.FromSlash(path))) {
			continue
		}
		sum, err := sumOf(m.files(), path)
		if err != nil {
			return nil, err
		}
		all[path] = sum
	}
	return all, nil
}
