package origin

import (
	"context"
	"errors"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
)

// parcel is a whole site in one file. Its users are the site's, unless an administrator of its own is asked for.
func (g *Origins) parcel() Source {
	return Source{
		Inspect: func(o site.Origin) (site.Found, string) {
			if fault := Unreadable(o.From, parcel.IsMirror(g.Machine.Home.Dir, o.From)); fault != "" {
				return site.Found{}, fault
			}
			m, err := parcel.Read(o.From)
			if err != nil {
				return site.Found{}, err.Error()
			}
			for _, id := range []*string{&m.Stack.PHP, &m.Stack.Web, &m.Stack.Database} {
				if _, err := g.Machine.Store.Lookup(*id); err != nil { // another machine had it: the usual one does
					*id = ""
				}
			}
			return site.Found{Title: m.Title, CMS: m.CMS, Root: m.Root, Network: m.Network, SubSites: m.SubSites, Stack: m.Stack,
				Settings: m.Settings}, ""
		},
		Bytes: func(_ context.Context, s site.Site) (int64, error) {
			m, err := parcel.Read(s.Origin.From)
			return m.FileBytes + 2*m.DatabaseBytes, err
		},
		Files:     g.parcelFiles,
		Configure: g.drawConfiguration,
		Content:   g.parcelContent,
	}
}

// parcelFiles lays out a parcel's files, and puts its dump where parcelContent finds it.
func (g *Origins) parcelFiles(ctx context.Context, s site.Site, partial string) error {
	whole := partial + wholeSuffix
	defer ownfile.RemoveAll(whole)
	opened, err := parcel.Open(ctx, s.Origin.From, whole)
	if err != nil {
		return err
	}
	if opened.Dump != "" {
		err = g.keepDump(s, opened.Dump)
	}
	if err = errors.Join(err, g.Machine.CMS.Of(s).ClearCaches(opened.Files), g.layLanguage(s, opened.Files)); err != nil {
		return err
	}
	return ownfile.Rename(opened.Files, partial)
}

func (g *Origins) parcelContent(ctx context.Context, _ *operation.Part, s site.Site) error {
	m, err := parcel.Read(s.Origin.From)
	if err != nil || !m.Database {
		return err
	}
	dump, err := ownfile.Open(g.dumpFile(s))
	if err != nil {
		return err
	}
	defer ownfile.Remove(dump.Name())
	defer dump.Close()
	if err := g.drawDump(ctx, s, dump, cms.Place{URL: m.URL, Folder: m.Folder}, m.Prefix, s.Origin.OwnAdministrator); err != nil ||
		s.Title == m.Title {
		return err
	}
	pool, release, err := g.Machine.Pool(ctx, s)
	if err != nil {
		return err
	}
	defer release()
	return g.Machine.CMS.Of(s).SetTitle(ctx, pool, g.Machine.CMSFacts(s))
}
