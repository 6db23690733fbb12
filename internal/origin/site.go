package origin

import (
	"context"
	"fmt"
	"io"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/safefile"
)

// site is another site, copied as it is at this moment.
func (g *Origins) site() Source {
	return Source{
		Inspect: func(o site.Origin) (site.Found, string) {
			s, ok := g.Machine.Registry.Site(o.From)
			if !ok {
				return site.Found{}, fmt.Sprintf("there is no site %q", o.From)
			}
			return site.Found{CMS: s.CMS, Root: s.Root, Network: s.Network, SubSites: s.SubSites, Stack: s.Stack, Settings: s.Settings,
				HTTPS: s.HTTPS}, ""
		},
		Bytes: func(_ context.Context, s site.Site) (int64, error) {
			source, err := g.copied(s)
			if err != nil {
				return 0, err
			}
			return safefile.Bytes(source.Folder), nil
		},
		Files: func(ctx context.Context, s site.Site, partial string) error {
			source, err := g.copied(s)
			if err != nil {
				return err
			}
			return g.CopySite(ctx, source, partial)
		},
		Configure: g.drawConfiguration,
		Content: func(ctx context.Context, _ *operation.Part, s site.Site) error {
			source, err := g.copied(s)
			if err != nil {
				return err
			}
			from, release, err := g.Machine.Pool(ctx, source)
			if err != nil {
				return err
			}
			defer release()
			reader, writer := io.Pipe()
			go func() { writer.CloseWithError(cms.Dump(ctx, from, writer)) }()
			err = g.drawDump(ctx, s, reader, cms.Place{URL: g.Machine.URL(source), Folder: source.Folder}, g.Machine.Prefix(source), true)
			reader.CloseWithError(err)
			return err
		},
	}
}

// copied is the site that another one is a copy of.
func (g *Origins) copied(s site.Site) (site.Site, error) {
	source, ok := g.Machine.Registry.Site(s.Origin.From)
	if !ok {
		return source, fmt.Errorf("the site %s is gone", s.Origin.From)
	}
	return source, nil
}

// CopySite copies a site's folder, without what its CMS makes again by itself.
func (g *Origins) CopySite(ctx context.Context, source site.Site, to string) error {
	k := g.Machine.CMS.Of(source)
	if err := CopyFolder(ctx, source.Folder, to, k.Layout.Caches...); err != nil {
		return err
	}
	return k.ClearCaches(to)
}
