// Package restore keeps restore points: a site's files and database as they were at one moment.
package restore

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Point is the step that takes one.
const Point plan.Step = "restore-point"

// Points are those of the sites of one machine.
type Points struct{ Machine *running.Machine }

// Drop removes the one that an operation has taken, whole or in part.
func (p *Points) Drop(w *operation.Part) error {
	return ownfile.RemoveAll(p.Machine.Home.Path("restore", w.Name, w.ID()))
}

const restorePointsKept = 2

// Take copies a site's files and dumps its database, and returns the folder of both; the newest two stay.
func (p *Points) Take(ctx context.Context, w *operation.Part, s site.Site) (place string, err error) {
	dir := p.Machine.Home.Path("restore", s.Name)
	place = filepath.Join(dir, w.ID())
	if err := running.Room(p.Machine.Home.Dir, safefile.Bytes(s.Folder)+p.Machine.DatabaseBytes(ctx, s)); err != nil {
		return "", err
	}
	if err := ownfile.Make(dir, 0o700); err != nil {
		return "", err
	}
	if err := ownfile.RemoveAll(place); err != nil {
		return "", err
	}
	if err := ownfile.MakeNew(place, 0o700); err != nil {
		return "", err
	}
	if err := p.Machine.DumpTo(ctx, s, filepath.Join(place, "database.sql")); err != nil {
		return "", err
	}
	if err := origin.CopyFolder(ctx, s.Folder, filepath.Join(place, "files")); err != nil {
		return "", err
	}
	older, err := ownfile.List(dir)
	if err != nil {
		return "", err
	}
	slices.SortFunc(older, func(a, b os.DirEntry) int { return site.CompareVersions(b.Name(), a.Name()) })
	for _, entry := range older[min(len(older), restorePointsKept):] {
		if err := ownfile.RemoveAll(filepath.Join(dir, entry.Name())); err != nil {
			return "", err
		}
	}
	return place, nil
}
