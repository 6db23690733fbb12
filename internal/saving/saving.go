// Package saving saves sites as stencils.
package saving

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/picture"
	"vessik/internal/running"
	"vessik/internal/safefile"
	"vessik/internal/stencil"
)

// Kind is that of an operation that saves a site as a stencil, which has one step.
const (
	Kind     plan.Kind = "save-stencil"
	saveStep plan.Step = "save-stencil"
)

// Feature saves sites as stencils.
type Feature struct {
	Shelf      stencil.Shelf
	Machine    *running.Machine
	Operations *operation.Runner
}

// Kind is how a site is saved.
func (f *Feature) Kind() operation.Kind {
	return operation.Kind{Name: Kind, Show: operation.ShowAs[plan.Saving], Steps: []operation.Step{
		{Name: saveStep, Title: "saving the stencil", Do: func(ctx context.Context, w *operation.Part) error {
			s, err := w.Site()
			if err != nil {
				return err
			}
			asked, err := operation.Payload[plan.Saving](w)
			if err != nil {
				return err
			}
			return f.save(ctx, w, s, asked)
		}}}}
}

// Save saves a site as a stencil; the operation goes on after it returns.
func (f *Feature) Save(ctx context.Context, name string, asked plan.Saving) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	if _, ok := f.Machine.Registry.Site(name); !ok {
		return plan.Operation{}, site.NoSite(name)
	}
	problem := func(message, remedy string) error {
		return site.Problems{{Site: name, Field: "as", Message: message, Remedy: remedy}}
	}
	if err := stencil.CheckName(asked.Name); err != nil {
		return plan.Operation{}, problem(err.Error(), "choose a name such as garden-basics")
	}
	if _, err := f.Shelf.Find(asked.Name); err == nil {
		return plan.Operation{}, problem(fmt.Sprintf("there is a stencil %q already", asked.Name), "drop it first, or choose another name")
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: Kind, Payload: asked,
		Names: []string{name}, Steps: map[string][]plan.Step{name: {saveStep}}})
}

// save carries it out: the database is copied aside, freed of what is secret, and packed with the files.
func (f *Feature) save(ctx context.Context, w *operation.Part, s site.Site, asked plan.Saving) error {
	if err := running.Room(f.Machine.Home.Dir, safefile.Bytes(s.Folder)+3*f.Machine.DatabaseBytes(ctx, s)); err != nil {
		return err
	}
	k, facts := f.Machine.CMS.Of(s), f.Machine.CMSFacts(s)
	dir, err := os.MkdirTemp(f.Machine.Home.Path("tmp"), ".stencil-")
	if err != nil {
		return err
	}
	defer ownfile.RemoveAll(dir)
	source := stencil.Source{Folder: s.Folder, LeaveOut: append(slices.Clone(k.Layout.Caches), k.Stencil.LeaveOut...),
		Replace:  map[string][]byte{},
		Database: filepath.Join(dir, "database.sql")}
	file, err := ownfile.Create(source.Database)
	if err != nil {
		return err
	}
	w.Progress("copying the database", -1)
	if err := errors.Join(f.Machine.DumpWithoutSecrets(ctx, s, file), file.Close()); err != nil {
		return err
	}
	if k.Configuration.File != "" {
		blank, err := k.Blank(s.Folder)
		if err != nil {
			return err
		}
		source.Replace[k.Configuration.File] = blank
	}
	if picture.Browser() != "" && s.State == site.Running {
		w.Progress("taking a picture", -1)
		if taken, err := f.Machine.Pictures.Take(ctx, s.URL(f.Machine.Gateway()), picture.Upper); err == nil {
			source.Picture = filepath.Join(dir, "picture.jpg")
			if err := picture.Save(source.Picture, taken); err != nil {
				return err
			}
		}
	}
	m := stencil.Manifest{Format: stencil.Format, Name: asked.Name, Description: asked.Description, NewestCMS: asked.NewestCMS, From: s.Name,
		Title: s.Title,
		CMS:   s.CMS, Root: s.Root, Prefix: facts.Prefix, URL: facts.URL, Folder: s.Folder, Network: s.Network, SubSites: s.SubSites,
		Stack: s.Stack, CreatedAt: time.Now().UTC().Truncate(time.Second)}
	for _, shared := range s.Settings.Bound() {
		m.Shared = append(m.Shared, shared.Place)
	}
	if asked.Settings { // what names folders, ports or limits of this machine stays here
		m.Settings = site.Settings{PHP: s.Settings.PHP, Extensions: s.Settings.Extensions}
	}
	all := safefile.Bytes(s.Folder) + f.Machine.DatabaseBytes(ctx, s)
	_, err = f.Shelf.Save(ctx, m, source, func(done int64) {
		w.Progress("packing", min(float64(done)/float64(max(all, 1)), 1))
	})
	return err
}
