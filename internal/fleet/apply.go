package fleet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	file "vessik/internal/core/fleet"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
)

// Apply is the kind of operation that brings the sites to what a fleet file says. Each of its steps is an operation of its own.
const Apply plan.Kind = "apply-fleet"

// Changes are how sites are made and changed: what other features do.
type Changes struct {
	Make    func(ctx context.Context, requests []site.Request) (plan.Operation, error)
	Restack func(ctx context.Context, name string, r wire.Restack) (plan.Operation, error)
	Rename  func(ctx context.Context, name string, r wire.Rename) (plan.Operation, error)
	Domains func(ctx context.Context, name string, d wire.Domains) error
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
		f.step("label", "labelling", func(ctx context.Context, _ *operation.Part, _ site.Site, asked file.Step) error {
			return f.Label(ctx, *asked.Label)
		}),
		f.step("start", "starting", f.start),
		f.step("stop", "stopping", f.stop),
	}}
}

// Preview says what leads from the sites that there are to those of a fleet file.
func (f *Feature) Preview(text []byte, there []wire.Site) ([]file.Step, error) {
	asked, err := file.Parse(text)
	if err != nil {
		return nil, site.Problems{{Field: "text", Message: err.Error(), Remedy: "mend that line"}}
	}
	steps, problems := file.Compare(asked, there, f.Facts.Engines())
	if len(problems) > 0 {
		return nil, problems
	}
	return append([]file.Step{}, steps...), nil
}

// ApplyFile brings the sites to what a fleet file says. Sites that it does not name are left alone.
func (f *Feature) ApplyFile(ctx context.Context, text []byte, there []wire.Site) (plan.Operation, error) {
	steps, err := f.Preview(text, there)
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
	if problems := f.judge(todo); len(problems) > 0 {
		return plan.Operation{}, problems
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: Apply, Payload: todo, Names: names, Steps: plans})
}

// judge judges the sites that are to be made all together: all of them can be made, or none is begun.
func (f *Feature) judge(todo applying) site.Problems {
	requests := []site.Request{}
	for _, name := range slices.Sorted(maps.Keys(todo)) {
		if made := todo.step(name, "make"); made.Make != nil {
			requests = append(requests, *made.Make)
		}
	}
	return f.Judge(requests)
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
	begun, err := f.Changes.Make(ctx, []site.Request{*asked.step(w.Name, "make").Make})
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
	if s.Domain == asked.Rename.Domain {
		return nil
	}
	begun, err := f.Changes.Rename(ctx, w.Name, *asked.Rename)
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
