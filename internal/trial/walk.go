package trial

import (
	"context"
	"slices"
	"strings"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	walks "vessik/internal/walk"
)

// walk compares all pages of a copy with those of its site, of which the first copy has a walk made.
func (f *Feature) walk(ctx context.Context, w *operation.Part, source, s site.Site) (*plan.CellWalk, error) {
	told := func(wire.WalkProgress) error { return ctx.Err() }
	before, err := f.sourceWalk(ctx, w, source, told)
	if err != nil {
		return nil, err
	}
	now, err := f.Walks.Walk(ctx, s.Name, wire.Walk{}, "", told)
	if err != nil {
		return nil, err
	}
	worse := walk.Compared{Differences: walk.Compare(before, now, false)}.Worse()
	worse = slices.DeleteFunc(worse, func(d walk.Difference) bool {
		return strings.HasPrefix(d.Text, string(walk.PHP)) // of a copy everything is told, also what its CMS turns down: it has a list of its own
	})
	return &plan.CellWalk{Pages: len(now.Pages), Worse: worse}, nil
}

func (f *Feature) sourceWalk(ctx context.Context, w *operation.Part, source site.Site, told walks.Told) (walk.Walked, error) {
	f.walking.Lock()
	defer f.walking.Unlock()
	trial, err := operation.Payload[plan.Trial](w)
	if err != nil {
		return walk.Walked{}, err
	}
	if trial.SourceWalk != "" {
		return f.Walks.Earlier(source.Name, trial.SourceWalk)
	}
	before, err := f.Walks.Walk(ctx, source.Name, wire.Walk{}, "", told)
	if err == nil {
		operation.Learn(w, func(trial *plan.Trial) { trial.SourceWalk = before.ID })
	}
	return before, err
}
