package provision

import (
	"archive/zip"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/archive"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/kit"
	"vessik/internal/shelf"
)

// Releases are the versions of each kit, the usual one first: those of the engine catalogue, and those on the shelf.
func (p *Provisioner) Releases() map[string][]string {
	kits := p.Kits()
	releases := kits.Releases(p.Store)
	for _, item := range p.Shelf.Items(kits) {
		if item.Kind == shelf.Release && item.Fault == "" && !slices.Contains(releases[item.Kit], item.Version) {
			releases[item.Kit] = append(releases[item.Kit], item.Version)
		}
	}
	return releases
}

// shelfRelease is the archive of a version that is on the shelf and not in the engine catalogue.
func (p *Provisioner) shelfRelease(of site.Kit) (wire.ShelfItem, bool) {
	kits := p.Kits()
	if slices.Contains(kits.Releases(p.Store)[of.Name], of.Version) {
		return wire.ShelfItem{}, false
	}
	return shelf.Find(p.Shelf.Items(kits), of.Name, shelf.Release, of.Name+"@"+of.Version)
}

func (p *Provisioner) onShelf(kitName, kind, asked string) (found bool, all []string) {
	items := p.Shelf.Items(p.Kits())
	_, found = shelf.Find(items, kitName, kind, asked)
	for _, item := range items {
		if item.Fault == "" && item.Kit == kitName && item.Kind == kind && !slices.Contains(all, item.Name) {
			all = append(all, item.Name)
		}
	}
	return found, all
}

// unpackItem unpacks a release of the shelf; done removes it again.
func (p *Provisioner) unpackItem(ctx context.Context, item wire.ShelfItem) (dir string, done func(), err error) {
	whole, err := os.MkdirTemp(p.Home.path("tmp"), "shelf-")
	if err != nil {
		return "", nil, err
	}
	done = func() { os.RemoveAll(whole) }
	if err := archive.Unpack(ctx, p.Shelf.File(item.File), filepath.Join(whole, "files"), archive.Usual); err != nil {
		done()
		return "", nil, err
	}
	return filepath.Join(whole, "files", item.Main), done, nil
}

// addParts puts plugins and themes of the shelf into a site's folder and has the CMS activate them; a site that was drawn with a newer
// release has its database brought up to it first.
func (p *Provisioner) addParts(ctx context.Context, o *operation, s site.Site) error {
	php, err := p.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	k, facts := p.kitOf(s), p.kitFacts(s)
	if s.Origin.Newest && k.Upgrade != "" {
		o.progress(s.Name, "bringing the database up to "+s.Kit.Version, -1)
		if err := k.With(ctx, php, s, facts, "", k.Upgrade); err != nil {
			return err
		}
	}
	items := p.Shelf.Items(p.Kits())
	for _, part := range k.Parts {
		asked, mains := s.Plugins, []string{}
		if part.Kind == shelf.Theme {
			asked = s.Themes
		}
		for _, name := range asked {
			o.progress(s.Name, name, -1)
			item, ok := shelf.Find(items, k.Name, part.Kind, name)
			if !ok {
				return fmt.Errorf("there is no %s %q on the shelf any more", part.Kind, name)
			}
			if err := p.layPart(ctx, item, filepath.Join(s.Folder, part.Into, item.Name)); err != nil {
				return fmt.Errorf("%s: %w", item.File, err)
			}
			mains = append(mains, item.Main)
		}
		if len(mains) > 0 && part.Activate != "" {
			if err := k.With(ctx, php, s, facts, strings.Join(mains, ";"), part.Activate); err != nil {
				return fmt.Errorf("activate %s: %w", strings.Join(asked, ", "), err)
			}
		}
	}
	return nil
}

// layPart puts a plugin or theme where it belongs, in the place of one of the same name.
func (p *Provisioner) layPart(ctx context.Context, item wire.ShelfItem, to string) error {
	whole, err := os.MkdirTemp(filepath.Dir(to), ".vessik-part-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(whole)
	if err := archive.Unpack(ctx, p.Shelf.File(item.File), filepath.Join(whole, "files"), archive.Usual); err != nil {
		return err
	}
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	return os.Rename(filepath.Join(whole, "files", item.Name), to)
}

// exchangeCMS lays out the newest release, with what a stencil's files have of the site's own.
func (p *Provisioner) exchangeCMS(ctx context.Context, s site.Site, files, to string) error {
	k := p.kitOf(s)
	if len(k.Stencil.Own) == 0 {
		return fmt.Errorf("the kit %s does not tell what is the site's own, so that its CMS cannot be exchanged", k.Name)
	}
	prepared, err := p.prepared(ctx, s)
	if err != nil {
		return err
	}
	if err := kit.CopyTree(ctx, prepared.Tree, to, k.Stencil.Own...); err != nil {
		return err
	}
	for _, own := range k.Stencil.Own {
		if _, err := os.Lstat(filepath.Join(files, own)); err != nil {
			continue
		}
		if err := os.Rename(filepath.Join(files, own), filepath.Join(to, own)); err != nil {
			return err
		}
	}
	return nil
}

// ShelfPage is all that is on the shelf.
func (p *Provisioner) ShelfPage() wire.ShelfPage {
	return wire.ShelfPage{Folder: p.Shelf.Dir, Items: append([]wire.ShelfItem{}, p.Shelf.Items(p.Kits())...)}
}

// FetchPackage puts the plugins and themes of one of Debian's packages on the shelf, from the newest generation that has it.
func (p *Provisioner) FetchPackage(ctx context.Context, name string) ([]wire.ShelfItem, error) {
	dir, err := os.MkdirTemp(p.Home.path("tmp"), "shelf-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	version, err := p.Store.FetchPackage(ctx, name, dir)
	if err != nil {
		return nil, err
	}
	added := []wire.ShelfItem{}
	for _, k := range p.Kits() {
		for _, part := range k.Parts {
			found, _ := filepath.Glob(filepath.Join(dir, k.Layout.Root, part.Into, "*"))
			for _, folder := range found {
				if info, err := os.Stat(folder); err != nil || !info.IsDir() {
					continue
				}
				packed, err := zipFolder(folder)
				if err != nil {
					return added, err
				}
				file, err := os.Open(packed)
				if err != nil {
					return added, err
				}
				item, err := p.Shelf.Add(filepath.Base(folder)+"-"+version+".zip", file, p.Kits())
				file.Close()
				if err != nil {
					return added, fmt.Errorf("%s: %w", filepath.Base(folder), err)
				}
				added = append(added, item)
			}
		}
	}
	if len(added) == 0 {
		return nil, fmt.Errorf("the package %s holds no plugin and no theme that a kit knows", name)
	}
	return added, nil
}

// zipFolder packs a folder, under its own name, beside it; links are followed.
func zipFolder(folder string) (string, error) {
	file, err := os.Create(folder + ".zip")
	if err != nil {
		return "", err
	}
	defer file.Close()
	packed := zip.NewWriter(file)
	err = filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Stat(path)
		if err != nil || info.IsDir() {
			return nil // a link into a package that is not there
		}
		text, err := os.ReadFile(path)
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
