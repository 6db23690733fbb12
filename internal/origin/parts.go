package origin

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/safefile"
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
			if err := g.PutPart(ctx, s, item); err != nil {
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

// PutPart puts a plugin or theme of the shelf into a site's folder, in the place of one of the same name.
func (g *Origins) PutPart(ctx context.Context, s site.Site, item wire.ShelfItem) error {
	whole, done, err := g.unpackWhole(ctx, item)
	if err != nil {
		return err
	}
	defer done()
	for _, part := range g.Machine.CMS.Of(s).Parts {
		if part.Kind == item.Kind {
			return safefile.PutFolder(ctx, filepath.Join(whole, item.Name), s.Folder, filepath.Join(part.Into, item.Name))
		}
	}
	return fmt.Errorf("nothing is known of a %s of %s", item.Kind, s.CMS.Name)
}
