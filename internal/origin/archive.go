package origin

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"vessik/internal/archive"
	"vessik/internal/cms"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// archive is somebody's archive of a release or a whole site.
func (g *Origins) archive() Source {
	return Source{
		Inspect: func(o site.Origin) (site.Found, string) {
			return site.Found{CMS: site.CMS{Name: "archive", Version: "1"}}, Unreadable(o.From, false)
		},
		Bytes: func(_ context.Context, s site.Site) (int64, error) {
			info, err := os.Stat(s.Origin.From)
			if err != nil {
				return 0, err
			}
			const unpacked = 4
			return unpacked * info.Size(), nil
		},
		Files:     g.unpack,
		Configure: func(context.Context, site.Site, cms.Facts, func(string) error) error { return nil },
		Content:   g.loadNamed,
	}
}

func (g *Origins) unpack(ctx context.Context, s site.Site, partial string) error {
	whole := partial + wholeSuffix
	defer ownfile.RemoveAll(whole)
	if err := archive.Unpack(ctx, s.Origin.From, whole, archive.Usual); err != nil {
		return err
	}
	top := archive.Top(whole)
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

// loadNamed loads the dump that a request names, if it does.
func (g *Origins) loadNamed(ctx context.Context, w *operation.Part, s site.Site) error {
	if s.Origin.SQL == "" {
		return nil
	}
	report, err := g.LoadDump(ctx, s, s.Origin.SQL, s.Origin.Address)
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
