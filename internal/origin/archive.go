package origin

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"vessik/internal/archive"
	"vessik/internal/cms"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// archive is somebody's archive of a release or a whole site. What the CMS definitions recognise becomes a site of that CMS: a release is
// installed without its own installer, a whole site's configuration names the site's own database. Anything else is laid out as it is.
func (g *Origins) archive() Source {
	return Source{
		Inspect: func(o site.Origin) (site.Found, string) {
			if fault := unreadable(o.From); fault != "" {
				return site.Found{CMS: site.CMS{Name: site.ArchiveCMS, Version: "1"}}, fault
			}
			several := len(Archives(o.From)) > 1
			if !several {
				if found, fault := g.parcel().Inspect(o); fault == "" {
					found.Parcel = true
					return found, ""
				}
			}
			if b := g.backupIn(o.From); b.cms != nil {
				fault := ""
				if o.SQL == "" {
					_, fault = b.dump(o.Dump)
				}
				return site.Found{CMS: site.CMS{Name: b.cms.Name, Version: b.version}, Root: b.cms.Layout.DocumentRoot}, fault
			}
			fault := ""
			if several {
				fault = "none of these archives holds a CMS that Vessik knows, into which the others would go"
			}
			return site.Found{CMS: site.CMS{Name: site.ArchiveCMS, Version: "1"}}, fault
		},
		Bytes: func(_ context.Context, s site.Site) (int64, error) {
			bytes, err := bytesOf(s.Origin.From)
			const unpacked = 4
			return unpacked * bytes, err
		},
		Files: g.layArchive,
		Configure: func(ctx context.Context, s site.Site, facts cms.Facts, note func(string) error) error {
			switch {
			case s.CMS.Name == site.ArchiveCMS:
				return nil
			case s.Origin.Release:
				return g.Machine.CMS.Of(s).Configure(facts)
			}
			return g.nameDatabase(ctx, s, facts)
		},
		Content: func(ctx context.Context, w *operation.Part, s site.Site) error {
			if s.Origin.Release {
				return g.loadContent(ctx, s)
			}
			if s.Origin.SQL == "" {
				return g.loadBackup(ctx, s)
			}
			return g.loadNamed(ctx, w, s)
		},
	}
}

// passingLinks are the bounds of what somebody else has packed.
var passingLinks = func() archive.Limits {
	limits := archive.Usual
	limits.PassLinks = true
	return limits
}()

// layArchive lays an archive out: a release as it was made ready, anything else as it is.
func (g *Origins) layArchive(ctx context.Context, s site.Site, partial string) error {
	whole := partial + wholeSuffix
	defer ownfile.RemoveAll(whole)
	if err := unpackAll(ctx, s.Origin.From, whole); err != nil {
		return err
	}
	top := archive.Top(whole)
	if k := g.Machine.CMS.Of(s); s.CMS.Name != site.ArchiveCMS {
		b := g.backupIn(s.Origin.From)
		one, fault := b.dump(s.Origin.Dump)
		if top = filepath.Join(whole, filepath.FromSlash(b.top)); s.Origin.SQL == "" {
			if fault != "" {
				return errors.New(fault)
			}
			if err := g.keepBackup(s, whole, one); err != nil {
				return err
			}
		}
		if err := join(k, s.Origin.From, whole, top, b.dumps); err != nil {
			return err
		}
		_, err := os.Lstat(filepath.Join(top, k.Configuration.File))
		s.Origin.Release = s.Origin.SQL == "" && len(one.names) == 0 && k.Install.Script != "" && errors.Is(err, fs.ErrNotExist)
		s.Prefix = cmp.Or(s.Prefix, cms.Prefix())
		if err := g.Machine.Registry.Edit(ctx, s.Name, func(now *site.Site) error {
			if now.Origin.Release = s.Origin.Release; s.Origin.Release {
				now.Prefix = s.Prefix
			}
			return nil
		}); err != nil {
			return err
		}
		if !s.Origin.Release {
			return ownfile.Rename(top, partial)
		}
		prepared, err := g.preparedFrom(ctx, s, func() (string, func(), error) { return top, func() {}, nil })
		if err != nil {
			return err
		}
		return CopyFolder(ctx, prepared.Tree, partial)
	}
	root, ok := archive.DocumentRoot(top)
	if !ok {
		return fmt.Errorf("%s holds no index.php at its top, nor in public, web or htdocs: it is no release of a PHP CMS",
			filepath.Base(s.Origin.From))
	}
	if err := g.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error { s.Root = root; return nil }); err != nil {
		return err
	}
	return ownfile.Rename(top, partial)
}

// unpackArchive unpacks a release that is an archive of the user's own; done removes it again.
func (g *Origins) unpackArchive(ctx context.Context, s site.Site) (dir string, done func(), err error) {
	whole, err := os.MkdirTemp(g.Machine.Home.Path("tmp"), ".archive-")
	if err != nil {
		return "", nil, err
	}
	done = func() { ownfile.RemoveAll(whole) }
	if err := archive.Unpack(ctx, s.Origin.From, filepath.Join(whole, "files"), archive.Usual); err != nil {
		done()
		return "", nil, err
	}
	return archive.Top(filepath.Join(whole, "files")), done, nil
}

// loadNamed loads the dump that a request names, if it does.
func (g *Origins) loadNamed(ctx context.Context, w *operation.Part, s site.Site) error {
	if s.Origin.SQL == "" {
		return nil
	}
	report, err := g.LoadDump(ctx, s, s.Origin.Address, s.Origin.SQL)
	if err != nil {
		return err
	}
	return g.loaded(ctx, s, report, "")
}

// loaded tells what was re-addressed, and keeps what the database now holds for the administrator's password.
func (g *Origins) loaded(ctx context.Context, s site.Site, report rewrite.Tally, hash string) error {
	g.Machine.Log.Info("re-addressed", "site", s.Name, "report", report.String())
	return g.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error { s.AdminHash = hash; return nil })
}
