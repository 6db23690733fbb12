package plan

import (
	"encoding/json"
	"strings"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/walk"
)

// Operation is one request being carried out, as it is recorded.
type Operation struct {
	ID         string
	Kind       Kind
	State      OperationState
	CreatedAt  time.Time
	FinishedAt *time.Time
	Sites      []OperationSite
	// Payload is what its kind reads, and nobody else; Details are what its kind shows of that.
	Payload json.RawMessage `json:"-"`
	Details json.RawMessage
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
	Site   string     `json:"site"`
	Before Target     `json:"before"`
	After  Target     `json:"after"`
	Stay   bool       `json:"stay" doc:"Stay with the new one although a check fails"`
	Walk   bool       `json:"walk,omitempty" doc:"A walk through all pages is a check, too"`
	Who    string     `json:"who"`
	Rename string     `json:"rename,omitempty" doc:"The site's new name"`
	Load   *Loading   `json:"load,omitempty" doc:"A dump that takes the place of the database"`
	Back   string     `json:"back,omitempty" doc:"Restore point that the site goes back to"`
	Unpack *Unpacking `json:"unpack,omitempty" doc:"A parcel that takes the place of files and database"`
	Parts  *Parts     `json:"parts,omitempty" doc:"Plugins and themes that are changed"`
	// What carrying it out found.
	DowntimeMilliseconds int64          `json:"downtime_milliseconds" doc:"Longest time in which no request was answered"`
	WalkBefore           string         `json:"walk_before,omitempty" doc:"The walk through the site as it was"`
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
	HTTPS    bool           `json:"https,omitempty"`
}

// Unpacking is what is put in the place of a site's files and database, and what the site was of before.
type Unpacking struct {
	Parcel string   `json:"parcel" doc:"Its file"`
	Only   string   `json:"only,omitempty" doc:"files or database; empty for both"`
	Before site.CMS `json:"before"`
}

// Parts are plugins and themes by their names: those that are added from the shelf, switched on, switched off, and dropped.
type Parts struct {
	Add  []string `json:"add,omitempty"`
	On   []string `json:"on,omitempty"`
	Off  []string `json:"off,omitempty"`
	Drop []string `json:"drop,omitempty"`
}

// Words say what is changed.
func (p Parts) Words() string {
	words := []string{}
	for _, each := range []struct {
		verb  string
		names []string
	}{{"add", p.Add}, {"switch on", p.On}, {"switch off", p.Off}, {"drop", p.Drop}} {
		if len(each.names) > 0 {
			words = append(words, each.verb+" "+strings.Join(each.names, ", "))
		}
	}
	return strings.Join(words, ", ")
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
	Site    string
	State   OperationState
	Problem string // why it failed, and what to do
	Steps   []Entry
	Report  *check.SiteReport  // the newest
	Earlier []check.SiteReport // that a change or a trial made on its way
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
	Text     string
	Fraction float64 // how far, 0 to 1; below 0 where that is not known
}

// Watched is an operation as it stands at one moment, with what is happening.
type Watched struct {
	Operation
	Activity map[string]Activity // by site, while the operation runs
	Version  uint64              // grows with each change; 0 once it is over
}

// Trial tries one site on many stacks, on temporary copies.
type Trial struct {
	Site       string   `json:"site"`
	Visit      []string `json:"visit" nullable:"false" doc:"Paths that are asked besides the front page"`
	KeepCopies bool     `json:"keep_copies"`
	Picture    bool     `json:"picture" doc:"Pictures of the front page are compared"`
	Walk       bool     `json:"walk,omitempty" doc:"All pages of the copies are compared with the site's own"`
	SourceWalk string   `json:"source_walk,omitempty" doc:"The walk through the site itself"`
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
	Walked       *CellWalk         `json:"walked,omitempty"`
	Report       *check.SiteReport `json:"report,omitempty"`
}

// CellWalk is what a walk through a copy found.
type CellWalk struct {
	Pages int               `json:"pages"`
	Worse []walk.Difference `json:"worse" nullable:"false" doc:"Than on the site itself"`
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
