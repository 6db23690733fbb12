package shelf

import (
	"archive/zip"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"vessik/internal/cms"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/home"
	"vessik/internal/ownfile"
)

// Feature is the shelf of one machine, filled also from Debian's packages.
type Feature struct {
	Shelf *Shelf
	Home  home.Home
	Store engine.Store
	CMS   *cms.Library
}

// FetchPackage puts the plugins and themes of one of Debian's packages on the shelf, from the newest generation that has it.
func (f *Feature) FetchPackage(ctx context.Context, name string) ([]wire.ShelfItem, error) {
	dir, err := os.MkdirTemp(f.Home.Path("tmp"), ".shelf-")
	if err != nil {
		return nil, err
	}
	defer ownfile.RemoveAll(dir)
	version, err := f.Store.FetchPackage(ctx, name, dir)
	if err != nil {
		return nil, err
	}
	added := []wire.ShelfItem{}
	for _, k := range f.CMS.Definitions() {
		for _, part := range k.Parts {
			found := ownfile.Find(filepath.Join(dir, k.Layout.Root, part.Into, "*"))
			for _, folder := range found {
				if info, err := os.Stat(folder); err != nil || !info.IsDir() {
					continue
				}
				packed, err := zipFolder(folder)
				if err != nil {
					return added, err
				}
				file, err := ownfile.Open(packed)
				if err != nil {
					return added, err
				}
				item, err := f.Shelf.Add(filepath.Base(folder)+"-"+version+".zip", file, f.CMS.Definitions())
				file.Close()
				if err != nil {
					return added, fmt.Errorf("%s: %w", filepath.Base(folder), err)
				}
				added = append(added, item)
			}
		}
	}
	if len(added) == 0 {
		return nil, fmt.Errorf("the package %s holds no plugin and no theme that a CMS knows", name)
	}
	return added, nil
}

// zipFolder packs a folder, under its own name, beside it; links are followed.
func zipFolder(folder string) (string, error) {
	file, err := ownfile.Create(folder + ".zip")
	if err != nil {
		return "", err
	}
	defer file.Close()
	packed := zip.NewWriter(file)
	err = ownfile.Walk(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Stat(path)
		if err != nil || info.IsDir() {
			return nil // a link into a package that is not there
		}
		text, err := ownfile.Read(path)
		if err != nil {
			return err
		}
		relative, err := filepath.Rel(filepath.Dir(folder), path)
		if err != nil {
			return err
		}
		target, err := packed.Create(filepath.ToSlash(relative))
		if err == nil {
			_, err = target.Write(text)
		}
		return err
	})
	if err != nil {
		return "", err
	}
	return file.Name(), packed.Close()
}

// Page is all that is on the shelf.
func (f *Feature) Page() wire.ShelfPage {
	return wire.ShelfPage{Folder: f.Shelf.Dir, Items: append([]wire.ShelfItem{}, f.Shelf.Items(f.CMS.Definitions())...)}
}
