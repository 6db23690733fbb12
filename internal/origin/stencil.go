package origin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// stencil is a saved site.
func (g *Origins) stencil() Source {
	return Source{
		Inspect: func(o site.Origin) (site.Found, string) {
			m, err := g.Stencils.Find(o.From)
			if err != nil {
				return site.Found{}, fmt.Sprintf("there is no stencil %q", o.From)
			}
			return site.Found{CMS: m.CMS, Root: m.Root, Network: m.Network, SubSites: m.SubSites, Newest: m.NewestCMS, Settings: m.Settings}, ""
		},
		Bytes: func(_ context.Context, s site.Site) (int64, error) {
			m, err := g.Stencils.Find(s.Origin.From)
			return m.FileBytes + 2*m.DatabaseBytes, err
		},
		Files:     g.drawFiles,
		Configure: g.drawConfiguration,
		Content:   g.drawContent,
	}
}

// tellShared says what of the site that a stencil was saved from is no part of it.
func (g *Origins) tellShared(ctx context.Context, s site.Site) error {
	m, err := g.Stencils.Find(s.Origin.From)
	if err != nil || len(m.Shared) == 0 {
		return err
	}
	return g.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
		s.Notice = fmt.Sprintf("the stencil holds no %s, where another folder of the machine stood; give it one with: vessik settings %s -allow "+
			"FOLDER=%s", strings.Join(m.Shared, ", "), s.Name, m.Shared[0])
		return nil
	})
}

// drawFiles lays out a stencil's files, and puts its dump where drawContent finds it.
func (g *Origins) drawFiles(ctx context.Context, s site.Site, partial string) error {
	whole := partial + wholeSuffix
	files, database, err := g.Stencils.Open(ctx, s.Origin.From, whole)
	defer ownfile.RemoveAll(whole)
	if err != nil {
		return err
	}
	if err := g.tellShared(ctx, s); err != nil {
		return err
	}
	if err := g.keepDump(s, database); err != nil {
		return err
	}
	if s.Origin.Newest {
		if err := g.exchangeCMS(ctx, s, files, whole+"/newest"); err != nil {
			return err
		}
		files = whole + "/newest"
	}
	if err := errors.Join(g.Machine.CMS.Of(s).ClearCaches(files), g.layLanguage(s, files)); err != nil {
		return err
	}
	return ownfile.Rename(files, partial)
}

// drawConfiguration has what was copied name the site's own database, with secrets of its own.
func (g *Origins) drawConfiguration(_ context.Context, s site.Site, facts cms.Facts, _ func(string) error) error {
	k := g.Machine.CMS.Of(s)
	if k.Configuration.File == "" {
		return nil
	}
	return k.DrawConfiguration(s.Folder, facts)
}

// drawContent loads a stencil's dump, with the site's own address and administrator.
func (g *Origins) drawContent(ctx context.Context, _ *operation.Part, s site.Site) error {
	m, err := g.Stencils.Find(s.Origin.From)
	if err != nil {
		return err
	}
	dump, err := ownfile.Open(g.dumpFile(s))
	if err != nil {
		return err
	}
	defer ownfile.Remove(dump.Name())
	defer dump.Close()
	return g.drawDump(ctx, s, dump, cms.Place{URL: m.URL, Folder: m.Folder}, m.Prefix, true)
}

// drawDump loads a dump of one of our own sites into another one's database; own gives it an administrator and a title of its own.
func (g *Origins) drawDump(ctx context.Context, s site.Site, dump io.Reader, from cms.Place, prefix string, own bool) error {
	to, err := g.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	pool := to.OpenAs(s.Database)
	defer pool.Close()
	k, facts := g.Machine.CMS.Of(s), g.Machine.CMSFacts(s)
	if own {
		facts.Hash = k.HashOf(s.CMS.Version, s.Administrator.Password)
	}
	report, err := k.DrawContent(ctx, pool, dump, from, prefix, facts, cms.Fitting(ctx, to, func(string, string) {}))
	if err != nil {
		return err
	}
	return g.loaded(ctx, s, report, facts.Hash)
}

// dumpFile is where the dump of a stencil or a parcel waits to be loaded.
func (g *Origins) dumpFile(s site.Site) string {
	return g.Machine.Home.Path("tmp", s.Name, "stencil.sql")
}

// keepDump has a dump wait there.
func (g *Origins) keepDump(s site.Site, dump string) error {
	if err := ownfile.Make(filepath.Dir(g.dumpFile(s)), 0o700); err != nil {
		return err
	}
	return moveFile(dump, g.dumpFile(s))
}

// exchangeCMS lays out the newest release, with what a stencil's files have of the site's own.
func (g *Origins) exchangeCMS(ctx context.Context, s site.Site, files, to string) error {
	k := g.Machine.CMS.Of(s)
	if len(k.Stencil.Own) == 0 {
		return fmt.Errorf("the CMS %s does not tell what is the site's own, so that its CMS cannot be exchanged", k.Name)
	}
	prepared, err := g.prepared(ctx, s)
	if err != nil {
		return err
	}
	if err := CopyFolder(ctx, prepared.Tree, to, k.Stencil.Own...); err != nil {
		return err
	}
	for _, own := range k.Stencil.Own {
		if _, err := os.Lstat(filepath.Join(files, own)); err != nil {
			continue
		}
		if err := ownfile.Rename(filepath.Join(files, own), filepath.Join(to, own)); err != nil {
			return err
		}
	}
	return nil
}
