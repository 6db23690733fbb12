package origin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// repository is a folder that holds a site's own plugins and themes alone, as people keep them under version control. Its CMS is laid out
// in a folder of the site's, and what the repository holds stands in the site's cells at its place: it is worked on where it is, and
// nothing is written beside what it tracks.
func (g *Origins) repository() Source {
	release := g.release()
	files := release.Files
	release.Inspect = func(o site.Origin) (site.Found, string) {
		return site.Found{}, Unreadable(o.From, true)
	}
	release.Files = func(ctx context.Context, s site.Site, partial string) error {
		if err := files(ctx, s, partial); err != nil {
			return err
		}
		return g.layAround(ctx, s, partial)
	}
	return release
}

// parts are what a repository holds of a site: folders to stand at their places, and files to be copied there.
type parts struct{ folders, files []string }

// layAround makes the places of a repository's folders in a tree, and notes them as the site's further folders.
func (g *Origins) layAround(ctx context.Context, s site.Site, tree string) error {
	if !g.Machine.Abilities.Namespaces {
		return errors.New("this machine gives sites no cells of their own, in which a repository could stand at its place; adopt a whole folder")
	}
	k := g.Machine.CMS.Of(s)
	from, err := filepath.EvalSymlinks(s.Origin.From) // the user's own way there
	if err != nil {
		return err
	}
	held, err := partsOf(k, from, "")
	if err != nil {
		return err
	}
	if len(held.folders)+len(held.files) == 0 {
		return fmt.Errorf("%s holds nothing of %s (its %s); put this folder's path right, or choose another CMS", s.Origin.From, k.Title,
			strings.Join(containersOf(k), ", "))
	}
	allow, copied := []string{}, []string{}
	for _, place := range held.folders {
		if strings.Contains(place, "=") {
			return fmt.Errorf("%s has a = in its name, which a place cannot have; rename it", place)
		}
		if err := errors.Join(safefile.Remove(tree, place), safefile.MakeFolder(tree, place)); err != nil {
			return err
		}
		allow = append(allow, filepath.Join(from, place)+"="+place)
	}
	if faults := site.CheckSettings(s.Name, site.Settings{Allow: allow}, nil, nil, g.Machine.Home.Dir); len(faults) > 0 {
		return faults
	}
	for _, file := range held.files {
		text, err := safefile.ReadFile(from, file)
		if err != nil {
			return err
		}
		if before, err := safefile.ReadFile(tree, file); err == nil && bytes.Equal(before, text) {
			continue
		}
		if err := safefile.WriteFile(tree, file, text, 0o644); err != nil {
			return err
		}
		copied = append(copied, file)
	}
	return g.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error {
		s.Settings.Allow = allow
		if len(copied) > 0 {
			s.Notice = "copied from " + s.Origin.From + ", since files cannot stand at places of their own: " + strings.Join(copied, ", ")
		}
		return nil
	})
}

// containersOf are the folders of a CMS in which plugins and themes stand, and those that lead there.
func containersOf(k *cms.Definition) (folders []string) {
	for _, part := range k.Parts {
		for dir := part.Into; dir != "." && dir != ""; dir = path.Dir(dir) {
			if !slices.Contains(folders, dir) {
				folders = append(folders, dir)
			}
		}
	}
	slices.Sort(folders)
	return folders
}

// partsOf goes through a repository's containers: what stands in one is a part of the site. Links are none, whatever they lead to.
func partsOf(k *cms.Definition, folder, below string) (held parts, err error) {
	entries, err := ownfile.List(filepath.Join(folder, below))
	if err != nil {
		return held, err
	}
	for _, entry := range entries {
		place := path.Join(below, entry.Name())
		container := slices.Contains(containersOf(k), place)
		switch {
		case strings.HasPrefix(entry.Name(), "."), below == "" && !container:
		case entry.IsDir() && container:
			deeper, err := partsOf(k, folder, place)
			if err != nil {
				return held, err
			}
			held.folders, held.files = append(held.folders, deeper.folders...), append(held.files, deeper.files...)
		case entry.IsDir():
			held.folders = append(held.folders, place)
		case entry.Type().IsRegular():
			held.files = append(held.files, place)
		}
	}
	return held, nil
}
