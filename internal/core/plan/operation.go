package plan

import (
	"time"

	"vessik/internal/core/check"
)

// Operation is one request being carried out, as it is recorded.
type Operation struct {
	ID         string          `json:"id"`
	Kind       Kind            `json:"kind" enum:"new,start,stop,verify,retire"`
	State      OperationState  `json:"state" enum:"running,done,failed,cancelled"`
	KeepFiles  bool            `json:"keep_files,omitempty"`
	CreatedAt  time.Time       `json:"created_at"`
	FinishedAt *time.Time      `json:"finished_at"`
	Sites      []OperationSite `json:"sites" nullable:"false"`
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
	Report  *check.SiteReport `json:"report,omitempty"`
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
}
