package change

import (
	"context"
	"fmt"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
)

// walked is the check that a walk through all pages is, where a change is asked to be judged by one.
const walked check.ID = "walk"

// walkBefore walks through a site as it is, for walkAfter to compare with.
func (c *Changer) walkBefore(ctx context.Context, w *operation.Part, s site.Site) (*check.Result, error) {
	change, err := operation.Payload[plan.Change](w)
	if err != nil || !change.Walk {
		return nil, err
	}
	result := check.Result{ID: walked, Title: "All pages are as they were", Verdict: check.Pass, Expected: "the pages as they are"}
	before, err := c.walk(ctx, w, s)
	if err != nil {
		result.Verdict, result.Observed = check.Skip, "the walk did not end: "+err.Error()
		return &result, ctx.Err()
	}
	result.Milliseconds, result.Observed = before.Milliseconds, fmt.Sprintf("%d pages, %d findings", len(before.Pages), before.Findings())
	operation.Learn(w, func(p *plan.Change) { p.WalkBefore = before.ID })
	return &result, nil
}

// walkAfter walks once more, and fails where a page is worse off.
func (c *Changer) walkAfter(ctx context.Context, w *operation.Part, s site.Site) (*check.Result, error) {
	change, err := operation.Payload[plan.Change](w)
	if err != nil || change.WalkBefore == "" {
		return nil, err
	}
	result := check.Result{ID: walked, Title: "All pages are as they were", Verdict: check.Fail, Expected: "no page is worse off than before",
		Remedy: "walk through the site as it is: vessik walk " + s.Name}
	before, err := c.Walks.Earlier(s.Name, change.WalkBefore)
	if err != nil {
		return nil, err
	}
	now, err := c.walk(ctx, w, s)
	if err != nil {
		result.Observed = "the walk did not end: " + err.Error()
		return &result, ctx.Err()
	}
	result.Milliseconds = now.Milliseconds
	compared := walk.Compared{Differences: walk.Compare(before, now, false)}
	if worse := compared.Worse(); len(worse) > 0 {
		result.Observed = walk.Worst(worse)
		return &result, nil
	}
	result.Verdict, result.Remedy = check.Pass, ""
	result.Observed = fmt.Sprintf("%d pages, none of them worse", len(now.Pages))
	return &result, nil
}

func (c *Changer) walk(ctx context.Context, w *operation.Part, s site.Site) (walk.Walked, error) {
	return c.Walks.Walk(ctx, s.Name, wire.Walk{}, "", func(p wire.WalkProgress) error {
		w.Progress("walking: "+p.Doing, float64(p.Asked)/float64(max(1, p.Known)))
		return nil
	})
}
