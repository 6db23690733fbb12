// Package operation carries out journalled work: requests become operations whose steps are recorded before they run, taken back when
// they fail, watched and cancelled by anybody, and resumed or taken back after a crash. What the work is, its kinds say.
package operation

import (
	"context"
	"encoding/json"
	"slices"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

// Step is one piece of work of a kind of operation: what it is called, how it is done, and how it is taken back.
type Step struct {
	Name  plan.Step
	Title string
	// Do carries it out for one part. What has to be taken back is noted (Part.Note) before it happens.
	Do func(ctx context.Context, w *Part) error
	// All stands in the place of Do where a step is done once for all parts that got this far; it returns those that failed.
	All func(ctx context.Context, names []string) map[string]error
	// Undo takes back what Do or All did, or a part of it; nil where there is nothing to take back. It bears that nothing was done.
	Undo func(ctx context.Context, w *Part, note string) error
	// Passing says that what it does ends with the service: after a crash it is done again.
	Passing bool
}

// Failure is what becomes of a site whose part of an operation failed.
type Failure int

const (
	Leave      Failure = iota // as it is
	MarkFailed                // as it is, and shown as failed
	TakeBack                  // the steps that were begun are undone, last first
	GoBack                    // Kind.GoBack leads to what was before
)

// Kind is one kind of operation, handed over by the feature that owns it.
type Kind struct {
	Name plan.Kind
	// Steps are all that it may have, in the order in which they are done; a request names those that it needs.
	Steps []Step
	// During is what its sites are shown as meanwhile; "" leaves them. A site whose state is Already is there, and stays so.
	During, Already site.State
	// Resumed is what its sites are shown as while a restarted service goes on with it; "" as they are recorded.
	Resumed site.State
	// Shared says that others may work on its sites at the same time.
	Shared bool
	// Other says that its parts are something else than sites.
	Other     bool
	OnFailure Failure
	// GoBack brings a site back to what it was before, from wherever the work has got to. It bears being run twice.
	GoBack func(ctx context.Context, w *Part) error
	// Broken is told of a part that failed before anything else is done about it, Left of one that could not be taken back.
	Broken func(w *Part, reason error)
	Left   func(w *Part)
	// Recover says what a restarted service does with a part that it finds unfinished; nil for plan.Resume.
	Recover func(journal []plan.Entry) plan.Recovery
	// Again is what to do about one that is given up after a restart.
	Again string
	// Show is what watchers see of the payload; nil for nothing.
	Show func(payload json.RawMessage) (any, error)
}

func (k Kind) step(name plan.Step) Step {
	for _, s := range k.Steps {
		if s.Name == name {
			return s
		}
	}
	return Step{Name: name, Title: string(name)} // of another version
}

// Without names all steps but some, in order.
func (k Kind) Without(left ...plan.Step) []plan.Step {
	names := []plan.Step{}
	for _, s := range k.Steps {
		if !slices.Contains(left, s.Name) {
			names = append(names, s.Name)
		}
	}
	return names
}

// Titles say steps in words.
func (k Kind) Titles(steps []plan.Step) []string {
	titles := []string{}
	for _, name := range steps {
		titles = append(titles, k.step(name).Title)
	}
	return titles
}

// ShowAs shows a payload as a type; what the type has no field for stays hidden.
func ShowAs[T any](payload json.RawMessage) (any, error) {
	var shown T
	err := json.Unmarshal(payload, &shown)
	return shown, err
}
