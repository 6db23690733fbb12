package operation

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

// Operation is one that is being carried out. Its snapshot may be read and its changes watched by anyone.
type Operation struct {
	r      *Runner
	kind   Kind
	ctx    context.Context
	cancel context.CancelFunc

	mu       sync.Mutex
	recorded plan.Operation
	activity map[string]plan.Activity
	version  uint64            // grows with each change
	head     uint64            // the version in which something else than a part changed last
	parts    map[string]uint64 // the version in which a part changed last
	changed  chan struct{}
	done     bool
}

func (r *Runner) newOperation(recorded plan.Operation) *Operation {
	o := &Operation{r: r, kind: r.kinds[recorded.Kind], recorded: recorded, activity: map[string]plan.Activity{}, parts: map[string]uint64{},
		changed: make(chan struct{}), version: 1}
	for i := range o.recorded.Sites {
		for j, entry := range o.recorded.Sites[i].Steps {
			o.recorded.Sites[i].Steps[j].Title = o.kind.step(entry.Step).Title
		}
	}
	o.ctx, o.cancel = context.WithCancel(r.work.Context())
	return o
}

// Snapshot is a copy that stays as it is.
func (o *Operation) Snapshot() plan.Operation {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.since(0)
}

// since is a copy with the parts that have changed after a version; held by mu.
func (o *Operation) since(version uint64) plan.Operation {
	snapshot := o.recorded
	snapshot.Sites = []plan.OperationSite{}
	for _, part := range o.recorded.Sites {
		if version > 0 && o.parts[part.Site] <= version {
			continue
		}
		part.Steps = slices.Clone(part.Steps)
		if part.Report != nil {
			report := *part.Report
			report.Checks = slices.Clone(report.Checks)
			part.Report = &report
		}
		snapshot.Sites = append(snapshot.Sites, part)
	}
	return snapshot
}

// changedNow tells the watchers of a change of one part, or of everything else; held by mu.
func (o *Operation) changedNow(part string) {
	o.version++
	if part == "" {
		o.head = o.version
	} else {
		o.parts[part] = o.version
	}
	close(o.changed)
	o.changed = make(chan struct{})
}

// edit changes one site's part and tells the watchers.
func (o *Operation) edit(name string, change func(part *plan.OperationSite)) plan.OperationSite {
	o.mu.Lock()
	defer o.mu.Unlock()
	i := slices.IndexFunc(o.recorded.Sites, func(part plan.OperationSite) bool { return part.Site == name })
	if i < 0 { // of no concern to this operation
		return plan.OperationSite{}
	}
	change(&o.recorded.Sites[i])
	o.changedNow(name)
	return o.recorded.Sites[i]
}

func (o *Operation) progress(name, text string, fraction float64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.activity[name] = plan.Activity{Text: text, Fraction: fraction}
	o.changedNow(name)
}

func (o *Operation) part(name string) *Part { return &Part{o: o, Name: name} }

// names lists the sites whose part goes on.
func (o *Operation) names() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	names := []string{}
	for _, part := range o.recorded.Sites {
		if part.State == plan.OperationRunning {
			names = append(names, part.Site)
		}
	}
	return names
}

// run goes through the plan: each site goes its own way, but for steps that are done once for all that got that far.
func (o *Operation) run() {
	o.announceStates()
	for {
		o.r.Each(o.names(), o.steps)
		if !o.together() {
			break
		}
	}
	o.finish()
}

// announceStates shows what the sites are about to become.
func (o *Operation) announceStates() {
	if o.kind.During == "" {
		return
	}
	for _, name := range o.names() {
		s, _ := o.r.registry.Site(name)
		if s.State == o.kind.Already && s.State != "" {
			continue // it is there
		}
		if s.State == site.Starting && o.kind.During != site.Starting { // a service that just started is bringing it up
			o.r.registry.WaitWhile(o.ctx, name, site.Starting)
		}
		if err := o.r.registry.Move(o.ctx, name, o.kind.During, ""); err != nil {
			o.broken(name, err)
		}
	}
}

// steps does one site's pending steps until one that is done for all together.
func (o *Operation) steps(name string) {
	for {
		position, step, ok := o.next(name)
		if !ok || step.All != nil {
			return
		}
		started := time.Now()
		w := &Part{o: o, Name: name, position: position, step: step.Name}
		err := o.mark(name, position, plan.Active, "", 0)
		if err == nil {
			err = o.ctx.Err()
		}
		if err == nil {
			err = o.do(step, w)
		}
		elapsed := time.Since(started).Milliseconds()
		if err != nil {
			o.mark(name, position, plan.Broken, w.kept, elapsed)
			o.broken(name, fmt.Errorf("%s: %w", step.Title, err))
			return
		}
		o.mark(name, position, plan.Done, w.kept, elapsed)
	}
}

func (o *Operation) do(step Step, w *Part) error {
	if step.Do == nil {
		return fmt.Errorf("this version does not know the step %q of %q", step.Name, o.recorded.Kind)
	}
	if !o.kind.Other {
		if _, err := w.Site(); err != nil {
			return err
		}
	}
	if err := o.point(w.Name, step.Name, "before"); err != nil {
		return err
	}
	if err := step.Do(o.ctx, w); err != nil {
		return err
	}
	return o.point(w.Name, step.Name, "after")
}

func (o *Operation) next(name string) (position int, step Step, ok bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, part := range o.recorded.Sites {
		if part.Site != name || part.State != plan.OperationRunning {
			continue
		}
		for i, entry := range part.Steps {
			if entry.State != plan.Done {
				return i, o.kind.step(entry.Step), true
			}
		}
	}
	return 0, Step{}, false
}

// mark journals where a step stands. A journal that cannot be written (a full disk) must not keep an undo from being done.
func (o *Operation) mark(name string, position int, state plan.StepState, note string, milliseconds int64) error {
	entry := plan.Entry{State: state, Note: note, Milliseconds: milliseconds}
	o.edit(name, func(part *plan.OperationSite) {
		entry.Step, entry.Title = part.Steps[position].Step, part.Steps[position].Title
		part.Steps[position] = entry
	})
	if state == plan.Active && note == "" {
		o.progress(name, entry.Title, -1)
	}
	err := o.r.records.SaveStep(context.WithoutCancel(o.ctx), o.recorded.ID, name, position, entry)
	if err != nil {
		o.r.log.Error("journal", "site", name, "step", entry.Step, "reason", err)
	}
	return err
}

// together does a step that is common to all sites that got this far, and tells whether there was one.
func (o *Operation) together() bool {
	positions := map[string]int{}
	names := []string{}
	var common Step
	for _, name := range o.names() {
		if position, next, ok := o.next(name); ok && next.All != nil && (len(names) == 0 || next.Name == common.Name) {
			common, positions[name] = next, position
			names = append(names, name)
			o.mark(name, position, plan.Active, "", 0)
		}
	}
	if len(names) == 0 {
		return false
	}
	started := time.Now()
	failed := o.all(common, names)
	for _, name := range names {
		elapsed := time.Since(started).Milliseconds()
		if err := failed[name]; err != nil {
			o.mark(name, positions[name], plan.Broken, "", elapsed)
			o.broken(name, fmt.Errorf("%s: %w", common.Title, err))
			continue
		}
		o.mark(name, positions[name], plan.Done, "", elapsed)
	}
	return !o.r.work.Ending()
}

// all does a step for all that got this far, and returns those that failed.
func (o *Operation) all(step Step, names []string) map[string]error {
	failed := map[string]error{}
	left := slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		failed[name] = cmp.Or(o.point(name, step.Name, "before"), o.ctx.Err())
		return failed[name] != nil
	})
	if len(left) > 0 {
		maps.Copy(failed, step.All(o.ctx, left))
	}
	for _, name := range left {
		failed[name] = cmp.Or(failed[name], o.point(name, step.Name, "after"))
	}
	return failed
}

// broken ends one site's part as its kind has it. When the service itself is ending, everything stays as the journal says, for the
// next start.
func (o *Operation) broken(name string, reason error) {
	if o.r.work.Ending() {
		return
	}
	w, ctx := o.part(name), context.WithoutCancel(o.ctx)
	state := plan.OperationFailed
	if errors.Is(reason, context.Canceled) {
		state, reason = plan.OperationCancelled, errors.New("cancelled")
	}
	if o.kind.Broken != nil {
		o.kind.Broken(w, reason)
	}
	text := reason.Error()
	switch o.kind.OnFailure {
	case TakeBack:
		if err := o.takeBack(ctx, name); err != nil { // what is left stays a site, so that it can be retired
			text += "; and taking it back failed: " + err.Error() + "; mend that, then: vessik retire " + name
			o.left(w, text)
		} else {
			text += "; everything was taken back"
		}
	case GoBack:
		var settled *Settled
		if !errors.As(reason, &settled) {
			if err := o.goBack(ctx, w); err != nil {
				text += "; and going back failed: " + err.Error()
				o.r.Fail(name, errors.New(text))
			} else {
				text += "; the site is as it was"
			}
		}
	case MarkFailed:
		o.r.Fail(name, reason)
	case Leave:
	}
	o.end(name, state, text)
}

// Settled says why a step failed that has seen to what becomes of its site already: nothing is to be led back.
type Settled struct{ Text string }

func (e *Settled) Error() string { return e.Text }

// left marks a site that could not be taken back.
func (o *Operation) left(w *Part, text string) {
	if o.kind.Left != nil {
		o.kind.Left(w)
	}
	o.r.Fail(w.Name, errors.New(text))
}

// goBack leads a part to what was before.
func (o *Operation) goBack(ctx context.Context, w *Part) error {
	if err := o.point(w.Name, "go-back", "before"); err != nil {
		return err
	}
	return o.kind.GoBack(ctx, w)
}

// takeBack undoes the steps of a part in reverse.
func (o *Operation) takeBack(ctx context.Context, name string) error {
	var journal []plan.Entry
	o.edit(name, func(part *plan.OperationSite) { journal = slices.Clone(part.Steps) })
	o.progress(name, "taking back", -1)
	for _, position := range plan.Undo(journal) {
		entry := journal[position]
		step := o.kind.step(entry.Step)
		if _, known := o.r.registry.Site(name); step.Undo != nil && (known || o.kind.Other) {
			err := o.point(name, step.Name, "undo")
			if err == nil {
				err = step.Undo(ctx, o.part(name), entry.Note)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", step.Title, err)
			}
		}
		o.mark(name, position, plan.Undone, entry.Note, entry.Milliseconds)
	}
	return nil
}

// end writes how the operation ended for one site.
func (o *Operation) end(name string, state plan.OperationState, problem string) {
	part := o.edit(name, func(part *plan.OperationSite) { part.State, part.Problem = state, problem })
	if err := o.r.records.SavePart(context.WithoutCancel(o.ctx), o.recorded.ID, part); err != nil {
		o.r.log.Error("journal", "site", name, "reason", err)
	}
}

func (o *Operation) finish() {
	defer o.cancel()
	if o.r.work.Ending() && len(o.names()) > 0 {
		for _, name := range o.names() { // all steps done: only the end was not written
			if _, _, more := o.next(name); more {
				return // the journal stays as it is: the next start goes on from it
			}
		}
	}
	for _, name := range o.names() {
		if err := o.point(name, "end", "before"); err != nil {
			o.r.log.Error("end", "site", name, "reason", err)
		}
		o.end(name, plan.OperationDone, "")
	}
	o.mu.Lock()
	now := time.Now().UTC().Truncate(time.Millisecond)
	o.recorded.FinishedAt, o.recorded.State = &now, plan.OperationDone
	for _, part := range o.recorded.Sites {
		if part.State != plan.OperationDone {
			o.recorded.State = part.State
		}
	}
	o.mu.Unlock()
	if err := o.r.records.Finish(context.WithoutCancel(o.ctx), o.Snapshot()); err != nil {
		o.r.log.Error("journal", "operation", o.recorded.ID, "reason", err)
	}
	o.r.leave(o.recorded.ID)
	o.mu.Lock()
	o.done, o.activity = true, map[string]plan.Activity{}
	o.changedNow("")
	o.mu.Unlock()
	o.r.over(o.recorded.ID)
}
