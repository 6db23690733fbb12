package origin

import (
	"context"
	"strings"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
)

// Names of the steps that fill a site.
const (
	LayOut       plan.Step = "lay-out"
	Configure    plan.Step = "configure"
	LoadContent  plan.Step = "load-content"
	MakeNetwork  plan.Step = "make-network"
	AddParts     plan.Step = "add-parts"
	RemoveFolder plan.Step = "remove-folder"
)

// LayOutStep fills a site's folder.
func (g *Origins) LayOutStep() operation.Step {
	return operation.Step{Name: LayOut, Title: "laying out files",
		Do: func(ctx context.Context, w *operation.Part) error {
			s, source, err := g.sourceOf(w)
			if err != nil || source.Files == nil {
				return err
			}
			bytes, err := source.Bytes(ctx, s)
			if err != nil {
				return err
			}
			return g.LayOut(ctx, w, s, bytes, func(partial string) error { return source.Files(ctx, s, partial) })
		},
		Undo: UndoLayOut}
}

// UndoLayOut removes what was laid out, and nothing else.
func UndoLayOut(_ context.Context, w *operation.Part, note string) error {
	s, err := w.Site()
	if err != nil {
		return err
	}
	return undoLayOut(w.ID(), s, note)
}

// ConfigureStep has a site's files name its database.
func (g *Origins) ConfigureStep() operation.Step {
	return operation.Step{Name: Configure, Title: "writing configuration",
		Do: func(ctx context.Context, w *operation.Part) error {
			s, source, err := g.sourceOf(w)
			if err != nil {
				return err
			}
			database, err := g.Machine.Database(ctx, s.Stack.Database)
			if err != nil {
				return err
			}
			facts := g.Machine.CMSFacts(s)
			facts.Port = database.Port
			return source.Configure(ctx, s, facts, w.Note)
		},
		Undo: func(_ context.Context, w *operation.Part, note string) error {
			s, err := w.Site()
			if err != nil {
				return err
			}
			if s.Origin.Kind == site.FromFolder && strings.HasPrefix(note, wrote) {
				return g.Machine.CMS.Of(s).RemoveConfiguration(s)
			}
			return g.GiveBack(s)
		}}
}

// LoadStep fills a site's database.
func (g *Origins) LoadStep() operation.Step {
	return operation.Step{Name: LoadContent, Title: "loading content", Do: func(ctx context.Context, w *operation.Part) error {
		s, source, err := g.sourceOf(w)
		if err != nil {
			return err
		}
		return source.Content(ctx, w, s)
	}}
}

// NetworkStep makes a network of sites of a new site.
func (g *Origins) NetworkStep() operation.Step {
	return operation.Step{Name: MakeNetwork, Title: "making the network", Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		php, err := g.Machine.Store.Find(s.Stack.PHP)
		if err != nil {
			return err
		}
		return g.Machine.CMS.Of(s).MakeNetwork(ctx, php, s, g.Machine.CMSFacts(s))
	}}
}

// PartsStep adds plugins and themes of the shelf.
func (g *Origins) PartsStep() operation.Step {
	return operation.Step{Name: AddParts, Title: "adding plugins and themes", Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		return g.addParts(ctx, w, s)
	}}
}

// RemoveStep removes a site's folder; one that was there before it became a site stays, as it was, and so does one that is to be kept.
func (g *Origins) RemoveStep(keep func(w *operation.Part) bool) operation.Step {
	return operation.Step{Name: RemoveFolder, Title: "removing files", Do: func(_ context.Context, w *operation.Part) error {
		s, err := w.Site()
		switch {
		case err != nil:
			return err
		case s.Origin.Kind == site.FromFolder:
			return g.GiveBack(s)
		case keep(w):
			return nil
		}
		return ownfile.RemoveAll(s.Folder)
	}}
}

func (g *Origins) sourceOf(w *operation.Part) (s site.Site, source Source, err error) {
	if s, err = w.Site(); err == nil {
		source, err = g.of(s.Origin.Kind)
	}
	return s, source, err
}
