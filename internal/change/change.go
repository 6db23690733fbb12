// Package change leads sites from one target to another, and back where that fails or leaves a site worse off: what changes of stack, of
// settings, of address and of content have in common.
package change

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/points"
	"vessik/internal/running"
	"vessik/internal/verify"
	"vessik/internal/walk"
)

// Changer changes the sites of one machine.
type Changer struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Verifier   *verify.Verifier
	Points     *points.Points
	Origins    *origin.Origins
	Walks      *walk.Feature

	knownMu sync.Mutex
	known   map[string][]string // directives by PHP
}

// Names of the steps of changes.
const (
	Baseline           plan.Step = "baseline"
	CheckConfiguration plan.Step = "check-configuration"
	Switch             plan.Step = "switch"
	Settle             plan.Step = "settle"
)

// stays notes that a change is not taken back any more.
const stays = "stays"

// TargetOf is what a site runs on now.
func TargetOf(s site.Site) plan.Target {
	return plan.Target{Stack: s.Stack, Settings: s.Settings, Domain: s.Domain, Domains: s.Domains, Forwards: s.Forwards,
		HTTPS: s.HTTPS}
}

// Begin begins a change, without the steps that it does not need.
func (c *Changer) Begin(ctx context.Context, kind plan.Kind, change plan.Change, left ...plan.Step) (plan.Operation, error) {
	return c.Operations.Begin(ctx, operation.Request{Kind: kind, Payload: change, Names: []string{change.Site},
		Steps: map[string][]plan.Step{change.Site: c.Steps(kind, change, left...)}})
}

// Steps are those of a change.
func (c *Changer) Steps(kind plan.Kind, change plan.Change, left ...plan.Step) []plan.Step {
	next, _ := c.Machine.Registry.Site(change.Site)
	next.Stack, next.Settings = change.After.Stack, change.After.Settings
	if !c.Origins.Missing(next) {
		left = append(left, running.FetchEngines)
	}
	return c.Operations.Kind(kind).Without(left...)
}

// Kind is a kind of change of these steps. before and after are what else is taken back, before and after the site is on its old target
// again; nil for nothing. Both bear that there is nothing to be taken back.
func (c *Changer) Kind(name plan.Kind, before, after Back, steps ...operation.Step) operation.Kind {
	return operation.Kind{Name: name, Steps: steps, OnFailure: operation.GoBack, Recover: unfinished,
		Show:   operation.ShowAs[plan.Change],
		GoBack: func(ctx context.Context, w *operation.Part) error { return c.goBack(ctx, w, before, after) }}
}

// Back takes back a part of a change.
type Back func(ctx context.Context, w *operation.Part, s site.Site, change plan.Change) error

// goBack brings a site back to what it was before a change, from wherever the change has got to. It bears being run twice.
func (c *Changer) goBack(ctx context.Context, w *operation.Part, before, after Back) error {
	change, err := operation.Payload[plan.Change](w)
	if err != nil {
		return err
	}
	s, ok := c.Machine.Registry.Site(w.Name)
	if !ok {
		return nil
	}
	if before != nil {
		if err := before(ctx, w, s, change); err != nil {
			return err
		}
	}
	if change.RestorePoint == "" { // it was not finished
		if err := c.Points.Drop(w); err != nil {
			return err
		}
	}
	if Begun(w, Switch) {
		if err := c.switchTo(ctx, s, change.Before); err != nil {
			return fmt.Errorf("go back: %w", err)
		}
	} else if master := c.Machine.Master(w.Name); master != nil {
		if err := master.Release(); err != nil {
			return err
		}
	}
	if after != nil {
		if err := after(ctx, w, s, change); err != nil {
			return err
		}
	}
	operation.Learn(w, func(p *plan.Change) { p.WentBack = true })
	return nil
}

// Begun tells whether a step of a change was begun.
func Begun(w *operation.Part, step plan.Step) bool {
	return slices.ContainsFunc(w.Journal(), func(e plan.Entry) bool { return e.Step == step && e.State != plan.Pending })
}

// Noted tells whether a step has noted something.
func Noted(w *operation.Part, step plan.Step, note string) bool {
	return slices.ContainsFunc(w.Journal(), func(e plan.Entry) bool { return e.Step == step && e.Note == note })
}

// Do is a step of a change that knows its site and what is asked for.
func Do(name plan.Step, title string, do func(ctx context.Context, w *operation.Part, s site.Site,
	change plan.Change) error) operation.Step {
	return operation.Step{Name: name, Title: title, Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		change, err := operation.Payload[plan.Change](w)
		if err != nil {
			return err
		}
		return do(ctx, w, s, change)
	}}
}

// FetchStep brings the engines of the new stack into the store.
func (c *Changer) FetchStep() operation.Step {
	return c.Machine.FetchStep(c.Origins.EnginesOf, func(w *operation.Part, s site.Site) site.Site {
		if change, err := operation.Payload[plan.Change](w); err == nil {
			s.Stack, s.Settings = change.After.Stack, change.After.Settings
		}
		return s
	})
}

// BaselineStep verifies a site as it is.
func (c *Changer) BaselineStep() operation.Step {
	return operation.Step{Name: Baseline, Title: "verifying as it is", Do: func(ctx context.Context, w *operation.Part) error {
		return c.Verifier.Prove(ctx, w, "before", c.walkBefore)
	}}
}

// ProveStep verifies a site as it has become.
func (c *Changer) ProveStep() operation.Step {
	return operation.Step{Name: verify.Prove, Title: "verifying", Do: func(ctx context.Context, w *operation.Part) error {
		return c.Verifier.Prove(ctx, w, "after", c.walkAfter)
	}}
}

// PointStep keeps files and database as they are.
func (c *Changer) PointStep() operation.Step {
	return Do(points.Step, "taking a restore point", func(ctx context.Context, w *operation.Part, s site.Site, asked plan.Change) error {
		place, err := c.Points.Take(ctx, w, s, points.Point{Who: asked.Who, Note: "before " + occasion(asked)}, asked.Back)
		if err == nil {
			operation.Learn(w, func(p *plan.Change) { p.RestorePoint = place })
		}
		return err
	})
}

// CheckStep has the engines themselves read the configuration that a target leads to.
func (c *Changer) CheckStep() operation.Step {
	return Do(CheckConfiguration, "checking the configuration",
		func(ctx context.Context, _ *operation.Part, s site.Site, change plan.Change) error {
			return c.check(ctx, s, change.After)
		})
}

// SwitchStep puts a site on its new target, while it is asked without pause: the longest time without an answer is kept.
func (c *Changer) SwitchStep() operation.Step {
	return Do(Switch, "switching", func(ctx context.Context, w *operation.Part, s site.Site, change plan.Change) error {
		silence, err := c.Verifier.Silence(ctx, s, func() error { return c.switchTo(ctx, s, change.After) })
		operation.Learn(w, func(p *plan.Change) { p.DowntimeMilliseconds = max(p.DowntimeMilliseconds, silence.Milliseconds()) })
		return err
	})
}

// SettleStep compares the reports before and after: a site that is worse off goes back, and is proven again; for another one settled is
// done.
func (c *Changer) SettleStep(settled Back) operation.Step {
	return Do(Settle, "settling", func(ctx context.Context, w *operation.Part, s site.Site, change plan.Change) error {
		before, after := w.Stage("before"), w.Stage("after")
		worse := []string{}
		for _, id := range check.Worse(before, after) {
			worse = append(worse, string(id))
		}
		operation.Learn(w, func(p *plan.Change) { p.Worse = worse })
		if len(worse) == 0 || change.Stay {
			return c.settle(ctx, w, s, change, settled)
		}
		first := after.Result(check.ID(worse[0]))
		reason := fmt.Sprintf("on %s, %s no longer passed: %s", targetWords(change), strings.Join(worse, ", "), first.Observed)
		if err := c.Operations.Kind(w.Kind()).GoBack(context.WithoutCancel(ctx), w); err != nil {
			return err
		}
		if err := c.Verifier.Prove(ctx, w, "back"); err != nil {
			return err
		}
		words := "the site went back to what it was"
		if back := w.Stage("back"); len(check.Worse(before, back)) == 0 {
			words += ", proven by a second report"
		}
		return &operation.Settled{Text: reason + "; " + words}
	})
}

// settle does what cannot be taken back. From the note on a change goes on, also after a crash: of what there was before, a part may be
// gone.
func (c *Changer) settle(ctx context.Context, w *operation.Part, s site.Site, change plan.Change, settled Back) error {
	if settled == nil {
		return nil
	}
	if err := w.Note(stays); err != nil {
		return err
	}
	if err := settled(context.WithoutCancel(ctx), w, s, change); err != nil {
		return &operation.Settled{Text: fmt.Sprintf("the site is on %s and stays so, but not all could be done that belongs to it: %v",
			targetWords(change), err)}
	}
	return nil
}

// unfinished says what a restarted service does with a change that it finds unfinished.
func unfinished(journal []plan.Entry) plan.Recovery {
	if slices.ContainsFunc(journal, func(e plan.Entry) bool {
		return e.Step == Settle && e.Note == stays && (e.State == plan.Active || e.State == plan.Done)
	}) {
		return plan.Resume
	}
	return plan.TakeBack
}

// occasion is what a restore point is taken for.
func occasion(c plan.Change) string {
	switch {
	case c.Back != "":
		return "going back to " + c.Back
	case c.Parts != nil:
		return "plugins and themes: " + c.Parts.Words()
	}
	return targetWords(c)
}

// targetWords name what is new.
func targetWords(c plan.Change) string {
	if c.Load != nil {
		return "the loaded dump"
	}
	if c.Back != "" {
		return "the restore point " + c.Back
	}
	if c.Unpack != nil {
		return "the parcel " + filepath.Base(c.Unpack.Parcel)
	}
	if c.Parts != nil {
		return "its changed plugins and themes (" + c.Parts.Words() + ")"
	}
	if c.Before.Domain != c.After.Domain {
		return c.After.Domain
	}
	if c.Before.HTTPS != c.After.HTTPS {
		return map[bool]string{true: "https", false: "http"}[c.After.HTTPS]
	}
	words := []string{}
	before := c.Before.Stack.IDs()
	for i, id := range c.After.Stack.IDs() {
		if id != before[i] {
			words = append(words, id)
		}
	}
	if len(words) == 0 {
		return "the new settings (" + strings.Join(c.Before.Settings.Differences(c.After.Settings), "; ") + ")"
	}
	return strings.Join(words, " and ")
}
