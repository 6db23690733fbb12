package wire

import (
	"encoding/json"
	"maps"
	"slices"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
)

// Operation is one request being carried out, as clients see it.
type Operation struct {
	ID         string              `json:"id"`
	Kind       plan.Kind           `json:"kind"`
	State      plan.OperationState `json:"state" enum:"running,done,failed,cancelled"`
	CreatedAt  time.Time           `json:"created_at"`
	FinishedAt *time.Time          `json:"finished_at"`
	Sites      []OperationSite     `json:"sites" nullable:"false"`
	Details    json.RawMessage     `json:"details,omitempty" doc:"What the kind of operation has to tell: a Change, a Trial, a Saving"`
}

// OperationSite is an operation's part for one site.
type OperationSite struct {
	Site    string              `json:"site"`
	State   plan.OperationState `json:"state" enum:"running,done,failed,cancelled"`
	Problem string              `json:"problem,omitempty" doc:"Why it failed, and what to do"`
	Steps   []OperationStep     `json:"steps" nullable:"false"`
	Report  *check.SiteReport   `json:"report,omitempty" doc:"The newest"`
	// Earlier are those that a change or a trial made on its way.
	Earlier []check.SiteReport `json:"earlier,omitempty"`
}

// OperationStep is one step of a part.
type OperationStep struct {
	Step         plan.Step      `json:"step"`
	Title        string         `json:"title" doc:"In words"`
	State        plan.StepState `json:"state"`
	Note         string         `json:"note,omitempty" doc:"What the step left for its undo, or why it failed"`
	Milliseconds int64          `json:"milliseconds"`
}

// Activity is what is happening for one site at this moment.
type Activity struct {
	Text     string  `json:"text" doc:"What is being done"`
	Fraction float64 `json:"fraction" doc:"How far, 0 to 1; below 0 where that is not known"`
}

// Watched is an operation as it stands at one moment, with what is happening.
type Watched struct {
	Operation
	Activity map[string]Activity `json:"activity" doc:"By site, while the operation runs"`
	Version  uint64              `json:"version" doc:"Grows with each change; 0 once it is over"`
}

// OperationOf is an operation as clients see it. What its kind carries stays behind.
func OperationOf(o plan.Operation) Operation {
	seen := Operation{ID: o.ID, Kind: o.Kind, State: o.State, CreatedAt: o.CreatedAt, FinishedAt: o.FinishedAt, Details: o.Details,
		Sites: make([]OperationSite, len(o.Sites))}
	for i, part := range o.Sites {
		seen.Sites[i] = OperationSite{Site: part.Site, State: part.State, Problem: part.Problem, Report: part.Report, Earlier: part.Earlier,
			Steps: make([]OperationStep, len(part.Steps))}
		for j, entry := range part.Steps {
			seen.Sites[i].Steps[j] = OperationStep(entry)
		}
	}
	return seen
}

// WatchedOf is an operation at one moment as clients see it.
func WatchedOf(w plan.Watched) Watched {
	seen := Watched{Operation: OperationOf(w.Operation), Activity: make(map[string]Activity, len(w.Activity)), Version: w.Version}
	for name, activity := range w.Activity {
		seen.Activity[name] = Activity(activity)
	}
	return seen
}

// DetailsOf reads what an operation's kind tells; the zero value where it tells nothing.
func DetailsOf[T any](o Operation) (details T) {
	if len(o.Details) > 0 {
		json.Unmarshal(o.Details, &details) // what it has no field for is left out
	}
	return details
}

// With is an operation after a change, of which only the parts that have changed are told, and the details where they have.
func (w Watched) With(change Watched) Watched {
	next := change
	next.Sites, next.Activity = slices.Clone(w.Sites), maps.Clone(change.Activity)
	if len(next.Details) == 0 {
		next.Details = w.Details
	}
	changed := map[string]bool{}
	for _, part := range change.Sites {
		changed[part.Site] = true
		if i := slices.IndexFunc(next.Sites, func(old OperationSite) bool { return old.Site == part.Site }); i >= 0 {
			next.Sites[i] = part
		} else {
			next.Sites = append(next.Sites, part)
		}
	}
	for name, activity := range w.Activity {
		if !changed[name] && change.State == plan.OperationRunning {
			next.Activity[name] = activity
		}
	}
	return next
}
