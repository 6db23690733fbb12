// Package plan turns a request into ordered steps and decides, from a journal of them, what is next and what is to be undone.
package plan

import "slices"

// Kind is what an operation is for.
type Kind string

const (
	New    Kind = "new"
	Start  Kind = "start"
	Stop   Kind = "stop"
	Verify Kind = "verify"
	Retire Kind = "retire"
	// Restack changes a site's engines, Adjust their settings; Trial tries copies of a site on many stacks.
	Restack Kind = "restack"
	Adjust  Kind = "adjust"
	// Readdress gives a site another name or domain, LoadSQL another content.
	Readdress Kind = "readdress"
	LoadSQL   Kind = "load-sql"
	TryOut    Kind = "trial"
	Save      Kind = "save-stencil"
	Fetch     Kind = "fetch" // engines: its parts are engines, not sites
)

// Step names one piece of work. What it does and how it is taken back stand together in the package provision.
type Step string

const (
	Reserve        Step = "reserve"
	FetchEngines   Step = "fetch-engines"
	LayOut         Step = "lay-out"
	CreateDatabase Step = "create-database"
	Configure      Step = "configure"
	LoadContent    Step = "load-content"
	StartPHP       Step = "start-php"
	Publish        Step = "publish"
	Prove          Step = "verify"
	Withdraw       Step = "withdraw"
	StopPHP        Step = "stop-php"
	DropDatabase   Step = "drop-database"
	RemoveFolder   Step = "remove-folder"
	Release        Step = "release"
	Baseline       Step = "baseline"
	CheckChange    Step = "check-configuration"
	RestorePoint   Step = "restore-point"
	MoveDatabase   Step = "move-database"
	Switch         Step = "switch"
	ReplaceContent Step = "replace-content"
	Rename         Step = "rename"
	Settle         Step = "settle"
	Sample         Step = "sample"
	MakeNetwork    Step = "make-network"
	AddParts       Step = "add-parts"
	Touch          Step = "finishing-touches"
	SaveStencil    Step = "save-stencil"
)

// Title says a step in words, for people who watch.
func (s Step) Title() string {
	return map[Step]string{Reserve: "reserving", FetchEngines: "fetching engines", LayOut: "laying out files", CreateDatabase: "creating the database",
		Configure: "writing configuration", LoadContent: "loading content", StartPHP: "starting PHP", Publish: "publishing", Prove: "verifying",
		Withdraw: "withdrawing", StopPHP: "stopping PHP", DropDatabase: "dropping the database", RemoveFolder: "removing files", Release: "releasing",
		Baseline: "verifying as it is", CheckChange: "checking the configuration", RestorePoint: "taking a restore point", MoveDatabase: "moving the database", Switch: "switching",
		ReplaceContent: "replacing the database", Rename: "renaming", Settle: "settling", Sample: "asking pages and taking pictures", MakeNetwork: "making the network", AddParts: "adding plugins and themes", Touch: "finishing touches", SaveStencil: "saving the stencil"}[s]
}

// For returns the steps of a request for one site. fetch says that engines are missing.
func For(kind Kind, fetch bool) []Step {
	switch kind {
	case New:
		steps := []Step{Reserve}
		if fetch {
			steps = append(steps, FetchEngines)
		}
		return append(steps, LayOut, CreateDatabase, Configure, LoadContent, StartPHP, Publish, Prove)
	case Start:
		steps := []Step{}
		if fetch {
			steps = append(steps, FetchEngines)
		}
		return append(steps, StartPHP, Publish, Prove)
	case Stop:
		return []Step{Withdraw, StopPHP}
	case Retire:
		return []Step{Withdraw, StopPHP, DropDatabase, RemoveFolder, Release}
	}
	return []Step{Prove}
}

// ForChange returns the steps of a change for one site.
func ForChange(kind Kind, change Change, fetch bool) []Step {
	steps := []Step{}
	if fetch {
		steps = append(steps, FetchEngines)
	}
	if kind == Readdress || kind == LoadSQL {
		steps = append(steps, Baseline, RestorePoint, ReplaceContent)
		if kind == Readdress {
			steps = append(steps, Switch)
		}
		steps = append(steps, Prove, Settle)
		if change.Rename != "" && change.Rename != change.Site {
			steps = append(steps, Rename)
		}
		return steps
	}
	steps = append(steps, Baseline, CheckChange)
	if kind == Restack {
		steps = append(steps, RestorePoint)
	}
	if change.Before.Stack.Database != change.After.Stack.Database {
		steps = append(steps, MoveDatabase)
	}
	return append(steps, Switch, Prove, Settle)
}

// ForTrial returns the steps of one copy.
func ForTrial(fetch, keep bool) []Step {
	steps := []Step{Reserve}
	if fetch {
		steps = append(steps, FetchEngines)
	}
	steps = append(steps, LayOut, CreateDatabase, Configure, LoadContent, StartPHP, Publish, Prove, Sample)
	if keep {
		return steps
	}
	return append(steps, Withdraw, StopPHP, DropDatabase, RemoveFolder, Release)
}

// StepState is where a step stands in the journal.
type StepState string

const (
	Pending StepState = "pending"
	Active  StepState = "active"
	Done    StepState = "done"
	Broken  StepState = "failed"
	Undone  StepState = "undone"
)

// Entry is one line of the journal of one site's steps.
type Entry struct {
	Step         Step      `json:"step"`
	State        StepState `json:"state"`
	Note         string    `json:"note,omitempty" doc:"What the step left for its undo, or why it failed"`
	Milliseconds int64     `json:"milliseconds"`
}

// Undo returns the steps to take back, last first: all that were begun. A step that failed or was interrupted may have done a part
// of its work, so it is taken back as well; every undo bears being run on nothing.
func Undo(journal []Entry) []Step {
	steps := []Step{}
	for _, entry := range slices.Backward(journal) {
		if entry.State == Done || entry.State == Active || entry.State == Broken {
			steps = append(steps, entry.Step)
		}
	}
	return steps
}

// Changes tells whether a kind leads a site from one target to another, and back where that fails.
func (k Kind) Changes() bool { return slices.Contains([]Kind{Restack, Adjust, Readdress, LoadSQL}, k) }

// Recovery is what a restarted service does with an operation that it finds unfinished.
type Recovery string

const (
	Resume   Recovery = "resume"    // go on from the first step that is not done
	TakeBack Recovery = "take-back" // undo what was begun
)

// Recover decides: a site that already stands is only to be proven; one that was half made is taken back; everything else
// (start, stop, retire) goes on to where it was going.
func Recover(kind Kind, journal []Entry) Recovery {
	switch kind {
	case New:
	case Restack, Adjust, Readdress, LoadSQL, TryOut: // half changed is neither: back to what it was
		return TakeBack
	default:
		return Resume
	}
	for _, entry := range journal {
		if entry.Step != Prove && entry.State != Done {
			return TakeBack
		}
	}
	return Resume
}
