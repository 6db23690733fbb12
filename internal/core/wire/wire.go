// Package wire holds the objects that the service and its clients exchange, besides those that other core packages define.
package wire

import (
	"time"

	"vessik/internal/core/site"
)

// Site is a site as clients see it.
type Site struct {
	Name         string     `json:"name"`
	Title        string     `json:"title"`
	State        site.State `json:"state" enum:"provisioning,starting,running,stopping,stopped,failed,retiring"`
	Reason       string     `json:"reason,omitempty" doc:"Why it failed"`
	URL          string     `json:"url"`
	Domain       string     `json:"domain"`
	Folder       string     `json:"folder"`
	DocumentRoot string     `json:"document_root"`
	Kit          site.Kit   `json:"kit"`
	Stack        Stack      `json:"stack"`
	Port         int        `json:"port"`
	Database     Database   `json:"database"`
	Admin        Admin      `json:"admin"`
	CreatedAt    time.Time  `json:"created_at"`
}

// Stack is the three engines with their full versions, empty where an engine has not been fetched.
type Stack struct {
	PHP      StackEngine `json:"php"`
	Web      StackEngine `json:"web"`
	Database StackEngine `json:"database"`
}

// StackEngine is one engine of a stack.
type StackEngine struct {
	Engine  string `json:"engine" example:"php-8.2"`
	Version string `json:"version"`
}

// Database is where a site's data lies.
type Database struct {
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Name     string `json:"name"`
	User     string `json:"user"`
	Password string `json:"password,omitempty" doc:"Only when secrets are asked for"`
}

// Admin is the CMS administrator.
type Admin struct {
	User     string `json:"user"`
	Email    string `json:"email"`
	Password string `json:"password,omitempty" doc:"Only when secrets are asked for"`
}

// NewSites asks for sites.
type NewSites struct {
	Sites []site.Request `json:"sites" minItems:"1" maxItems:"200"`
}

// Derived is what requests would become, and what is wrong with them.
type Derived struct {
	Sites    []Site         `json:"sites" nullable:"false"`
	Problems []site.Problem `json:"problems" nullable:"false"`
}

// Names asks for something to be done with sites.
type Names struct {
	Names     []string `json:"names,omitempty" doc:"Which sites"`
	All       bool     `json:"all,omitempty" doc:"All sites there are"`
	KeepFiles bool     `json:"keep_files,omitempty" doc:"Retire only: keep the folder, and the database as a dump"`
}

// Engine is one row of the catalogue.
type Engine struct {
	ID         string     `json:"id"`
	Kind       string     `json:"kind" enum:"php,web,database,release"`
	Generation string     `json:"generation" doc:"Debian's release that it comes from"`
	Present    bool       `json:"present" doc:"It has been fetched"`
	Version    string     `json:"version" doc:"In full; empty unless present"`
	SizeBytes  int64      `json:"size_bytes"`
	FetchedAt  *time.Time `json:"fetched_at"`
	Sites      []string   `json:"sites" nullable:"false" doc:"Sites that are on it"`
	Processes  []int      `json:"processes" nullable:"false"`
}

// Status is the service itself.
type Status struct {
	Version     string         `json:"version"`
	Home        string         `json:"home"`
	EngineStore string         `json:"engine_store"`
	Account     string         `json:"account"`
	PID         int            `json:"pid"`
	StartedAt   time.Time      `json:"started_at"`
	API         string         `json:"api"`
	Console     string         `json:"console"`
	GatewayPort int            `json:"gateway_port"`
	Sites       map[string]int `json:"sites" doc:"Number of sites by state"`
	Confinement Confinement    `json:"confinement"`
}

// Confinement is what this kernel lets Vessik do to keep sites apart.
type Confinement struct {
	LandlockABI int  `json:"landlock_abi" doc:"0 when absent"`
	Files       bool `json:"files" doc:"Site PHP is held to its own folder"`
	Signals     bool `json:"signals" doc:"Site PHP cannot signal other processes"`
	Sockets     bool `json:"sockets" doc:"Site PHP cannot open unix sockets"`
}

// Link is a one-time address that signs a browser in to the console.
type Link struct {
	URL       string    `json:"url"`
	ExpiresAt time.Time `json:"expires_at"`
}

// ProblemDetails is an error as RFC 9457 has it, with one entry a field.
type ProblemDetails struct {
	Type   string         `json:"type" example:"about:blank"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail"`
	Errors []site.Problem `json:"errors,omitempty"`
}

func (p *ProblemDetails) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *ProblemDetails) GetStatus() int { return p.Status }

// ContentType is RFC 9457's.
func (p *ProblemDetails) ContentType(string) string { return "application/problem+json" }

// ServiceFile is what a running service leaves in its home for its clients.
type ServiceFile struct {
	API string `json:"api" example:"http://127.0.0.1:20070"`
	PID int    `json:"pid"`
}
