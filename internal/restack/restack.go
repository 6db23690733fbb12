// Package restack changes the engines that sites run on.
package restack

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vessik/internal/change"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/facts"
	"vessik/internal/operation"
)

// Kind is that of a change of stack.
const Kind plan.Kind = "restack"

// MoveDatabase brings a site's database to another server.
const MoveDatabase plan.Step = "move-database"

// made notes that a database was made on the other server.
const made = "made"

// Feature changes stacks.
type Feature struct {
	Changer *change.Changer
	Facts   *facts.Facts
}

// Kind is how a stack is changed.
func (f *Feature) Kind() operation.Kind {
	c := f.Changer
	return c.Kind(Kind, f.pointBack, f.dropMoved, c.FetchStep(), c.BaselineStep(), c.CheckStep(), c.PointStep(),
		change.Do(MoveDatabase, "moving the database", f.moveDatabase), c.SwitchStep(), c.ProveStep(), c.SettleStep(f.dropOld))
}

// pointBack has a site's configuration name the server that it was moved from.
func (f *Feature) pointBack(_ context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if !change.Noted(w, MoveDatabase, made) {
		return nil
	}
	m := f.Changer.Machine
	return m.CMS.Of(s).Repoint(s.Folder, m.DatabasePort(p.Before.Stack.Database))
}

// dropMoved drops the database on the server that a site was to be moved to.
func (f *Feature) dropMoved(ctx context.Context, w *operation.Part, s site.Site, p plan.Change) error {
	if !change.Noted(w, MoveDatabase, made) {
		return nil
	}
	return f.drop(ctx, s, p.After.Stack.Database)
}

// dropOld drops the database on the server that a site was moved from.
func (f *Feature) dropOld(ctx context.Context, _ *operation.Part, s site.Site, p plan.Change) error {
	if p.Before.Stack.Database == p.After.Stack.Database {
		return nil
	}
	return f.drop(ctx, s, p.Before.Stack.Database)
}

func (f *Feature) drop(ctx context.Context, s site.Site, id string) error {
	database, err := f.Changer.Machine.Database(ctx, id)
	if err != nil {
		return err
	}
	return database.DropDatabase(ctx, s.Database.Name, s.Database.User)
}

// Request asks for another stack for a site. Parts that are empty stay as they are.
type Request struct {
	PHP, Web, Database string
	Stay               bool // the new stack stays although a check fails on it
	Walk               bool // all pages are walked before and after
	Who                string
}

// judge judges a request for another stack.
func (f *Feature) judge(name string, r Request) (site.Site, plan.Change, site.Problems) {
	s, ok := f.Changer.Machine.Registry.Site(name)
	if !ok {
		return s, plan.Change{}, site.NoSite(name)
	}
	facts := f.Facts.Now()
	after, problems := s.Stack, site.Problems{}
	for _, part := range []struct {
		field, asked string
		target       *string
	}{{"php", r.PHP, &after.PHP}, {"web", r.Web, &after.Web}, {"database", r.Database, &after.Database}} {
		if part.asked == "" {
			continue
		}
		id, ok := site.MatchEngine(facts.Engines[part.field], part.asked)
		if !ok {
			ids := []string{}
			for _, e := range facts.Engines[part.field] {
				ids = append(ids, e.ID)
			}
			problems = append(problems, site.Problem{Site: name, Field: part.field,
				Message: fmt.Sprintf("no %s engine fits %q", part.field, part.asked), Remedy: "choose one of " + strings.Join(ids, ", ")})
			continue
		}
		*part.target = id
	}
	if len(problems) == 0 && after == s.Stack {
		problems = append(problems, site.Problem{Site: name, Field: "stack",
			Message: "it runs on " + strings.Join(after.IDs(), ", ") + " already", Remedy: "name another engine with -php, -web or -database"})
	}
	if after.Database != s.Stack.Database {
		moved := s
		moved.Stack = after
		for _, problem := range site.Check(moved, facts) {
			if problem.Field == "database_name" || problem.Field == "database_user" {
				problems = append(problems, problem)
			}
		}
	}
	if s.State == site.Making || s.State == site.Retiring {
		problems = append(problems, site.Problem{Site: name, Field: "name", Message: "the site is " + string(s.State), Remedy: "wait for it"})
	}
	return s, plan.Change{Site: name, Before: plan.Target{Stack: s.Stack, Settings: s.Settings},
		After: plan.Target{Stack: after, Settings: s.Settings}, Stay: r.Stay, Walk: r.Walk, Who: r.Who}, problems
}

// Preview says what a change of stack would do; nothing is changed.
func (f *Feature) Preview(ctx context.Context, name string, r Request) (wire.RestackPreview, error) {
	s, change, problems := f.judge(name, r)
	if len(problems) > 0 {
		return wire.RestackPreview{}, problems
	}
	preview := wire.RestackPreview{Before: change.Before.Stack, After: change.After.Stack, Fetch: []string{}}
	for _, id := range change.After.Stack.IDs() {
		if _, err := f.Changer.Machine.Store.Find(id); err != nil {
			preview.Fetch = append(preview.Fetch, id)
		}
	}
	preview.Steps = f.Changer.Operations.Kind(Kind).Titles(f.Changer.Steps(Kind, change, unneeded(change)...))
	preview.Supported, preview.Warning = f.Changer.Machine.CMS.Definitions().SupportWords(s.CMS, change.After.Stack.PHP)
	preview.Downtime = "nothing: what is asked for meanwhile waits for a moment and is answered, well under a second"
	switch {
	case s.State != site.Running:
		preview.Downtime = "nothing: the site is " + string(s.State)
	case change.Before.Stack.Database != change.After.Stack.Database:
		bytes := f.Changer.Machine.DatabaseBytes(ctx, s)
		const bytesPerSecond = 20 << 20 // dumped, loaded, and read twice to be compared
		preview.Downtime = fmt.Sprintf("a pause of about %s: requests wait while the database (%.1f MB) is moved and compared, and are then "+
			"answered",
			(time.Duration(float64(bytes)/bytesPerSecond*float64(time.Second)) + 500*time.Millisecond).Round(100*time.Millisecond),
			float64(bytes)/(1<<20))
	}
	return preview, nil
}

// Restack changes a site's stack.
func (f *Feature) Restack(ctx context.Context, name string, r Request) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	_, asked, problems := f.judge(name, r)
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	return f.Changer.Begin(ctx, Kind, asked, unneeded(asked)...)
}

// unneeded are steps that a change does without.
func unneeded(asked plan.Change) []plan.Step {
	if asked.Before.Stack.Database == asked.After.Stack.Database {
		return []plan.Step{MoveDatabase}
	}
	return nil
}
