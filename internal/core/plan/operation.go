package plan

import (
	"encoding/json"
	"maps"
	"slices"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
)

// Operation is one request being carried out, as it is recorded and shown.
type Operation struct {
	ID         string          `json:"id"`
	Kind       Kind            `json:"kind"`
	State      OperationState  `json:"state" enum:"running,done,failed,cancelled"`
	CreatedAt  time.Time       `json:"created_at"`
	FinishedAt *time.Time      `json:"finished_at"`
	Sites      []OperationSite `json:"sites" nullable:"false"`
	// Payload is what its kind reads, and nobody else; Details are what its kind shows of that.
	Payload json.RawMessage `json:"-"`
	Details json.RawMessage `json:"details,omitempty" doc:"What the kind of operation has to tell: a Change, a Trial, a Saving"`
}

// DetailsOf reads what an operation's kind tells; the zero value where it tells nothing.
func DetailsOf[T any](o Operation) (details T) {
	if len(o.Details) > 0 {
		json.Unmarshal(o.Details, &details) // what it has no field for is left out
	}
	return details
}

// Saving is a stencil in the making.
type Saving struct {
	Name        string `json:"name"`
	Description string `json:"description"`
	NewestCMS   bool   `json:"newest_cms,omitempty"`
	Settings    bool   `json:"settings,omitempty"`
}

// Change leads a site from one target to another.
type Change struct {
	Site   string   `json:"site"`
	Before Target   `json:"before"`
	After  Target   `json:"after"`
	Stay   bool     `json:"stay" doc:"Stay with the new one although a check fails"`
	Who    string   `json:"who"`
	Rename string   `json:"rename,omitempty" doc:"The site's new name"`
	Load   *Loading `json:"load,omitempty" doc:"A dump that takes the place of the database"`
	// What carrying it out found.
	DowntimeMilliseconds int64          `json:"downtime_milliseconds" doc:"Longest time in which no request was answered"`
	WentBack             bool           `json:"went_back" doc:"The site is as it was before"`
	Worse                []string       `json:"worse,omitempty" doc:"Checks that passed before and fail after"`
	Moved                string         `json:"moved,omitempty" doc:"What was compared when the database moved"`
	Rewritten            *rewrite.Tally `json:"rewritten,omitempty" doc:"Addresses that were changed"`
	RestorePoint         string         `json:"restore_point,omitempty" doc:"Folder that holds files and database as they were"`
}

// Target is what a site runs on.
type Target struct {
	Stack    site.Stack     `json:"stack"`
	Settings site.Settings  `json:"settings"`
	Domain   string         `json:"domain,omitempty"`
	Domains  []string       `json:"domains,omitempty"`
	Forwards []site.Forward `json:"forwards,omitempty"`
}

// Loading names a dump.
type Loading struct {
	SQL     string `json:"sql" doc:"File"`
	Address string `json:"address,omitempty" doc:"Base address in it; found where the CMS knows how"`
}

// SettingsEntry is one entry of a site's history: what the settings were from then on.
type SettingsEntry struct {
	ID       int64         `json:"id"`
	Site     string        `json:"site"`
	Who      string        `json:"who"`
	At       time.Time     `json:"at"`
	Settings site.Settings `json:"settings"`
	Changed  []string      `json:"changed" nullable:"false" doc:"In words, what was different before"`
}

// VariablesEntry is one entry of a database engine's history: what its server variables were from then on.
type VariablesEntry struct {
	ID        int64             `json:"id"`
	Engine    string            `json:"engine"`
	Who       string            `json:"who"`
	At        time.Time         `json:"at"`
	Variables map[string]string `json:"variables" nullable:"false"`
}

// OperationState is where an operation, or its part for one site, stands.
type OperationState string

const (
	OperationRunning   OperationState = "running"
	OperationDone      OperationState = "done"
	OperationFailed    OperationState = "failed"
	OperationCancelled OperationState = "cancelled"
)

// OperationSite is an operation's part for one site.
type OperationSite struct {
	Site    string            `json:"site"`
	State   OperationState    `json:"state" enum:"running,done,failed,cancelled"`
	Problem string            `json:"problem,omitempty" doc:"Why it failed, and what to do"`
	Steps   []Entry           `json:"steps" nullable:"false"`
	Report  *check.SiteReport `json:"report,omitempty" doc:"The newest"`
	// Earlier are those that a change or a trial made on its way.
	Earlier []check.SiteReport `json:"earlier,omitempty"`
}

// Add makes a report the newest one; one of the same stage is replaced.
func (o *OperationSite) Add(report check.SiteReport) {
	if o.Report != nil && o.Report.Stage != report.Stage {
		o.Earlier = append(o.Earlier, *o.Report)
	}
	o.Report = &report
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
		if !changed[name] && change.State == OperationRunning {
			next.Activity[name] = activity
		}
	}
	return next
}

// Trial tries one site on many stacks, on temporary copies.
type Trial struct {
	Site       string   `json:"site"`
	Visit      []string `json:"visit" nullable:"false" doc:"Paths that are asked besides the front page"`
	KeepCopies bool     `json:"keep_copies"`
	Picture    bool     `json:"picture" doc:"Pictures of the front page are compared"`
	Cells      []Cell   `json:"cells" nullable:"false"`
}

// Cell is one combination of a trial.
type Cell struct {
	Copy         string            `json:"copy" doc:"Name of the temporary copy"`
	Stack        site.Stack        `json:"stack"`
	Verdict      check.Verdict     `json:"verdict" enum:"pass,fail,skip"`
	Summary      string            `json:"summary"`
	Supported    string            `json:"supported,omitempty" doc:"Where the CMS's version is not known to support it: what it supports"`
	Milliseconds int64             `json:"milliseconds" doc:"Time of the front page, warm"`
	Took         int64             `json:"took_milliseconds" doc:"From the first copy step to the verdict"`
	Visits       []Visit           `json:"visits" nullable:"false"`
	Messages     []Message         `json:"messages" nullable:"false" doc:"What PHP said while the pages were asked"`
	Different    *float64          `json:"different" doc:"Share of the pixels that differ from the site's own; null without pictures"`
	Report       *check.SiteReport `json:"report,omitempty"`
}

// Visit is one page that was asked.
type Visit struct {
	Path         string `json:"path"`
	Status       int    `json:"status"`
	Milliseconds int64  `json:"milliseconds"`
	Bytes        int    `json:"bytes"`
}

// Message is one thing that PHP said, however often.
type Message struct {
	Level string `json:"level" example:"Deprecated"`
	Text  string `json:"text"`
	Where string `json:"where" doc:"File, below the site's folder, and line"`
	Count int    `json:"count"`
}
