package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"

	file "vessik/internal/core/fleet"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/core/yamltext"
	"vessik/internal/operation"
)

// Apply is the kind of operation that brings the sites to what a fleet file says. Each of its steps is an operation of its own.
const Apply plan.Kind = "match-fleet"

// Changes are how sites are made and changed: what other features do.
type Changes struct {
	Make    func(ctx context.Context, requests []site.Request) (plan.Operation, error)
	Restack func(ctx context.Context, name string, r wire.Restack) (plan.Operation, error)
	Rename  func(ctx context.Context, name string, r wire.Rename) (plan.Operation, error)
	Domains func(ctx context.Context, name string, d wire.Domains) error
	Adjust  func(ctx context.Context, name string, settings site.Settings) (plan.Operation, error)
	Do      func(ctx context.Context, kind plan.Kind, names []string) (plan.Operation, error)
}

// applying is what the operation carries: what is to be done, by site.
type applying map[string][]file.Step

func (a applying) step(name string, what plan.Step) file.Step {
	for _, s := range a[name] {
		if s.What == string(what) {
			return s
		}
	}
	return file.Step{}
}

// Kind is how a fleet file is applied. Its parts are not busy by it: they are by the operations that it begins. What was done already is
// not done again after a restart.
func (f *Feature) Kind() operation.Kind {
	return operation.Kind{Name: Apply, Other: true, Shared: true, Steps: []operation.Step{
		{Name: "make", Title: "making", Do: f.make},
		f.step("restack", "changing the stack", f.restack),
		f.step("readdress", "re-addressing", f.readdress),
		f.step("domains", "giving domains", func(ctx context.Context, w *operation.Part, s site.Site, asked file.Step) error {
			return f.Changes.Domains(ctx, w.Name, *asked.Domains)
		}),
		f.step("title", "giving a title", f.title),
		f.step("settings", "changing settings", f.settings),
		f.step("label", "labelling", func(ctx context.Context, _ *operation.Part, _ site.Site, asked file.Step) error {
			return f.Label(ctx, *asked.Label)
		}),
		f.step("start", "starting", f.start),
		f.step("stop", "stopping", f.stop),
	}}
}

// Compare says what leads from the sites that there are to those of a fleet file.
func (f *Feature) Compare(text []byte, there []wire.Site) ([]file.Step, error) {
	asked, read, err := file.Parse(text)
	var faults yamltext.Faults
	if errors.As(err, &faults) {
		problems := site.Problems{}
		for _, fault := range faults {
			problems = append(problems, site.Problem{Field: "text", Line: fault.Line, Column: fault.Column, Message: fault.Message,
				Remedy: "mend that line"})
		}
		return nil, problems
	}
	if err != nil {
		return nil, err
	}
	steps, problems := file.Compare(asked, there, f.Facts.Engines())
	if problems = append(problems, f.judge(steps)...); len(problems) > 0 {
		return nil, asked.Locate(read, problems)
	}
	return append([]file.Step{}, steps...), nil
}

// Match brings the sites to what a fleet file says. Sites that it does not name are left alone.
func (f *Feature) Match(ctx context.Context, text []byte, there []wire.Site) (plan.Operation, error) {
	steps, err := f.Compare(text, there)
	if err != nil {
		return plan.Operation{}, err
	}
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	if len(steps) == 0 {
		return plan.Operation{}, site.Problems{{Field: "text", Message: "everything is as the file says", Remedy: "change the file first"}}
	}
	todo, names, plans := applying{}, []string{}, map[string][]plan.Step{}
	for _, s := range steps {
		if plans[s.Site] == nil {
			names = append(names, s.Site)
		}
		todo[s.Site], plans[s.Site] = append(todo[s.Site], s), append(plans[s.Site], plan.Step(s.What))
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: Apply, Payload: todo, Names: names, Steps: plans})
}

// judge judges what the steps ask for: all of it can be done, or none is begun.
func (f *Feature) judge(steps []file.Step) site.Problems {
	requests, problems := []site.Request{}, site.Problems{}
	for _, step := range steps {
		if step.Make != nil {
			requests = append(requests, site.Request(*step.Make))
		}
		if s, ok := f.Machine.Registry.Site(step.Site); ok && step.Title != "" && len(f.Machine.CMS.Of(s).Content.SetTitle) == 0 {
			problems = append(problems, site.Problem{Site: s.Name, Field: "title", Message: s.CMS.Name + " does not tell where its title is kept",
				Remedy: "change it in the site itself, and write what the site was made with, " + s.Title})
		}
	}
	return append(problems, f.Judge(requests)...)
}

// step is one that knows its site and what is asked for it; it begins once nothing else is at the site.
func (f *Feature) step(name plan.Step, title string,
	do func(ctx context.Context, w *operation.Part, s site.Site, asked file.Step) error) operation.Step {
	return operation.Step{Name: name, Title: title, Do: func(ctx context.Context, w *operation.Part) error {
		asked, err := operation.Payload[applying](w)
		if err != nil {
			return err
		}
		f.settled(ctx, w)
		s, err := w.Site()
		if err != nil {
			return err
		}
		return do(ctx, w, s, asked.step(w.Name, name))
	}}
}

// settled waits until no operation is at a site any more, nor the service itself: after a restart, one that was begun before goes on, and
// sites that ran are brought up.
func (f *Feature) settled(ctx context.Context, w *operation.Part) {
	w.Wait(func() {
		f.Operations.WaitFree(ctx, w.Name)
		f.Machine.Registry.WaitWhile(ctx, w.Name, site.Starting)
	})
}

// make makes a site, unless it was made before the service was started again.
func (f *Feature) make(ctx context.Context, w *operation.Part) error {
	asked, err := operation.Payload[applying](w)
	if err != nil {
		return err
	}
	f.settled(ctx, w)
	if _, err := w.Site(); err == nil {
		return nil
	}
	begun, err := f.Changes.Make(ctx, []site.Request{site.Request(*asked.step(w.Name, "make").Make)})
	return f.follow(ctx, w, begun, err)
}

func (f *Feature) restack(ctx context.Context, w *operation.Part, s site.Site, asked file.Step) error {
	want := *asked.Stack
	if fits(want.PHP, s.Stack.PHP) && fits(want.Web, s.Stack.Web) && fits(want.Database, s.Stack.Database) {
		return nil
	}
	begun, err := f.Changes.Restack(ctx, w.Name, want)
	return f.follow(ctx, w, begun, err)
}

func fits(want, has string) bool { return want == "" || want == has }

func (f *Feature) readdress(ctx context.Context, w *operation.Part, s site.Site, asked file.Step) error {
	if fits(asked.Rename.Domain, s.Domain) && (asked.Rename.HTTPS == "" || s.HTTPS == (asked.Rename.HTTPS == site.On)) {
		return nil
	}
	begun, err := f.Changes.Rename(ctx, w.Name, *asked.Rename)
	return f.follow(ctx, w, begun, err)
}

// title gives a site another title, in its CMS and in the records.
func (f *Feature) title(ctx context.Context, w *operation.Part, s site.Site, asked file.Step) error {
	pool, release, err := f.Machine.Pool(ctx, s)
	if err != nil {
		return err
	}
	defer release()
	facts := f.Machine.CMSFacts(s)
	facts.Title = asked.Title
	k := f.Machine.CMS.Of(s)
	if err := errors.Join(k.SetTitle(ctx, pool, facts), k.ClearCaches(s.Folder)); err != nil {
		return err
	}
	return f.Machine.Registry.Edit(ctx, w.Name, func(s *site.Site) error { s.Title = asked.Title; return nil })
}

// settings gives a site the php.ini settings of the file in place of its own; the time zone that it was made with stays.
func (f *Feature) settings(ctx context.Context, w *operation.Part, s site.Site, asked file.Step) error {
	next := s.Settings
	if asked.PHPIni != nil {
		next.PHP = maps.Clone(asked.PHPIni)
		if zone := s.Settings.PHP[site.TimeZoneDirective]; zone == s.TimeZone && zone != "" && next.PHP[site.TimeZoneDirective] == "" {
			next.PHP[site.TimeZoneDirective] = zone
		}
	}
	next.Outgoing = cmp.Or(asked.Outgoing, next.Outgoing)
	if asked.Reach != nil {
		next.Reach = asked.Reach
	}
	if asked.Refuse != nil {
		next.Refuse = asked.Refuse
	}
	if next.Equal(s.Settings) {
		return nil
	}
	begun, err := f.Changes.Adjust(ctx, w.Name, next)
	return f.follow(ctx, w, begun, err)
}

func (f *Feature) start(ctx context.Context, w *operation.Part, s site.Site, _ file.Step) error {
	if s.State == site.Running {
		return nil
	}
	begun, err := f.Changes.Do(ctx, plan.Start, []string{w.Name})
	return f.follow(ctx, w, begun, err)
}

func (f *Feature) stop(ctx context.Context, w *operation.Part, s site.Site, _ file.Step) error {
	if s.State == site.Stopped {
		return nil
	}
	begun, err := f.Changes.Do(ctx, plan.Stop, []string{w.Name})
	return f.follow(ctx, w, begun, err)
}

// follow waits for an operation that was begun for a site, and takes its report and its problem over. When this one is cancelled, so is
// that one.
func (f *Feature) follow(ctx context.Context, w *operation.Part, begun plan.Operation, err error) error {
	if err != nil {
		return err
	}
	var ended plan.Operation
	w.Wait(func() { ended, err = f.Operations.Follow(ctx, begun.ID) })
	if err != nil {
		return errors.Join(err, f.Operations.Cancel(begun.ID))
	}
	for _, part := range ended.Sites {
		if part.Site != w.Name {
			continue
		}
		if part.Report != nil {
			w.Report(*part.Report)
		}
		if part.State != plan.OperationDone {
			return fmt.Errorf("%s (operation %s)", part.Problem, begun.ID)
		}
	}
	return nil
}
