package operation

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"vessik/internal/background"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/records"
	"vessik/internal/registry"
)

// ErrBusy says that an operation works on a site already.
var ErrBusy = errors.New("busy")

// Runner carries out the operations of one service, many at a time.
type Runner struct {
	// Judging is held while one request is judged and reserved: so none begins meanwhile.
	Judging sync.Mutex
	// Failed is told of a site that was marked as failed; nil for nobody.
	Failed func(name string)

	registry *registry.Registry
	records  *records.Records
	work     *background.Work
	log      *slog.Logger
	kinds    map[plan.Kind]Kind
	slots    chan struct{} // bounds how many sites are worked on at a time

	mu         sync.Mutex
	busy       map[string]string // operation by site
	operations map[string]*Operation
	news       []news // the newest last
	version    uint64 // grows with each of them
}

// news is that an operation was begun, or is over.
type news struct {
	version uint64
	id      string
}

const newsKept = 500

// New returns a runner that knows no kind yet.
func New(sites *registry.Registry, kept *records.Records, work *background.Work, log *slog.Logger) *Runner {
	return &Runner{registry: sites, records: kept, work: work, log: log, kinds: map[plan.Kind]Kind{},
		slots: make(chan struct{}, max(4, 2*runtime.NumCPU())), busy: map[string]string{}, operations: map[string]*Operation{}}
}

// Register makes kinds known.
func (r *Runner) Register(kinds ...Kind) {
	for _, kind := range kinds {
		r.kinds[kind.Name] = kind
	}
	r.listKinds()
}

// Kind returns a registered one.
func (r *Runner) Kind(name plan.Kind) Kind { return r.kinds[name] }

// Request is one that was judged.
type Request struct {
	Kind    plan.Kind
	Payload any         // what its kind reads; nil for nothing
	Reserve []site.Site // new sites, reserved with it
	Names   []string    // of its parts, in order
	Steps   map[string][]plan.Step
}

// Free says why a site cannot be changed now: an operation is at it. Judging is to be held, so that none begins meanwhile.
func (r *Runner) Free(name string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if other := r.busy[name]; other != "" {
		return fmt.Errorf("%s is being worked on by operation %s: %w; wait for it (vessik operations %s), or cancel it",
			name, other, ErrBusy, other)
	}
	return nil
}

// Busy tells whether an operation works on a site.
func (r *Runner) Busy(name string) bool { return r.Free(name) != nil }

// Working tells whether anything is being carried out.
func (r *Runner) Working() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.operations) > 0
}

// WhileIdle does something short while nothing is being carried out nor begun, and leaves it where something is.
func (r *Runner) WhileIdle(do func()) {
	r.Judging.Lock()
	defer r.Judging.Unlock()
	if !r.Working() {
		do()
	}
}

// Each runs a function for every name, as many at a time as the machine bears, and returns when all are through.
func (r *Runner) Each(names []string, do func(name string)) {
	var group errgroup.Group
	for _, name := range names {
		group.Go(func() error {
			r.slots <- struct{}{}
			defer func() { <-r.slots }()
			do(name)
			return nil
		})
	}
	group.Wait()
}

// Begin records an operation, marks its sites as busy, and sets it going; Judging is held. A reservation that somebody else has is a
// site.Problems, a site that is worked on ErrBusy.
func (r *Runner) Begin(ctx context.Context, asked Request) (plan.Operation, error) {
	kind, known := r.kinds[asked.Kind]
	if !known {
		return plan.Operation{}, fmt.Errorf("there is no kind of operation %q", asked.Kind)
	}
	for _, name := range asked.Names {
		if err := r.Free(name); !kind.Shared && err != nil {
			return plan.Operation{}, err
		}
	}
	payload, err := json.Marshal(asked.Payload)
	if err != nil {
		return plan.Operation{}, err
	}
	recorded, err := r.records.Begin(ctx, plan.Operation{Kind: asked.Kind, Payload: payload}, asked.Reserve, asked.Names, asked.Steps)
	var taken *records.ErrTaken
	if errors.As(err, &taken) {
		return plan.Operation{}, errors.Join(taken, site.Problems{{Site: taken.Site, Field: strings.ReplaceAll(taken.Kind, " ", "_"),
			Message: fmt.Sprintf("%q was taken meanwhile", taken.Value), Remedy: "choose another"}})
	}
	if err != nil {
		return plan.Operation{}, err
	}
	o := r.newOperation(*recorded)
	r.registry.Add(asked.Reserve...)
	r.enter(o, asked.Names)
	r.registry.Announce()
	snapshot := r.shown(o.Snapshot())
	r.work.Go(o.run)
	return snapshot, nil
}

// UnlessTaken begins an operation that makes sites. A site that starts may take a port that was chosen for one of them, between the judging
// and the reservation: then it is judged anew.
func UnlessTaken(begin func() (plan.Operation, error)) (begun plan.Operation, err error) {
	for range 3 {
		if begun, err = begin(); !errors.As(err, new(*records.ErrTaken)) {
			break
		}
	}
	return begun, err
}

// enter has an operation be among those that are carried out.
func (r *Runner) enter(o *Operation, names []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.operations[o.recorded.ID] = o
	r.tell(o.recorded.ID)
	for _, name := range names {
		if !o.kind.Shared {
			r.busy[name] = o.recorded.ID
		}
	}
}

// leave gives an operation's sites free.
func (r *Runner) leave(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	maps.DeleteFunc(r.busy, func(_, by string) bool { return by == id })
}

// over has the records tell of an operation from now on.
func (r *Runner) over(id string) {
	r.mu.Lock()
	delete(r.operations, id)
	r.tell(id)
	r.mu.Unlock()
	r.registry.Announce()
}

// tell keeps that an operation was begun, or is over; held by mu.
func (r *Runner) tell(id string) {
	r.version++
	r.news = append(r.news, news{r.version, id})
	r.news = r.news[max(len(r.news)-newsKept, 0):]
}

// Since returns the operations that were begun or ended after a version, each once; ok is false where that is not known any more.
func (r *Runner) Since(version uint64) (ids []string, now uint64, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, each := range r.news {
		if each.version > version && !slices.Contains(ids, each.id) {
			ids = append(ids, each.id)
		}
	}
	return ids, r.version, len(r.news) == 0 || version+1 >= r.news[0].version
}

// Fail marks a site as failed, with the reason, and tells Failed. What runs of it stays.
func (r *Runner) Fail(name string, reason error) {
	r.log.Error("site failed", "site", name, "reason", reason)
	if err := r.registry.Move(context.WithoutCancel(r.work.Context()), name, site.Failed, reason.Error()); err != nil {
		if !errors.Is(err, registry.ErrNoSite) {
			r.log.Error("record the failure", "site", name, "reason", err)
			r.registry.Presume(name, site.Failed, reason.Error())
		}
		return
	}
	if r.Failed != nil {
		r.work.Go(func() { r.Failed(name) })
	}
}

// Cancel asks an operation to stop; what it has begun is dealt with as its kind has it.
func (r *Runner) Cancel(id string) error {
	r.mu.Lock()
	o := r.operations[id]
	r.mu.Unlock()
	if o == nil {
		return fmt.Errorf("operation %s is not running: %w", id, records.ErrNotFound)
	}
	o.cancel()
	return nil
}

// Unfinished are the operations that a service left unfinished.
func (r *Runner) Unfinished(ctx context.Context) ([]plan.Operation, error) {
	return r.records.Unfinished(ctx)
}

// Resume deals with what a service left unfinished, and returns the sites that were taken care of; Judging is held.
func (r *Runner) Resume(unfinished []plan.Operation) (handled map[string]bool) {
	handled = map[string]bool{}
	for _, recorded := range unfinished {
		for _, name := range r.recover(recorded) {
			handled[name] = true
		}
	}
	return handled
}

// recover takes back what is to be taken back, sets going what goes on, and returns the sites that it took care of. A site that cannot
// be taken back is that site's trouble: it is told, and can be retired.
func (r *Runner) recover(recorded plan.Operation) (handled []string) {
	o := r.newOperation(recorded)
	ctx := context.WithoutCancel(o.ctx)
	resumed := []string{}
	for _, part := range recorded.Sites {
		if part.State != plan.OperationRunning {
			continue
		}
		if _, known := r.registry.Site(part.Site); !known && !o.kind.Other { // forgotten in the last step: only the end was not written
			o.end(part.Site, plan.OperationDone, "")
			continue
		}
		next := plan.Resume
		if o.kind.Recover != nil {
			next = o.kind.Recover(part.Steps)
		}
		var left bool
		switch {
		case o.kind.Name == "":
			o.end(part.Site, plan.OperationFailed, fmt.Sprintf("this version does not know operations of the kind %q", recorded.Kind))
		case next == plan.GiveUp:
			o.end(part.Site, plan.OperationFailed, "the service ended meanwhile; "+o.kind.Again)
		case next == plan.TakeBack && o.kind.OnFailure == GoBack:
			left = o.settle(part.Site, "being changed", "going back", "; it is as it was before", func() error {
				return o.goBack(ctx, o.part(part.Site))
			})
		case next == plan.TakeBack:
			r.log.Warn("taking back a site that was half made", "site", part.Site)
			left = o.settle(part.Site, "being made", "taking it back", "; everything was taken back", func() error {
				return o.takeBack(ctx, part.Site)
			})
		default:
			resumed = append(resumed, part.Site)
		}
		if left {
			handled = append(handled, part.Site)
		}
	}
	if len(resumed) == 0 {
		o.finish()
		return handled
	}
	r.resume(o, resumed)
	if o.kind.During == "" && o.kind.Resumed == "" { // it is no concern of it whether they run
		return handled
	}
	return append(handled, resumed...)
}

// settle ends the part of a site that was half done, and tells whether it could neither be finished nor taken back.
func (o *Operation) settle(name, while, doing, done string, do func() error) (left bool) {
	text := "the service ended while the site was " + while
	o.point(name, "recover", "before") // tests hold it here
	if err := do(); err != nil {
		text += ", and " + doing + " failed: " + err.Error()
		if o.kind.OnFailure == TakeBack {
			text += "; mend that, then: vessik retire " + name
		}
		o.left(o.part(name), text)
		o.end(name, plan.OperationFailed, text)
		return true
	}
	o.end(name, plan.OperationFailed, text+done)
	return false
}

// resume sets an operation going where it was. Processes died with the service: steps that only started or stopped them are done again.
func (r *Runner) resume(o *Operation, names []string) {
	for _, name := range names {
		for i, entry := range o.part(name).Journal() {
			if o.kind.step(entry.Step).Passing || entry.State == plan.Active || entry.State == plan.Broken {
				o.mark(name, i, plan.Pending, entry.Note, entry.Milliseconds)
			}
		}
		if o.kind.Resumed != "" {
			r.registry.Presume(name, o.kind.Resumed, "")
		}
	}
	r.enter(o, names)
	r.work.Go(o.run)
}

// Watch returns an operation as it is now, the parts that have changed since a version only (0 for all), and a channel that is closed
// at its next change; nil once it is over.
func (r *Runner) Watch(ctx context.Context, id string, since uint64) (plan.Watched, <-chan struct{}, error) {
	r.mu.Lock()
	o := r.operations[id]
	r.mu.Unlock()
	if o == nil {
		recorded, err := r.records.Operation(ctx, id)
		return plan.Watched{Operation: r.shown(recorded), Activity: map[string]plan.Activity{}}, nil, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	watched := plan.Watched{Operation: o.since(since), Activity: map[string]plan.Activity{}, Version: o.version}
	for _, part := range watched.Sites {
		if activity, ok := o.activity[part.Site]; ok {
			watched.Activity[part.Site] = activity
		}
	}
	if since == 0 || o.head > since {
		watched.Operation = r.shown(watched.Operation)
	}
	if o.done {
		return watched, nil, nil
	}
	return watched, o.changed, nil
}

// Follow waits until an operation is over, and returns it as it ended; the error is that of ctx.
func (r *Runner) Follow(ctx context.Context, id string) (plan.Operation, error) {
	for {
		watched, changed, err := r.Watch(ctx, id, 0)
		if err != nil || changed == nil {
			return watched.Operation, err
		}
		select {
		case <-ctx.Done():
			return watched.Operation, ctx.Err()
		case <-changed:
		}
	}
}

// afterJudging returns when nothing that was asked for before is being judged any more, nor resumed.
func (r *Runner) afterJudging() {
	r.Judging.Lock()
	defer r.Judging.Unlock()
}

// WaitFree returns when no operation works on a site, or ctx ends. What an earlier service has begun is settled before.
func (r *Runner) WaitFree(ctx context.Context, name string) {
	r.afterJudging()
	for {
		changed := r.registry.Changed()
		if !r.Busy(name) {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// Operations returns the newest first.
func (r *Runner) Operations(ctx context.Context, limit int) ([]plan.Operation, error) {
	found, err := r.records.Operations(ctx, limit)
	for i := range found {
		found[i] = r.shown(found[i])
	}
	return found, err
}

// PayloadOf reads what a recorded operation carries.
func PayloadOf[T any](ctx context.Context, r *Runner, id string) (payload T, err error) {
	recorded, err := r.records.Operation(ctx, id)
	if err == nil && len(recorded.Payload) > 0 {
		err = json.Unmarshal(recorded.Payload, &payload)
	}
	return payload, err
}

// shown adds to a recorded operation what its kind shows of it.
func (r *Runner) shown(o plan.Operation) plan.Operation {
	kind := r.kinds[o.Kind]
	if kind.Show != nil && len(o.Payload) > 0 {
		details, err := kind.Show(o.Payload)
		if err == nil {
			o.Details, err = json.Marshal(details)
		}
		if err != nil {
			r.log.Error("what an operation carries", "operation", o.ID, "reason", err)
		}
	}
	for i := range o.Sites {
		o.Sites[i].Steps = slices.Clone(o.Sites[i].Steps)
		for j, entry := range o.Sites[i].Steps {
			o.Sites[i].Steps[j].Title = kind.step(entry.Step).Title
		}
	}
	return o
}
