// Package origin is where the files and the content of sites come from: a CMS release, an archive, a folder, a stencil, another site. Each
// has a file and a Source of its own.
package origin

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/running"
	"vessik/internal/shelf"
	"vessik/internal/stencil"
)

// Origins are all that a site can be made of.
type Origins struct {
	Machine  *running.Machine
	Stock    cms.Stock
	Shelf    *shelf.Shelf
	Stencils stencil.Shelf

	seen sync.Map // what archives were recognised as, by file, size and time
}

// Source is one kind of origin.
type Source struct {
	// Inspect says what it is; fault is why it cannot be used.
	Inspect func(o site.Origin) (found site.Found, fault string)
	// Bytes is about how much its files take, as they are; Files lays them out in a folder beside the site's. nil where they are there.
	Bytes func(ctx context.Context, s site.Site) (int64, error)
	Files func(ctx context.Context, s site.Site, partial string) error
	// Configure has them name the site's own database, Content fills that; nil where there is nothing to do.
	Configure func(ctx context.Context, s site.Site, facts cms.Facts, note func(string) error) error
	Content   func(ctx context.Context, w *operation.Part, s site.Site) error
}

// of returns the source of a site's files and content.
func (g *Origins) of(kind string) (Source, error) {
	switch kind {
	case "":
		return g.release(), nil
	case site.FromArchive:
		return g.archive(), nil
	case site.FromFolder:
		return g.folder(), nil
	case site.FromRepository:
		return g.repository(), nil
	case site.FromStencil:
		return g.stencil(), nil
	case site.FromSite:
		return g.site(), nil
	case site.FromParcel:
		return g.parcel(), nil
	}
	return Source{}, fmt.Errorf("there is no origin of the kind %q", kind)
}

// Inspect tells what an origin is; fault is why it cannot be used.
func (g *Origins) Inspect(o site.Origin) (found site.Found, fault string) {
	if o.SQL != "" {
		if fault := Unreadable(o.SQL, false); fault != "" {
			return found, fault
		}
	}
	source, err := g.of(o.Kind)
	if err != nil {
		return found, err.Error()
	}
	return source.Inspect(o)
}

// Unreadable says why the service's account cannot use a file or a folder.
func Unreadable(path string, folder bool) string {
	if !filepath.IsAbs(path) {
		return fmt.Sprintf("%q is not absolute", path)
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return path + " is not there"
	case err != nil:
		return fmt.Sprintf("%s cannot be reached by the service's account (%v)", path, errors.Unwrap(err))
	case info.IsDir() != folder:
		return path + map[bool]string{true: " is no folder", false: " is a folder"}[folder]
	case !folder && info.Size() == 0:
		return path + " is empty"
	}
	const read, readAndEnter = 4, 4 | 1
	if syscall.Access(path, map[bool]uint32{true: readAndEnter, false: read}[folder]) != nil {
		return path + " cannot be read by the service's account"
	}
	return ""
}

// TouchFolder is where the user's own finishing touches are put.
func (g *Origins) TouchFolder() string { return g.Machine.Home.Path("touches") }
