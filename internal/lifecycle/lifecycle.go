// Package lifecycle starts, stops, verifies and retires sites, and brings them back after the service was started.
package lifecycle

import (
	"context"
	"slices"
	"sync"
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/running"
	"vessik/internal/verify"
)

// Feature is the lifecycle of the sites of one machine.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Origins    *origin.Origins
	Verifier   *verify.Verifier
}

// retiring is what a request to retire sites carries.
type retiring struct {
	KeepFiles bool `json:"keep_files"`
}

// Kinds are what can be done with sites that exist.
func (f *Feature) Kinds() []operation.Kind {
	m, proof := f.Machine, f.Verifier.Step()
	fetch := m.FetchStep(f.Origins.EnginesOf, nil)
	keeps := func(w *operation.Part) bool {
		asked, err := operation.Payload[retiring](w)
		return err != nil || asked.KeepFiles // where it cannot be read, nothing is lost
	}
	return []operation.Kind{
		{Name: plan.Start, During: site.Starting, Already: site.Running, Resumed: site.Starting, OnFailure: operation.MarkFailed,
			Steps: []operation.Step{fetch, m.StartStep(), m.PublishStep(), proof}},
		{Name: plan.Stop, During: site.Stopping, Already: site.Stopped, Broken: f.notStopped,
			Steps: []operation.Step{m.WithdrawStep(), f.stopStep()}},
		{Name: plan.Verify, Shared: true, Recover: plan.Always(plan.GiveUp), Again: "verify again", Steps: []operation.Step{proof}},
		{Name: plan.Retire, During: site.Retiring, OnFailure: operation.MarkFailed, Steps: []operation.Step{
			m.WithdrawStep(), m.StopStep(), m.DropStep(keeps), f.Origins.RemoveStep(keeps), m.ReleaseStep()}},
	}
}

// stopStep is the machine's, after which the site is stopped.
func (f *Feature) stopStep() operation.Step {
	step := f.Machine.StopStep()
	stop := step.Do
	step.Do = func(ctx context.Context, w *operation.Part) error {
		if err := stop(ctx, w); err != nil {
			return err
		}
		if err := f.Machine.Registry.Edit(ctx, w.Name, func(s *site.Site) error { s.Notice = ""; return nil }); err != nil {
			return err
		}
		return f.Machine.Registry.Move(ctx, w.Name, site.Stopped, "")
	}
	return step
}

// notStopped marks a site that is neither running nor stopped.
func (f *Feature) notStopped(w *operation.Part, reason error) {
	if s, err := w.Site(); err == nil && s.State == site.Stopping {
		f.Operations.Fail(w.Name, reason)
	}
}

// Do takes a request about sites that exist: start, stop, verify or retire.
func (f *Feature) Do(ctx context.Context, kind plan.Kind, names []string, keepFiles bool) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	problems := site.Problems{}
	plans := map[string][]plan.Step{}
	names = slices.Compact(slices.Sorted(slices.Values(names)))
	for _, name := range names {
		s, ok := f.Machine.Registry.Site(name)
		if !ok {
			problems = append(problems, site.NoSite(name)...)
			continue
		}
		left := []plan.Step{}
		if kind != plan.Start || !f.Origins.Missing(s) {
			left = append(left, running.FetchEngines)
		}
		plans[name] = f.Operations.Kind(kind).Without(left...)
	}
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	return f.Operations.Begin(ctx, operation.Request{Kind: kind, Payload: retiring{keepFiles}, Names: names, Steps: plans})
}

// VerifyAgain has a site verified that nobody asked for: one that failed, so that its report shows what still answers.
func (f *Feature) VerifyAgain(name string) {
	if _, err := f.Do(f.Machine.Work.Context(), plan.Verify, []string{name}, false); err != nil && !f.Machine.Work.Ending() {
		f.Machine.Log.Error("verify again", "site", name, "reason", err)
	}
}

// Resume brings the home back to where it was: sites that ran answer again, those of unfinished operations once these go on or have been
// taken back. It returns once that is under way for all and done for the operations. Judging is held: nothing new is begun before what was
// begun is settled.
func (f *Feature) Resume(ctx context.Context) error {
	unfinished, err := f.Operations.Unfinished(ctx)
	if err != nil {
		return err
	}
	later := map[string]bool{}
	for _, o := range unfinished {
		for _, part := range o.Sites {
			later[part.Site] = later[part.Site] || part.State == plan.OperationRunning
		}
	}
	var under sync.WaitGroup
	f.bringUp(&under, func(name string) bool { return !later[name] })
	handled := f.Operations.Resume(unfinished)
	f.bringUp(&under, func(name string) bool { return later[name] && !handled[name] })
	f.Machine.Work.Go(func() {
		under.Wait()
		f.Machine.Settled()
	})
	return nil
}

// bringUp has those of some sites that ran before run again.
func (f *Feature) bringUp(under *sync.WaitGroup, which func(name string) bool) {
	names := []string{}
	for _, s := range f.Machine.Registry.All() {
		if !which(s.Name) {
			continue
		}
		if s.State == site.Running || s.State == site.Starting || s.State == site.Failed || s.State == site.Stopping {
			names = append(names, s.Name)
			f.Machine.Registry.Presume(s.Name, site.Starting, "")
		}
	}
	if len(names) == 0 {
		return
	}
	under.Add(1)
	f.Machine.Work.Go(func() {
		defer under.Done()
		started := time.Now()
		for name, err := range f.Machine.BringUp(f.Machine.Work.Context(), names) {
			if !f.Machine.Work.Ending() {
				f.Operations.Fail(name, err)
			}
		}
		f.Machine.Log.Info("sites are back", "sites", len(names), "milliseconds", time.Since(started).Milliseconds())
	})
}
