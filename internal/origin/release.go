package origin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/archive"
	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/shelf"
)

// release is a CMS's own, of the engine catalogue or from the shelf.
func (g *Origins) release() Source {
	return Source{
		Inspect: func(site.Origin) (site.Found, string) { return site.Found{}, "" },
		Bytes: func(ctx context.Context, s site.Site) (int64, error) {
			prepared, err := g.prepared(ctx, s)
			if err != nil {
				return 0, err
			}
			return prepared.Bytes, nil
		},
		Files: func(ctx context.Context, s site.Site, partial string) error {
			prepared, err := g.prepared(ctx, s)
			if err != nil {
				return err
			}
			if err := CopyFolder(ctx, prepared.Tree, partial); err != nil {
				return err
			}
			return g.layLanguage(s, partial)
		},
		Configure: func(_ context.Context, s site.Site, facts cms.Facts, _ func(string) error) error {
			facts.Network = "" // it becomes one later
			return g.Machine.CMS.Of(s).Configure(facts)
		},
		Content: func(ctx context.Context, w *operation.Part, s site.Site) error {
			if s.Origin.SQL != "" {
				return g.loadNamed(ctx, w, s)
			}
			return g.loadContent(ctx, s)
		},
	}
}

func (g *Origins) prepared(ctx context.Context, s site.Site) (*cms.Prepared, error) {
	k, source, version := g.Machine.CMS.Of(s), cms.Source{}, s.CMS.Version
	if s.Origin.Kind == site.FromArchive {
		return g.preparedFrom(ctx, s, func() (string, func(), error) { return g.unpackArchive(ctx, s) })
	}
	if item, onShelf := g.ShelfRelease(s.CMS); onShelf {
		source = cms.Source{ID: "-" + item.SHA256[:8], Folder: func() (string, func(), error) { return g.unpackItem(ctx, item) }}
	} else if k.FromCatalogue() {
		release, err := g.Machine.Store.Find(s.CMS.Release())
		if err != nil {
			return nil, err
		}
		source.Packages, version = release.Root(), release.Version
	}
	return g.prepare(ctx, s, source, version)
}

// preparedFrom is a release that is in an archive of the user's own, told from others of its version by its checksum.
func (g *Origins) preparedFrom(ctx context.Context, s site.Site, folder func() (string, func(), error)) (*cms.Prepared, error) {
	sum, err := sumOf(s.Origin.From)
	if err != nil {
		return nil, err
	}
	return g.prepare(ctx, s, cms.Source{ID: "-" + sum[:8], Folder: folder}, s.CMS.Version)
}

func (g *Origins) prepare(ctx context.Context, s site.Site, source cms.Source, version string) (*cms.Prepared, error) {
	php, err := g.Machine.Store.Find(s.Stack.PHP)
	if err != nil {
		return nil, err
	}
	database, err := g.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return nil, err
	}
	return g.Stock.Prepare(ctx, g.Machine.CMS.Of(s), source, version, php, database)
}

// sumOf is a file's SHA-256.
func sumOf(path string) (string, error) {
	file, err := ownfile.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	hash := sha256.New()
	_, err = io.Copy(hash, file)
	return hex.EncodeToString(hash.Sum(nil)), err
}

func (g *Origins) loadContent(ctx context.Context, s site.Site) error {
	prepared, err := g.prepared(ctx, s)
	if err != nil {
		return err
	}
	database, err := g.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	if k := g.Machine.CMS.Of(s); k.Languages.Install && s.Language != "" && s.Language != k.Languages.Usual {
		php, err := g.Machine.Store.Find(s.Stack.PHP)
		if err != nil {
			return err
		}
		lay := func(tree string) error { return g.layLanguage(s, tree) }
		if prepared, err = g.Stock.InLanguage(ctx, prepared, s.Language, lay, php, database); err != nil {
			return err
		}
	}
	pool := database.OpenAs(s.Database)
	defer pool.Close()
	facts := g.Machine.CMSFacts(s)
	facts.Hash = g.Machine.CMS.Of(s).HashOf(s.CMS.Version, s.Administrator.Password)
	if err := prepared.Load(ctx, pool, facts); err != nil {
		return err
	}
	return g.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error { s.AdminHash = facts.Hash; return nil })
}

// EnginesOf are the engines of a site's stack, and its CMS's release where that is one of the catalogue.
func (g *Origins) EnginesOf(s site.Site) []string {
	ids, k := s.Stack.IDs(), g.Machine.CMS.Of(s)
	if _, onShelf := g.ShelfRelease(s.CMS); k.FromCatalogue() && (s.Origin.Kind == "" || s.Origin.Kind == site.FromRepository ||
		s.Origin.Newest) && !onShelf {
		ids = append(ids, s.CMS.Release())
	}
	if pack := k.LanguagePack(s.CMS.Version); pack != "" && s.Language != "" && s.Language != k.Languages.Usual {
		if slices.ContainsFunc(g.Machine.Store.Rows(), func(row engine.Row) bool { return row.ID == pack }) {
			ids = append(ids, pack)
		}
	}
	return ids
}

// Missing tells whether some of them are not here, or extensions of its PHP.
func (g *Origins) Missing(s site.Site) bool {
	return slices.ContainsFunc(g.EnginesOf(s), func(id string) bool { _, err := g.Machine.Store.Find(id); return err != nil }) ||
		len(g.Machine.Store.LacksExtensions(s.Stack.PHP, s.Settings)) > 0
}

// layLanguage adds the files of a site's language where the release does not have them.
func (g *Origins) layLanguage(s site.Site, folder string) error {
	k := g.Machine.CMS.Of(s)
	pack := k.LanguagePack(s.CMS.Version)
	if pack == "" || !slices.Contains(g.EnginesOf(s), pack) {
		return nil
	}
	e, err := g.Machine.Store.Find(pack)
	if err != nil {
		return err
	}
	names := k.LanguagesIn(filepath.Join(e.Root(), k.Languages.Pack))
	language := site.MatchLanguage(names, s.Language)
	if language == "" {
		return fmt.Errorf("%s %s has no language %q; choose one of %s", k.Title, s.CMS.Version, s.Language, strings.Join(names, ", "))
	}
	if language != s.Language { // it was asked for in short, before the languages were here
		if err := g.Machine.Registry.Edit(g.Machine.Work.Context(), s.Name,
			func(s *site.Site) error { s.Language = language; return nil }); err != nil {
			return err
		}
	}
	return k.LayLanguage(e.Root(), folder, language)
}

// LanguagesOf lists those of a version of a CMS; known is false where they have not been fetched.
func (g *Origins) LanguagesOf(of site.CMS) (names []string, known bool) {
	k := g.Machine.CMS.Definitions()[of.Name]
	if k == nil || k.Languages.Files == "" {
		return nil, true
	}
	if pack := k.LanguagePack(of.Version); pack != "" {
		if e, err := g.Machine.Store.Find(pack); err == nil {
			return k.LanguagesIn(filepath.Join(e.Root(), k.Languages.Pack)), true
		}
		return nil, false
	}
	if e, err := g.Machine.Store.Find(of.Release()); err == nil {
		return k.LanguagesIn(filepath.Join(e.Root(), k.Layout.Root, k.Languages.Folder)), true
	}
	return nil, false
}

// Languages lists those of a CMS's usual version, as far as they have been fetched.
func (g *Origins) Languages(cms string) []string {
	releases := g.Releases()[cms]
	if len(releases) == 0 {
		return nil
	}
	names, _ := g.LanguagesOf(site.CMS{Name: cms, Version: releases[0]})
	return names
}

// Releases are the versions of each CMS, the usual one first: those of the engine catalogue, and those on the shelf.
func (g *Origins) Releases() map[string][]string {
	definitions := g.Machine.CMS.Definitions()
	releases := definitions.Releases(g.Machine.Store)
	for _, item := range g.Shelf.Items(definitions) {
		if item.Kind == shelf.Release && item.Fault == "" && !slices.Contains(releases[item.CMS], item.Version) {
			releases[item.CMS] = append(releases[item.CMS], item.Version)
		}
	}
	return releases
}

// ShelfRelease is the archive of a version that is on the shelf and not in the engine catalogue.
func (g *Origins) ShelfRelease(of site.CMS) (wire.ShelfItem, bool) {
	definitions := g.Machine.CMS.Definitions()
	if slices.Contains(definitions.Releases(g.Machine.Store)[of.Name], of.Version) {
		return wire.ShelfItem{}, false
	}
	return shelf.Find(g.Shelf.Items(definitions), of.Name, shelf.Release, of.Name+"@"+of.Version)
}

// OnShelf tells whether a plugin or theme is on the shelf, and which there are.
func (g *Origins) OnShelf(cmsName, kind, asked string) (found bool, all []string) {
	_, found, all = g.FindPart(cmsName, kind, asked)
	return found, all
}

// FindPart finds a plugin or theme of the shelf by NAME or NAME@VERSION; all are the names of those that there are.
func (g *Origins) FindPart(cmsName, kind, asked string) (item wire.ShelfItem, found bool, all []string) {
	items := g.Shelf.Items(g.Machine.CMS.Definitions())
	item, found = shelf.Find(items, cmsName, kind, asked)
	for _, each := range items {
		if each.Fault == "" && each.CMS == cmsName && each.Kind == kind && !slices.Contains(all, each.Name) {
			all = append(all, each.Name)
		}
	}
	return item, found, all
}

// unpackItem unpacks a release of the shelf; done removes it again.
func (g *Origins) unpackItem(ctx context.Context, item wire.ShelfItem) (dir string, done func(), err error) {
	whole, done, err := g.unpackWhole(ctx, item)
	return filepath.Join(whole, item.Main), done, err
}

// unpackWhole unpacks an archive of the shelf; done removes it again.
func (g *Origins) unpackWhole(ctx context.Context, item wire.ShelfItem) (dir string, done func(), err error) {
	whole, err := os.MkdirTemp(g.Machine.Home.Path("tmp"), ".shelf-")
	if err != nil {
		return "", nil, err
	}
	done = func() { ownfile.RemoveAll(whole) }
	if err := archive.Unpack(ctx, g.Shelf.File(item.File), filepath.Join(whole, "files"), archive.Usual); err != nil {
		done()
		return "", nil, err
	}
	return filepath.Join(whole, "files"), done, nil
}
