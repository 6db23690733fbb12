package change

import (
	"context"
	"errors"

	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/running"
	"vessik/internal/safefile"
)

// ReplaceContent puts another content in the place of a site's database.
const ReplaceContent plan.Step = "replace-content"

// Replaced notes that what a site holds is no longer what it was.
const Replaced = "replaced"

// Replace has fill put another content in the place of a site's database, while its requests wait until the site is switched or taken
// back. What it was is held in a dump until the restore point is dropped.
func (c *Changer) Replace(ctx context.Context, w *operation.Part, s site.Site, fill func(held string) (rewrite.Tally, error)) error {
	const copies = 3 // the dump, the tables, and what is written for them
	if err := running.Room(c.Machine.Home.Dir, copies*c.Machine.DatabaseBytes(ctx, s)); err != nil {
		return err
	}
	if master := c.Machine.Master(s.Name); master != nil {
		master.Hold()
	}
	held := c.heldDump(w)
	if err := c.Machine.DumpTo(ctx, s, held); err != nil {
		return err
	}
	if err := w.Note(Replaced); err != nil {
		return err
	}
	tally, err := fill(held)
	if err != nil {
		return err
	}
	if err := c.Machine.CMS.Of(s).ClearCaches(s.Folder); err != nil {
		return err
	}
	operation.Learn(w, func(p *plan.Change) { p.Rewritten = &tally })
	return nil
}

// PutBack brings the content back that was replaced.
func (c *Changer) PutBack(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if !Noted(w, ReplaceContent, Replaced) {
		return nil
	}
	if master := c.Machine.Master(s.Name); master != nil {
		master.Hold()
	}
	old := s
	old.Domain = p.Before.Domain
	if _, err := c.Refill(ctx, s, c.heldDump(w), cms.Place{}, c.Machine.CMSFacts(old)); err != nil {
		return err
	}
	k := c.Machine.CMS.Of(s)
	return errors.Join(k.Redomain(s.Folder, c.Machine.CMSFacts(old)), k.ClearCaches(s.Folder))
}

// Keep are paths in a site's folder at which other folders stand, which no change of the folder touches.
func Keep(s site.Site) (paths []string) {
	for _, shared := range s.Settings.Bound() {
		paths = append(paths, shared.Place)
	}
	return paths
}

// Content is what takes the place of a site's files and database: those of the same site at another time, or of another one.
type Content struct {
	Files    safefile.Source // the folder stays where it has nothing to compare with
	LeaveOut []string        // paths in the site's folder that stay as they are
	Dump     string          // file; the database stays where it is empty
	From     cms.Place
	Prefix   string
}

// PutContent makes a site's folder and database like a content, while requests wait; configure has what was put there name the site's own
// database. A content that is damaged changes nothing.
func (c *Changer) PutContent(ctx context.Context, w *operation.Part, s site.Site, content Content, configure func() error) error {
	master := c.Machine.Master(s.Name)
	if master != nil {
		master.Hold()
	}
	if err := w.Note(Replaced); err != nil {
		return err
	}
	if content.Files.Same != nil {
		if _, err := safefile.Match(ctx, content.Files, s.Folder, append(Keep(s), content.LeaveOut...)...); err != nil {
			return err
		}
	}
	if content.Dump != "" {
		tally, err := c.RefillFrom(ctx, s, content.Dump, content.From, content.Prefix)
		if err != nil {
			return err
		}
		operation.Learn(w, func(p *plan.Change) { p.Rewritten = &tally })
	}
	if err := configure(); err != nil {
		return err
	}
	if err := c.Machine.CMS.Of(s).ClearCaches(s.Folder); err != nil || master == nil {
		return err
	}
	return master.Release()
}

// PutPointBack makes a site's folder and database what they were when this change took its restore point, if the step has changed them.
func (c *Changer) PutPointBack(ctx context.Context, w *operation.Part, s site.Site, step plan.Step) error {
	if !Noted(w, step, Replaced) {
		return nil
	}
	if master := c.Machine.Master(s.Name); master != nil {
		master.Hold()
	}
	point, err := c.Points.Open(ctx, s.Name, w.ID())
	if err != nil {
		return err
	}
	defer point.Close()
	if _, err := safefile.Match(ctx, point.Files, s.Folder, Keep(s)...); err != nil {
		return err
	}
	if _, err := c.Refill(ctx, s, point.Dump, cms.Place{}, c.Machine.CMSFacts(s)); err != nil {
		return err
	}
	return c.Machine.CMS.Of(s).ClearCaches(s.Folder)
}

func (c *Changer) heldDump(w *operation.Part) string {
	return c.Machine.Home.Path("restore", w.Name, w.ID(), "held.sql")
}

// Refill puts one of our own dumps in the place of a site's database.
func (c *Changer) Refill(ctx context.Context, s site.Site, file string, from cms.Place, facts cms.Facts) (rewrite.Tally, error) {
	return c.refill(ctx, s, file, from, facts.Prefix, facts)
}

// RefillFrom puts the dump of a site at another time into its database, or into one aside: from and prefix are what it had then.
func (c *Changer) RefillFrom(ctx context.Context, s site.Site, file string, from cms.Place, prefix string) (rewrite.Tally, error) {
	return c.refill(ctx, s, file, from, prefix, c.Machine.CMSFacts(s))
}

func (c *Changer) refill(ctx context.Context, s site.Site, file string, from cms.Place, prefix string,
	facts cms.Facts) (rewrite.Tally, error) {
	if err := c.Machine.EmptyDatabase(ctx, s); err != nil {
		return rewrite.Tally{}, err
	}
	pool, release, err := c.Machine.Pool(ctx, s)
	if err != nil {
		return rewrite.Tally{}, err
	}
	defer release()
	dump, err := ownfile.Open(file)
	if err != nil {
		return rewrite.Tally{}, err
	}
	defer dump.Close()
	return c.Machine.CMS.Of(s).DrawContent(ctx, pool, dump, from, prefix, facts, nil)
}
