package operation

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/registry"
)

// Part is an operation's work for one site, as its steps see it.
type Part struct {
	o    *Operation
	Name string // of the site

	position int // of the step that is being done
	step     plan.Step
	kept     string
}

// ID is the operation's.
func (w *Part) ID() string { return w.o.recorded.ID }

// Kind is the operation's.
func (w *Part) Kind() plan.Kind { return w.o.kind.Name }

// Site is the part's, as it is now.
func (w *Part) Site() (site.Site, error) {
	s, ok := w.o.r.registry.Site(w.Name)
	if !ok {
		return s, fmt.Errorf("the site is gone: %w", registry.ErrNoSite)
	}
	return s, nil
}

// Other is another site, as it is now.
func (w *Part) Other(name string) (site.Site, bool) { return w.o.r.registry.Site(name) }

// Note keeps a word in the journal for the undo, before what it speaks of happens. Where it cannot be written, nothing may happen.
func (w *Part) Note(text string) error {
	w.kept = text
	if err := w.o.mark(w.Name, w.position, plan.Active, text, 0); err != nil {
		return err
	}
	return w.o.point(w.Name, w.step, "noted")
}

// Progress says what is being done, and how far: 0 to 1, below 0 where that is not known.
func (w *Part) Progress(text string, fraction float64) { w.o.progress(w.Name, text, fraction) }

// Report shows results as they come.
func (w *Part) Report(report check.SiteReport) {
	w.o.edit(w.Name, func(part *plan.OperationSite) { part.Add(report) })
}

// Journal is where the part's steps stand.
func (w *Part) Journal() []plan.Entry { return w.recorded().Steps }

// Stage is the part's report of one stage; an empty one where there is none.
func (w *Part) Stage(stage string) check.SiteReport {
	part := w.recorded()
	if part.Report != nil && part.Report.Stage == stage {
		return *part.Report
	}
	for _, report := range part.Earlier {
		if report.Stage == stage {
			return report
		}
	}
	return check.SiteReport{}
}

// Newest is the part's newest report, nil where there is none.
func (w *Part) Newest() *check.SiteReport { return w.recorded().Report }

func (w *Part) recorded() plan.OperationSite {
	for _, part := range w.o.Snapshot().Sites {
		if part.Site == w.Name {
			return part
		}
	}
	return plan.OperationSite{}
}

// Wait gives the part's place among those that are worked on to others while it waits for something.
func (w *Part) Wait(wait func()) {
	<-w.o.r.slots
	defer func() { w.o.r.slots <- struct{}{} }()
	wait()
}

// Take keeps another name from other operations, too.
func (w *Part) Take(name string) {
	w.o.r.mu.Lock()
	defer w.o.r.mu.Unlock()
	w.o.r.busy[name] = w.ID()
}

// Payload reads what an operation carries.
func Payload[T any](w *Part) (payload T, err error) {
	w.o.mu.Lock()
	text := slices.Clone(w.o.recorded.Payload)
	w.o.mu.Unlock()
	if len(text) == 0 {
		return payload, nil
	}
	return payload, json.Unmarshal(text, &payload)
}

// Learn keeps in the payload what carrying the operation out has found.
func Learn[T any](w *Part, edit func(*T)) {
	o := w.o
	err := func() error {
		o.mu.Lock()
		defer o.mu.Unlock()
		var payload T
		if err := json.Unmarshal(o.recorded.Payload, &payload); err != nil {
			return err
		}
		edit(&payload)
		text, err := json.Marshal(payload)
		if err != nil {
			return err
		}
		o.recorded.Payload = text
		o.changedNow("")
		return nil
	}()
	if err == nil {
		err = o.r.records.SavePayload(context.WithoutCancel(o.ctx), o.Snapshot())
	}
	if err != nil {
		o.r.log.Error("journal", "operation", w.ID(), "reason", err)
	}
}
