// Package sending makes parcels of sites and of their restore points, and puts parcels in the place of sites.
package sending

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/internal/archive"
	"vessik/internal/change"
	"vessik/internal/cms"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/parcel"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// Feature is the parcels of one machine's sites.
type Feature struct{ Changer *change.Changer }

// Ready is a parcel that can be written.
type Ready struct {
	Name  string // of its file
	Bytes int64  // of what is packed
	Write func(ctx context.Context, to io.Writer, progress func(bytes int64)) error
	Close func()
}

// Words that stand for what a CMS has at a place of its own.
const (
	uploads = "uploads"
	caches  = "caches"
)

// Make makes ready a parcel of a site as it is now, or where point is not empty as it was at a restore point. Its database is that of one
// moment; its files are read while it is written.
func (f *Feature) Make(ctx context.Context, name, point string, asked wire.MakeParcel) (ready *Ready, err error) {
	m := f.Changer.Machine
	s, ok := m.Registry.Site(name)
	if !ok {
		return nil, site.NoSite(name)
	}
	if problems := site.CheckSettled(s); len(problems) > 0 {
		return nil, problems
	}
	dir, err := os.MkdirTemp(m.Home.Path("tmp"), ".parcel-")
	if err != nil {
		return nil, err
	}
	closing := func() { ownfile.RemoveAll(dir) }
	defer func() {
		if err != nil {
			closing()
		}
	}()
	k, form := m.CMS.Of(s), archive.TarZstd
	switch {
	case asked.Zip:
		form = archive.Zip
	case asked.Plain:
		form = archive.Tar
	}
	manifest := describe(s, m.CMSFacts(s), k)
	content := parcel.Content{Replace: map[string][]byte{}, Dump: filepath.Join(dir, "database.sql")}
	dumped := content.Dump
	if point == "" {
		content.Files, err = f.fromSite(ctx, s, content.Dump, asked.NoDatabase)
	} else {
		var done func()
		if content.Files, dumped, done, err = f.fromPoint(ctx, s, point, &manifest); err == nil {
			removing := closing
			closing = func() { done(); removing() }
		}
	}
	if err != nil {
		return nil, err
	}
	if content.LeaveOut, err = leftOut(s, k, asked.Without, content.Files); err != nil {
		return nil, err
	}
	manifest.LeftOut = content.LeaveOut
	if content.Dump, err = readdressed(dumped, content.Dump, &manifest, asked); err != nil {
		return nil, err
	}
	if err := blank(k, content); err != nil {
		return nil, err
	}
	return &Ready{Name: parcel.FileName(s.Name, form), Bytes: content.Files.Bytes() + ownfile.Size(content.Dump), Close: closing,
		Write: func(ctx context.Context, to io.Writer, progress func(int64)) error {
			return parcel.Write(ctx, to, form, manifest, content, progress)
		}}, nil
}

// Pack writes a parcel of a site as it is now; told is told of the bytes that were read, and of all.
func (f *Feature) Pack(ctx context.Context, name string, asked wire.MakeParcel, to io.Writer, told func(done, all int64)) error {
	ready, err := f.Make(ctx, name, "", asked)
	if err != nil {
		return err
	}
	defer ready.Close()
	return ready.Write(ctx, to, func(done int64) { told(done, ready.Bytes) })
}

func describe(s site.Site, facts cms.Facts, k *cms.Definition) wire.Parcel {
	return wire.Parcel{Site: s.Name, Title: s.Title, CMS: s.CMS, Root: s.Root, Configuration: k.Configuration.File, Prefix: facts.Prefix,
		Network: s.Network, SubSites: s.SubSites, URL: facts.URL, Folder: s.Folder, Stack: s.Stack,
		Settings: site.Settings{PHP: s.Settings.PHP, Extensions: s.Settings.Extensions}, MadeAt: time.Now().UTC().Truncate(time.Second)}
}

// fromSite reads a site as it is: its dump is written into a file.
func (f *Feature) fromSite(ctx context.Context, s site.Site, dump string, without bool) (files safefile.Source, err error) {
	m := f.Changer.Machine
	if !without {
		if err := running.Room(m.Home.Dir, 2*m.DatabaseBytes(ctx, s)); err != nil {
			return files, err
		}
		if err := m.DumpTo(ctx, s, dump); err != nil {
			return files, err
		}
	}
	return safefile.Folder(ctx, s.Folder, change.Keep(s)...)
}

// fromPoint reads a site as it was at a restore point.
func (f *Feature) fromPoint(ctx context.Context, s site.Site, id string, manifest *wire.Parcel) (files safefile.Source, dump string,
	done func(), err error) {
	point, err := f.Changer.Points.Find(s, id)
	if err != nil {
		return files, "", nil, err
	}
	opened, err := f.Changer.Points.Open(ctx, s.Name, point.ID)
	if err != nil {
		return files, "", nil, err
	}
	manifest.Point, manifest.URL, manifest.Folder, manifest.MadeAt = point.ID, point.URL, point.Folder, point.At
	if point.Prefix != "" {
		manifest.Prefix = point.Prefix
	}
	return opened.Files, opened.Dump, opened.Close, nil
}

// leftOut are the paths that words and paths stand for, as far as they are there; a path that somebody names must be.
func leftOut(s site.Site, k *cms.Definition, without []string, files safefile.Source) (paths []string, err error) {
	words := map[string][]string{uploads: k.Layout.Uploads, caches: slices.Concat(k.Layout.Caches, k.Stencil.LeaveOut)}
	for _, each := range without {
		named, word := words[each]
		if !word {
			named = []string{filepath.Clean(each)}
		}
		there := slices.DeleteFunc(slices.Clone(named), func(path string) bool {
			return !slices.ContainsFunc(files.All, func(e safefile.Entry) bool { return e.Path == path })
		})
		switch {
		case word && len(named) == 0:
			return nil, site.Problems{{Site: s.Name, Field: "without", Message: k.Title + " does not tell where its " + each + " are",
				Remedy: "name the path"}}
		case !word && len(there) == 0:
			return nil, site.Problems{{Site: s.Name, Field: "without", Message: fmt.Sprintf("%q is not in the site's folder", each),
				Remedy: "name uploads, caches, or a path in the site's folder"}}
		}
		paths = append(paths, there...)
	}
	slices.Sort(paths)
	return slices.Compact(paths), nil
}

// readdressed returns the file of the dump that is packed: with the address that is asked for. It is empty where none is to be packed.
func readdressed(from, to string, manifest *wire.Parcel, asked wire.MakeParcel) (dump string, err error) {
	address := strings.TrimSuffix(asked.For, "/")
	if address != "" {
		parsed, err := url.Parse(address)
		if err != nil || parsed.Host == "" || parsed.Scheme != "http" && parsed.Scheme != "https" || parsed.RawQuery+parsed.Fragment != "" ||
			parsed.User != nil {
			return "", site.Problems{{Site: manifest.Site, Field: "for", Message: fmt.Sprintf("%q is no address of a site", asked.For),
				Remedy: "write it as https://orchard.example"}}
		}
	}
	if asked.NoDatabase {
		if address != "" {
			return "", site.Problems{{Site: manifest.Site, Field: "for", Message: "addresses are in the database, which is left out",
				Remedy: "leave one of both out"}}
		}
		return "", nil
	}
	if address == "" || address == manifest.URL {
		return from, nil
	}
	rewriter := rewrite.New(manifest.URL, address)
	rewriter.SubDomains = manifest.Network == site.NetworkDomains
	next := to + ".next"
	source, err := ownfile.Open(from)
	if err != nil {
		return "", err
	}
	defer source.Close()
	target, err := ownfile.Create(next)
	if err != nil {
		return "", err
	}
	if err := errors.Join(rewriter.Dump(target, source), target.Close()); err != nil {
		return "", err
	}
	manifest.URL = address
	return to, ownfile.Rename(next, to)
}

// blank has a parcel hold the CMS's configuration without what is secret in it.
func blank(k *cms.Definition, content parcel.Content) error {
	file := k.Configuration.File
	i := slices.IndexFunc(content.Files.All, func(e safefile.Entry) bool { return e.Path == file && e.Type.IsRegular() })
	if file == "" || i < 0 {
		return nil
	}
	var text strings.Builder
	bounded := safefile.Bounded(&text, safefile.Most, fmt.Errorf("it is longer than %d MB", safefile.Most>>20))
	if err := content.Files.Write(content.Files.All[i], bounded); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	content.Replace[file] = k.BlankText([]byte(text.String()))
	return nil
}
