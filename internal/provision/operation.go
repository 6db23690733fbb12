package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/records"
)

// operation is one that is being carried out. Its snapshot may be read and its changes watched by anyone.
type operation struct {
	p      *Provisioner
	ctx    context.Context
	cancel context.CancelFunc

	mu       sync.Mutex
	recorded records.Operation
	activity map[string]plan.Activity
	changed  chan struct{}
	done     bool
}

func newOperation(p *Provisioner, recorded records.Operation) *operation {
	o := &operation{p: p, recorded: recorded, activity: map[string]plan.Activity{}, changed: make(chan struct{})}
	o.ctx, o.cancel = context.WithCancel(p.context)
	return o
}

// Snapshot is a copy that stays as it is.
func (o *operation) Snapshot() records.Operation {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.copy()
}

func (o *operation) copy() records.Operation {
	snapshot := o.recorded
	snapshot.Sites = slices.Clone(snapshot.Sites)
	for i := range snapshot.Sites {
		part := &snapshot.Sites[i]
		part.Steps = slices.Clone(part.Steps)
		if part.Report != nil {
			report := *part.Report
			report.Checks = slices.Clone(report.Checks)
			part.Report = &report
		}
	}
	return snapshot
}

// Watch returns an operation as it is now and a channel that is closed at its next change; nil once it is over.
func (p *Provisioner) Watch(ctx context.Context, id string) (plan.Watched, <-chan struct{}, error) {
	p.mu.Lock()
	o := p.operations[id]
	p.mu.Unlock()
	if o == nil {
		recorded, err := p.records.Operation(ctx, id)
		return plan.Watched{Operation: recorded, Activity: map[string]plan.Activity{}}, nil, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	activity := map[string]plan.Activity{}
	for name, a := range o.activity {
		activity[name] = a
	}
	watched := plan.Watched{Operation: o.copy(), Activity: activity}
	if o.done {
		return watched, nil, nil
	}
	return watched, o.changed, nil
}

// Cancel asks an operation to stop; what it has begun is taken back.
func (p *Provisioner) Cancel(id string) error {
	p.mu.Lock()
	o := p.operations[id]
	p.mu.Unlock()
	if o == nil {
		return fmt.Errorf("operation %s is not running: %w", id, records.ErrNotFound)
	}
	o.cancel()
	return nil
}

// edit changes one site's part and tells the watchers.
func (o *operation) edit(name string, change func(part *records.OperationSite)) records.OperationSite {
	o.mu.Lock()
	defer o.mu.Unlock()
	i := slices.IndexFunc(o.recorded.Sites, func(part records.OperationSite) bool { return part.Site == name })
	change(&o.recorded.Sites[i])
	close(o.changed)
	o.changed = make(chan struct{})
	return o.recorded.Sites[i]
}

func (o *operation) progress(name, text string, fraction float64) {
	o.mu.Lock()
	o.activity[name] = plan.Activity{Text: text, Fraction: fraction}
	o.mu.Unlock()
	o.edit(name, func(*records.OperationSite) {})
}

// start carries the operation out in the background; the provisioner's Close waits for it.
func (o *operation) start() {
	o.p.work.Add(1)
	go func() {
		defer o.p.work.Done()
		o.run()
	}()
}

// names lists the sites whose part goes on.
func (o *operation) names() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	names := []string{}
	for _, part := range o.recorded.Sites {
		if part.State == records.OperationRunning {
			names = append(names, part.Site)
		}
	}
	return names
}

// run goes through the plan. All sites of one operation have the same kind of plan, with one step that is done for all of them
// together (publish or withdraw: one configuration check and one reload); before and after it, each site goes its own way.
func (o *operation) run() {
	p := o.p
	together := plan.Publish
	switch o.recorded.Kind {
	case plan.Stop:
		together = plan.Withdraw
	case plan.Retire:
		together = plan.Withdraw
	}
	o.announceStates()
	if o.recorded.Kind == plan.TryOut { // each copy is gone before another one comes
		together = ""
	}
	p.each(o.names(), func(name string) { o.steps(name, func(s plan.Step) bool { return s == together }) })
	o.together(together)
	p.each(o.names(), func(name string) { o.steps(name, func(plan.Step) bool { return false }) })
	o.finish()
}

// announceStates shows what the sites are about to become.
func (o *operation) announceStates() {
	state := map[plan.Kind]site.State{plan.Start: site.Starting, plan.Stop: site.Stopping, plan.Retire: site.Retiring}[o.recorded.Kind]
	if state == "" {
		return
	}
	for _, name := range o.names() {
		s, _ := o.p.Site(name)
		if o.recorded.Kind == plan.Start && s.State == site.Running || o.recorded.Kind == plan.Stop && s.State == site.Stopped {
			continue // it is there already
		}
		if s.State == site.Starting && o.recorded.Kind != plan.Start { // a service that just started is bringing it up
			o.p.waitWhile(o.ctx, name, site.Starting)
		}
		if err := o.p.setState(o.ctx, name, state, ""); err != nil {
			o.broken(name, err)
		}
	}
}

// waitWhile returns when a site has left a state.
func (p *Provisioner) waitWhile(ctx context.Context, name string, state site.State) {
	for {
		changed := p.Changed()
		if s, ok := p.Site(name); !ok || s.State != state {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// steps does one site's pending steps until one that the caller keeps for later.
func (o *operation) steps(name string, until func(plan.Step) bool) {
	for {
		position, step, ok := o.next(name)
		if !ok || until(step) {
			return
		}
		started := time.Now()
		kept := ""
		err := o.mark(name, position, plan.Active, "", 0)
		if err == nil {
			err = o.ctx.Err()
		}
		if err == nil {
			err = o.p.do(o, name, step, func(text string) { kept = text; o.mark(name, position, plan.Active, text, 0) })
		}
		elapsed := time.Since(started).Milliseconds()
		if err != nil {
			o.mark(name, position, plan.Broken, kept, elapsed)
			o.broken(name, fmt.Errorf("%s: %w", step.Title(), err))
			return
		}
		o.mark(name, position, plan.Done, kept, elapsed)
	}
}

func (o *operation) next(name string) (position int, step plan.Step, ok bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, part := range o.recorded.Sites {
		if part.Site != name || part.State != records.OperationRunning {
			continue
		}
		for i, entry := range part.Steps {
			if entry.State != plan.Done {
				return i, entry.Step, true
			}
		}
	}
	return 0, "", false
}

// mark journals where a step stands. A journal that cannot be written (a full disk) must not keep an undo from being done.
func (o *operation) mark(name string, position int, state plan.StepState, note string, milliseconds int64) error {
	entry := plan.Entry{State: state, Note: note, Milliseconds: milliseconds}
	o.edit(name, func(part *records.OperationSite) {
		entry.Step = part.Steps[position].Step
		part.Steps[position] = entry
	})
	if state == plan.Active && note == "" {
		o.progress(name, entry.Step.Title(), -1)
	}
	err := o.p.records.SaveStep(context.WithoutCancel(o.ctx), o.recorded.ID, name, position, entry)
	if err != nil {
		o.p.Log.Error("journal", "site", name, "step", entry.Step, "reason", err)
	}
	return err
}

// together does the one step that is common to all sites that got this far.
func (o *operation) together(step plan.Step) {
	positions := map[string]int{}
	names := []string{}
	for _, name := range o.names() {
		if position, next, ok := o.next(name); ok && next == step {
			positions[name] = position
			names = append(names, name)
			o.mark(name, position, plan.Active, "", 0)
		}
	}
	if len(names) == 0 {
		return
	}
	started := time.Now()
	var failed map[string]error
	switch {
	case o.ctx.Err() != nil:
		failed = map[string]error{}
		for _, name := range names {
			failed[name] = o.ctx.Err()
		}
	case step == plan.Publish:
		failed = o.p.publish(o.ctx, names)
	default:
		failed = o.p.withdraw(o.ctx, names)
	}
	for _, name := range names {
		elapsed := time.Since(started).Milliseconds()
		if err := failed[name]; err != nil {
			o.mark(name, positions[name], plan.Broken, "", elapsed)
			o.broken(name, fmt.Errorf("%s: %w", step.Title(), err))
			continue
		}
		o.mark(name, positions[name], plan.Done, "", elapsed)
	}
}

// broken ends one site's part: a new site is taken back, another one is left and marked as failed. When the service itself is
// ending, everything stays as the journal says, for the next start.
func (o *operation) broken(name string, reason error) {
	if o.p.context.Err() != nil {
		return
	}
	state := records.OperationFailed
	if errors.Is(reason, context.Canceled) {
		state, reason = records.OperationCancelled, errors.New("cancelled")
	}
	if errors.Is(reason, engine.ErrPortTaken) {
		reason = fmt.Errorf("%w; it was asked for by number: end that program, then start the site again", reason)
	}
	text := reason.Error()
	switch o.recorded.Kind {
	case plan.New:
		if err := o.takeBack(name); err != nil { // what is left stays a site, so that it can be retired
			o.markForeign(name)
			text += "; and taking it back failed: " + err.Error() + "; mend that, then: vessik retire " + name
			o.p.fail(name, errors.New(text))
		} else {
			text += "; everything was taken back"
		}
	case plan.TryOut:
		o.failedCell(name, reason)
		if err := o.takeBack(name); err != nil {
			text += "; and taking it back failed: " + err.Error()
			o.p.fail(name, errors.New(text))
		}
	case plan.Restack, plan.Adjust, plan.Readdress, plan.LoadSQL:
		var back *wentBack
		if !errors.As(reason, &back) {
			if err := o.p.goBack(o, name); err != nil {
				text += "; and going back failed: " + err.Error()
				o.p.fail(name, errors.New(text))
			} else {
				text += "; the site is as it was"
			}
		}
	case plan.Start, plan.Retire:
		o.p.fail(name, reason)
	case plan.Stop:
		if s, _ := o.p.Site(name); s.State == site.Stopping {
			o.p.fail(name, reason)
		}
	}
	o.end(name, state, text)
}

// markForeign keeps a database that was there before from being dropped with the site that could not be made.
func (o *operation) markForeign(name string) {
	for _, entry := range o.part(name).Steps {
		if entry.Step == plan.CreateDatabase && entry.State != plan.Pending && entry.Note == "" {
			o.p.change(context.WithoutCancel(o.ctx), name, func(s *site.Site) error { s.Database.Foreign = true; return nil })
		}
	}
}

// takeBack undoes a new site's steps in reverse and forgets the site.
func (o *operation) takeBack(name string) error {
	ctx := context.WithoutCancel(o.ctx)
	var journal []plan.Entry
	o.edit(name, func(part *records.OperationSite) { journal = slices.Clone(part.Steps) })
	o.progress(name, "taking back", -1)
	for _, step := range plan.Undo(journal) {
		position := slices.IndexFunc(journal, func(e plan.Entry) bool { return e.Step == step })
		if err := o.p.undo(ctx, o, name, step, journal[position].Note); err != nil {
			return fmt.Errorf("%s: %w", step.Title(), err)
		}
		o.mark(name, position, plan.Undone, journal[position].Note, journal[position].Milliseconds)
	}
	return nil
}

// end writes how the operation ended for one site.
func (o *operation) end(name string, state records.OperationState, problem string) {
	part := o.edit(name, func(part *records.OperationSite) { part.State, part.Problem = state, problem })
	if err := o.p.records.SavePart(context.WithoutCancel(o.ctx), o.recorded.ID, part); err != nil {
		o.p.Log.Error("journal", "site", name, "reason", err)
	}
}

func (o *operation) finish() {
	p := o.p
	defer o.cancel()
	if p.context.Err() != nil && len(o.names()) > 0 {
		for _, name := range o.names() { // all steps done: only the end was not written
			if _, _, more := o.next(name); more {
				return // the journal stays as it is: the next start goes on from it
			}
		}
	}
	for _, name := range o.names() {
		o.end(name, records.OperationDone, "")
	}
	o.mu.Lock()
	now := time.Now().UTC().Truncate(time.Millisecond)
	o.recorded.FinishedAt, o.recorded.State = &now, records.OperationDone
	for _, part := range o.recorded.Sites {
		if part.State != records.OperationDone {
			o.recorded.State = part.State
		}
	}
	o.mu.Unlock()
	if err := p.records.Finish(context.WithoutCancel(o.ctx), o.Snapshot()); err != nil {
		p.Log.Error("journal", "operation", o.recorded.ID, "reason", err)
	}
	p.mu.Lock()
	for name, id := range p.busy {
		if id == o.recorded.ID {
			delete(p.busy, name)
		}
	}
	p.mu.Unlock()
	o.mu.Lock()
	o.done, o.activity = true, map[string]plan.Activity{}
	close(o.changed)
	o.changed = make(chan struct{})
	o.mu.Unlock()
	p.mu.Lock()
	delete(p.operations, o.recorded.ID) // from now on the records tell
	p.mu.Unlock()
	p.announce()
}

// report shows results as they come.
func (o *operation) report(name string, report check.SiteReport) {
	o.edit(name, func(part *records.OperationSite) { part.Add(report) })
}

// recover deals with an operation that a service left unfinished, and returns the sites that it took care of. What is to be taken
// back is taken back here; what goes on is set going.
func (p *Provisioner) recover(ctx context.Context, recorded records.Operation) (handled []string, err error) {
	o := newOperation(p, recorded)
	resumed := []string{}
	for _, part := range recorded.Sites {
		if part.State != records.OperationRunning {
			continue
		}
		if _, ok := p.Site(part.Site); !ok && recorded.Kind != plan.Fetch { // forgotten in the last step: only the end was not written
			o.end(part.Site, records.OperationDone, "")
			continue
		}
		switch {
		case plan.Recover(recorded.Kind, part.Steps) == plan.TakeBack:
			if recorded.Kind.Changes() {
				if err := o.p.goBack(o, part.Site); err != nil {
					return nil, err
				}
				o.end(part.Site, records.OperationFailed, "the service ended while the site was being changed; it is as it was before")
				continue
			}
			p.Log.Warn("taking back a site that was half made", "site", part.Site)
			text := "the service ended while the site was being made; everything was taken back"
			if err := o.takeBack(part.Site); err != nil {
				return nil, err
			}
			o.end(part.Site, records.OperationFailed, text)
		case recorded.Kind == plan.Fetch:
			o.end(part.Site, records.OperationFailed, "the service ended meanwhile; fetch it again")
		case recorded.Kind == plan.Verify:
			o.end(part.Site, records.OperationFailed, "the service ended meanwhile; verify again")
		default:
			resumed = append(resumed, part.Site)
			handled = append(handled, part.Site)
		}
	}
	if len(resumed) == 0 {
		o.finish()
		return handled, nil
	}
	// Processes died with the service: steps that only started or stopped them are done again.
	for _, name := range resumed {
		for i, entry := range o.part(name).Steps {
			if entry.Step == plan.StartPHP || entry.Step == plan.Publish || entry.State == plan.Active || entry.State == plan.Broken {
				o.mark(name, i, plan.Pending, entry.Note, entry.Milliseconds)
			}
		}
		p.mu.Lock()
		p.busy[name] = recorded.ID
		s := p.sites[name]
		if recorded.Kind == plan.New || recorded.Kind == plan.Start {
			s.State = site.Starting
		}
		p.sites[name] = s
		p.mu.Unlock()
	}
	p.mu.Lock()
	p.operations[recorded.ID] = o
	p.mu.Unlock()
	o.start()
	return handled, nil
}

func (o *operation) part(name string) records.OperationSite {
	for _, part := range o.Snapshot().Sites {
		if part.Site == name {
			return part
		}
	}
	return records.OperationSite{}
}
