// Package engines brings engines into the store and takes them out of it, and sets what database servers are told.
package engines

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/facts"
	"vessik/internal/operation"
	"vessik/internal/records"
	"vessik/internal/running"
	"vessik/internal/verify"
)

// Fetch is the kind of operation that fetches engines: its parts are engines, not sites.
const Fetch plan.Kind = "fetch"

// Feature is the engines of one machine.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Facts      *facts.Facts
	Verifier   *verify.Verifier
	Records    *records.Records
}

// Kind is how engines are fetched.
func (f *Feature) Kind() operation.Kind {
	return operation.Kind{Name: Fetch, Other: true, Recover: plan.Always(plan.GiveUp), Again: "fetch it again", Steps: []operation.Step{
		{Name: running.FetchEngines, Title: "fetching engines", Do: func(ctx context.Context, w *operation.Part) error {
			if _, err := f.Machine.Store.Ensure(ctx, []string{w.Name}, w.Progress); err != nil {
				return err
			}
			if err := f.Machine.Store.Complete(ctx, []string{w.Name}, w.Progress); err != nil {
				return err
			}
			asked, err := operation.Payload[fetching](w)
			if err != nil || len(asked.Extensions) == 0 {
				return err
			}
			return f.Machine.Store.AddExtensions(ctx, w.Name, asked.Extensions, w.Progress)
		}}}}
}

// fetching is what is fetched besides the engine itself.
type fetching struct {
	Extensions []string `json:"extensions,omitempty"`
}

// Extensions lists what Debian has for a PHP besides what it brings; the archive is asked.
func (f *Feature) Extensions(ctx context.Context, part string) ([]wire.Extension, error) {
	e, err := f.php(part)
	if err != nil {
		return nil, err
	}
	all, err := f.Machine.Store.Extensions(ctx, e)
	seen := make([]wire.Extension, len(all))
	for i, each := range all {
		seen[i] = wire.Extension{Name: each.Name, Package: each.Package, About: each.About, Present: each.Here}
	}
	return seen, err
}

func (f *Feature) php(part string) (*engine.Engine, error) {
	id, ok := f.match(part)
	if !ok || !strings.HasPrefix(id, string(engine.PHP)+"-") {
		return nil, site.Problems{{Field: "id", Message: fmt.Sprintf("no PHP fits %q", part), Remedy: "choose one of " +
			strings.Join(f.Machine.Store.IDs(engine.PHP), ", ")}}
	}
	e, err := f.Machine.Store.Find(id)
	if err != nil {
		return nil, site.Problems{{Field: "id", Message: id + " is not here", Remedy: "fetch it first: vessik engines fetch " + id}}
	}
	return e, nil
}

// FetchExtensions brings extensions of a PHP into the store.
func (f *Feature) FetchExtensions(ctx context.Context, part string, names []string) (plan.Operation, error) {
	e, err := f.php(part)
	if err != nil {
		return plan.Operation{}, err
	}
	all, err := f.Machine.Store.Extensions(ctx, e)
	if err != nil {
		return plan.Operation{}, err
	}
	problems := site.Problems{}
	for _, name := range names {
		if !slices.ContainsFunc(all, func(x engine.Extension) bool { return x.Name == name }) {
			problems = append(problems, site.Problem{Field: "extensions", Message: fmt.Sprintf("Debian has no extension %q for %s", name, e.ID),
				Remedy: "see those that there are with: vessik engines extensions " + e.ID})
		}
	}
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	return f.Operations.Begin(ctx, operation.Request{Kind: Fetch, Names: []string{e.ID}, Payload: fetching{Extensions: names},
		Steps: map[string][]plan.Step{e.ID: {running.FetchEngines}}})
}

// match finds an engine of any kind, releases included, by a part of its id.
func (f *Feature) match(part string) (string, bool) {
	all := []site.EngineFact{}
	for _, facts := range f.Facts.Engines() {
		all = append(all, facts...)
	}
	return site.MatchEngine(all, part)
}

// Fetch brings engines into the store.
func (f *Feature) Fetch(ctx context.Context, parts []string) (plan.Operation, error) {
	ids, problems, plans := []string{}, site.Problems{}, map[string][]plan.Step{}
	for _, part := range parts {
		id, ok := f.match(part)
		if !ok {
			problems = append(problems, site.Problem{Field: "ids", Message: fmt.Sprintf("no engine fits %q", part),
				Remedy: "choose one of " + strings.Join(f.Machine.Store.IDs(""), ", ")})
			continue
		}
		if plans[id] == nil {
			ids, plans[id] = append(ids, id), []plan.Step{running.FetchEngines}
		}
	}
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	return f.Operations.Begin(ctx, operation.Request{Kind: Fetch, Names: ids, Steps: plans})
}

// NoteUse keeps the store told of the engines that this home is on, until the service ends.
func (f *Feature) NoteUse() {
	var noted []string
	for {
		changed := f.Machine.Registry.Changed()
		ids := []string{f.Machine.Book.Settings().RecordsEngine}
		for _, s := range f.Machine.Registry.All() {
			ids = append(ids, append(s.Stack.IDs(), s.CMS.Release())...)
		}
		slices.Sort(ids)
		if ids = slices.Compact(ids); !slices.Equal(ids, noted) {
			if err := f.Machine.Store.Uses(f.Machine.Home.Dir, ids); err != nil {
				f.Machine.Log.Warn("other homes that share the engine store are not told what is used here", "reason", err)
			}
			noted = ids
		}
		select {
		case <-changed:
		case <-f.Machine.Work.Context().Done():
			return
		}
	}
}

// Drop removes an engine that nobody uses.
func (f *Feature) Drop(part string) (id string, err error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	id, ok := f.match(part)
	if !ok {
		return "", site.Problems{{Field: "ids", Message: fmt.Sprintf("no engine fits %q", part), Remedy: "see them with: vessik engines"}}
	}
	users := []string{}
	for _, s := range f.Machine.Registry.All() {
		if slices.Contains(s.Stack.IDs(), id) || s.CMS.Release() == id {
			users = append(users, s.Name)
		}
	}
	problem := func(message, remedy string) (string, error) {
		return id, site.Problems{{Field: "ids", Message: message, Remedy: remedy}}
	}
	if len(users) > 0 {
		return problem(fmt.Sprintf("%s is used by %s", id, strings.Join(users, ", ")),
			"put them on another engine with vessik restack, or retire them")
	}
	if id == f.Machine.Book.Settings().RecordsEngine {
		return problem(id+" keeps the service's own records", "leave it")
	}
	if homes := f.Machine.Store.UsedElsewhere(id, f.Machine.Home.Dir); len(homes) > 0 {
		return problem(fmt.Sprintf("%s is used in the home %s, which shares this store", id, strings.Join(homes, ", ")),
			"leave it, or retire its sites there first")
	}
	if _, err := f.Machine.Store.Find(id); err != nil {
		return problem(id+" is not here", "see those that are with: vessik engines")
	}
	if f.Operations.Working() {
		return id, fmt.Errorf("%s: %w; wait until nothing is being done", id, operation.ErrBusy)
	}
	f.Machine.StopEngine(id)
	return id, f.Machine.Store.Drop(id)
}

// Adopt takes an engine from a folder of the user's own into the catalogue, once it has told its version and been started.
func (f *Feature) Adopt(ctx context.Context, id, path string) (*engine.Engine, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	problem := func(field, message, remedy string) error {
		return site.Problems{{Field: field, Message: message, Remedy: remedy}}
	}
	if slices.Contains(f.Machine.Store.IDs(""), id) {
		return nil, problem("id", fmt.Sprintf("there is an engine %q", id), "choose another id, such as "+id+"-own")
	}
	e, err := f.Machine.Store.Inspect(ctx, id, path)
	if err != nil {
		return nil, problem("path", err.Error(), "name the folder that holds the engine's bin or sbin, and an id that begins with php-, "+
			"nginx-, apache- or mariadb- and its version")
	}
	if err := f.try(ctx, e); err != nil {
		return nil, problem("path", fmt.Sprintf("%s %s does not start: %v", id, e.Version, err),
			"mend what it says, then adopt it again; nothing was changed")
	}
	return e, f.Machine.Store.Keep(e)
}
