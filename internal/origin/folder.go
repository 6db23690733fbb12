package origin

import (
	"context"
	"errors"
	"io/fs"

	"vessik/internal/archive"
	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// folder is one that is there already: it becomes the site's, and is given back as it was.
func (g *Origins) folder() Source {
	return Source{
		Inspect: func(o site.Origin) (site.Found, string) {
			if fault := Unreadable(o.From, true); fault != "" {
				return site.Found{Bare: fault}, fault
			}
			if known, version := g.Machine.CMS.Definitions().Recognised(o.From); known != nil {
				return site.Found{CMS: site.CMS{Name: known.Name, Version: version}, Root: known.Layout.DocumentRoot, Recognised: true}, ""
			}
			root, ok := archive.DocumentRoot(o.From)
			if !ok {
				return site.Found{}, o.From + " has no index.php, nor has public, web or htdocs in it; where it holds parts of a site alone, " +
					"name its CMS"
			}
			return site.Found{CMS: site.CMS{Name: "archive", Version: "1"}, Root: root}, ""
		},
		Configure: g.adopt,
		Content:   g.loadNamed,
	}
}

// wrote begins the note of a configuration that was not there before.
const wrote = "wrote "

// adopt has a folder's own configuration name the site's database; what it was is kept.
func (g *Origins) adopt(ctx context.Context, s site.Site, facts cms.Facts, note func(string) error) error {
	k := g.Machine.CMS.Of(s)
	if k.Configuration.File == "" {
		return nil
	}
	before, err := safefile.ReadFile(s.Folder, k.Configuration.File)
	if errors.Is(err, fs.ErrNotExist) {
		if err := note(wrote + k.Configuration.File); err != nil {
			return err
		}
		return k.Configure(facts)
	}
	if err != nil {
		return err
	}
	if err := ownfile.Write(g.keptConfiguration(s), before, 0o600); err != nil {
		return err
	}
	if err := note("changed " + k.Configuration.File + " to name the site's own database"); err != nil {
		return err
	}
	return g.nameDatabase(ctx, s, facts)
}

// nameDatabase has the configuration that is in a site's folder name the site's own database, or writes one.
func (g *Origins) nameDatabase(ctx context.Context, s site.Site, facts cms.Facts) error {
	k := g.Machine.CMS.Of(s)
	values, err := k.Values(s.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return k.Configure(facts)
	}
	if err != nil {
		return err
	}
	if err := k.Reconfigure(s.Folder, s.Database, facts.Port); err != nil {
		return err
	}
	return g.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
		if values["prefix"] != "" {
			s.Prefix = values["prefix"]
		}
		return nil
	})
}

// keptConfiguration is where the configuration of an adopted folder is kept as it was.
func (g *Origins) keptConfiguration(s site.Site) string {
	return g.Machine.Home.Path("kept", s.Name+".configuration")
}

// GiveBack puts an adopted folder back to what it was.
func (g *Origins) GiveBack(s site.Site) error {
	if s.Origin.Kind != site.FromFolder {
		return nil
	}
	k := g.Machine.CMS.Of(s)
	before, err := ownfile.Read(g.keptConfiguration(s))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := k.GiveBack(s.Folder, before); err != nil {
		return err
	}
	return ownfile.Remove(g.keptConfiguration(s))
}

// Changes says in words what would be changed in a folder that becomes a site's.
func (g *Origins) Changes(s site.Site) (changes []string) {
	k := g.Machine.CMS.Of(s)
	if s.Origin.Kind != site.FromFolder || k.Configuration.File == "" {
		return nil
	}
	names, err := k.Named(s.Folder)
	if err != nil {
		changes = append(changes, k.Configuration.File+" is written")
	}
	for _, name := range names {
		changes = append(changes, k.Configuration.File+": "+name)
	}
	return changes
}
