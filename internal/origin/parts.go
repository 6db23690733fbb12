package origin

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"vessik/internal/archive"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/shelf"
)

// addParts puts plugins and themes of the shelf into a site's folder and has the CMS activate them; a site that was drawn with a newer
// release has its database brought up to it first.
func (g *Origins) addParts(ctx context.Context, w *operation.Part, s site.Site) error {
	php, err := g.Machine.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	k, facts := g.Machine.CMS.Of(s), g.Machine.CMSFacts(s)
	if s.Origin.Newest && k.Upgrade != "" {
		w.Progress("bringing the database up to "+s.CMS.Version, -1)
		if err := k.With(ctx, php, s, facts, "", k.Upgrade); err != nil {
			return err
		}
	}
	items := g.Shelf.Items(g.Machine.CMS.Definitions())
	for _, part := range k.Parts {
		asked, mains := s.Plugins, []string{}
		if part.Kind == shelf.Theme {
			asked = s.Themes
		}
		for _, name := range asked {
			w.Progress(name, -1)
			item, ok := shelf.Find(items, k.Name, part.Kind, name)
			if !ok {
				return fmt.Errorf("there is no %s %q on the shelf any more", part.Kind, name)
			}
			if err := g.layPart(ctx, item, filepath.Join(s.Folder, part.Into, item.Name)); err != nil {
				return fmt.Errorf("%s: %w", item.File, err)
			}
			mains = append(mains, item.Main)
		}
		if len(mains) > 0 && part.Activate != "" {
			if err := k.With(ctx, php, s, facts, strings.Join(mains, ";"), part.Activate); err != nil {
				return fmt.Errorf("activate %s: %w", strings.Join(asked, ", "), err)
			}
		}
	}
	return nil
}

// layPart puts a plugin or theme where it belongs, in the place of one of the same name.
func (g *Origins) layPart(ctx context.Context, item wire.ShelfItem, to string) error {
	whole, err := os.MkdirTemp(filepath.Dir(to), ".vessik-part-")
	if err != nil {
		return err
	}
	defer ownfile.RemoveAll(whole)
	if err := archive.Unpack(ctx, g.Shelf.File(item.File), filepath.Join(whole, "files"), archive.Usual); err != nil {
		return err
	}
	if err := ownfile.RemoveAll(to); err != nil {
		return err
	}
	return ownfile.Rename(filepath.Join(whole, "files", item.Name), to)
}
