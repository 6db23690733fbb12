// Package site says what a site is: its parts, the rules that its names follow, its states and the moves between them.
// It computes only; facts about the machine are handed in.
package site

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// State is where a site stands.
type State string

const (
	Making   State = "making"
	Starting State = "starting"
	Running  State = "running"
	Stopping State = "stopping"
	Stopped  State = "stopped"
	Failed   State = "failed"
	Retiring State = "retiring"
)

var moves = map[State][]State{
	Making:   {Running, Failed},
	Starting: {Running, Failed, Stopped},
	Running:  {Stopping, Starting, Failed, Retiring},
	Stopping: {Stopped, Failed},
	Stopped:  {Starting, Retiring},
	Failed:   {Starting, Stopping, Running, Retiring},
	Retiring: {Failed},
}

// Move tells whether a site may go from one state to another; staying is always allowed.
func Move(from, to State) error {
	if from == to || slices.Contains(moves[from], to) {
		return nil
	}
	return fmt.Errorf("a site that is %s cannot become %s", from, to)
}

// Stack names the three engines that a site runs on, by id.
type Stack struct {
	PHP      string `json:"php"`
	Web      string `json:"web"`
	Database string `json:"database"`
}

// IDs returns the engines' ids.
func (s Stack) IDs() []string { return []string{s.PHP, s.Web, s.Database} }

// CMS names a CMS and its version.
type CMS struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Release is the id of the CMS's release in the engine catalogue.
func (k CMS) Release() string { return k.Name + "-" + k.Version }

// Database is a site's own database and the one user that may use it.
type Database struct {
	Name     string `json:"name"`
	User     string `json:"user"`
	Password string `json:"password"`
	// Foreign says that a database of this name stood there before, and is not the site's to drop.
	Foreign bool `json:"foreign,omitempty"`
}

// Administrator is the CMS administrator that is made with the site.
type Administrator struct {
	Name     string `json:"name,omitempty" yaml:"name,omitempty" doc:"The user name" example:"head-keeper"`
	Mail     string `json:"mail,omitempty" yaml:"mail,omitempty" doc:"The mail address" example:"ines@fernhollow.example"`
	Password string `json:"password,omitempty" yaml:"password,omitempty" doc:"Generated when empty; told when secrets are asked for"`
}

// Origin is where a site's files and content come from.
type Origin struct {
	Kind    string `json:"kind,omitempty"`    // release where empty; archive, folder, repository, stencil, site, parcel
	From    string `json:"from,omitempty"`    // the file, folder, stencil or site
	SQL     string `json:"sql,omitempty"`     // file of a dump
	Dump    string `json:"dump,omitempty"`    // file of the dump in an archive that holds several
	Address string `json:"address,omitempty"` // base address in that dump; found where empty
	Release bool   `json:"release,omitempty"` // an archive holds a release of its CMS, and no site
	Newest  bool   `json:"newest,omitempty"`  // of a stencil: with the newest release of its CMS in the place of its own
	// OwnAdministrator says that a parcel's administrator is exchanged for the site's own; else its users are what they were.
	OwnAdministrator bool `json:"own_administrator,omitempty"`
}

// ArchiveCMS is the CMS of what nothing more is known of than that it is PHP.
const ArchiveCMS = "archive"

// Kinds of origins, besides a CMS's own releases.
const (
	FromArchive = "archive"
	FromFolder  = "folder"
	// FromRepository is a folder that holds parts of a site alone: the CMS is laid out around them.
	FromRepository = "repository"
	FromStencil    = "stencil"
	FromSite       = "site"
	FromParcel     = "parcel"
)

// Site is one CMS site: folder, database, domain, port, stack.
type Site struct {
	Name   string `json:"name"`
	Title  string `json:"title"`
	State  State  `json:"state"`
	Reason string `json:"reason"` // why it failed, in the engine's own words
	Domain string `json:"domain"`
	// Domains are further ones that the site answers for, Forwards those that it had before.
	Domains  []string  `json:"domains,omitempty"`
	Forwards []Forward `json:"forwards,omitempty"`
	// HTTPS says that it answers over https alone.
	HTTPS  bool   `json:"https,omitempty"`
	Folder string `json:"folder"`
	// Root is the document root inside the folder; empty where it is the folder itself.
	Root          string        `json:"root,omitempty"`
	Port          int           `json:"port"` // the site's own, on 127.0.0.1
	CMS           CMS           `json:"cms"`
	Stack         Stack         `json:"stack"`
	Settings      Settings      `json:"settings"`
	Database      Database      `json:"database"`
	Administrator Administrator `json:"administrator"`
	// PortPinned says that the port was asked for, and is not to be replaced by another.
	PortPinned bool `json:"port_pinned,omitempty"`
	// Notice is something that its owner should know, such as another port.
	Notice string `json:"notice,omitempty"`
	// Prefix begins the names of the CMS's tables; empty for the CMS's own.
	Prefix string `json:"prefix,omitempty"`
	Origin Origin `json:"origin,omitzero"`
	// Group labels the site in the fleet, Note is its owner's, Pinned keeps it above the others.
	Group  string `json:"group,omitempty"`
	Note   string `json:"note,omitempty"`
	Pinned bool   `json:"pinned,omitempty"`
	// Touches are the finishing touches that it was made with.
	Touches []string `json:"touches,omitempty"`
	// Network tells how the sub-sites of one installation are addressed, empty for none; SubSites are those it was made with.
	Network  string   `json:"network,omitempty"`
	SubSites []string `json:"sub_sites,omitempty"`
	// Plugins and Themes are those of the shelf that it was made with.
	Plugins []string `json:"plugins,omitempty"`
	Themes  []string `json:"themes,omitempty"`
	// Language is one of the CMS's, empty for its usual one; TimeZone is a name of the IANA database.
	Language string `json:"language,omitempty"`
	TimeZone string `json:"time_zone,omitempty"`
	// Visible says that search engines may list the site.
	Visible bool `json:"visible,omitempty"`
	// TrialOf is the site that this one is a temporary copy of.
	TrialOf string `json:"trial_of,omitempty"`
	// AdminHash is what the database held for the administrator's password when the site was made.
	AdminHash string `json:"admin_hash"`
	// HeldHash is AdminHash while somebody's dump is being tried in the place of the database.
	HeldHash string `json:"held_hash,omitempty"`
	// Probe is the secret by which a check's request is told from a visitor's.
	Probe     string    `json:"probe"`
	CreatedAt time.Time `json:"created_at"`

	originFault  string // of a request, while it is judged
	otherNetwork bool   // it asks for another network than what it is made of
	unclear      bool   // it asks for https neither on nor off
	forceDomain  bool
	forceWeak    bool
}

// DocumentRoot is the folder that the web server serves.
func (s Site) DocumentRoot() string { return filepath.Join(s.Folder, s.Root) }

// URL is where the site answers, through a gateway.
func (s Site) URL(g Gateway) string { return g.URL(s.Domain, s.HTTPS) }

// Host is how a visitor names the site in a request, through a gateway (RFC 9110, section 7.2).
func (s Site) Host(g Gateway) string {
	_, host, _ := strings.Cut(strings.TrimSuffix(s.URL(g), "/"), "://")
	return host
}

// Problem is one thing wrong with a request: the field, what is wrong, and what to do.
type Problem struct {
	Site    string `json:"site,omitempty" doc:"Which of the requested sites"`
	Field   string `json:"field" doc:"The field at fault"`
	Message string `json:"message" doc:"What is wrong"`
	Remedy  string `json:"remedy" doc:"What to do about it"`
	Line    int    `json:"line,omitempty" doc:"Of the text at fault, where it is one"`
	Column  int    `json:"column,omitempty"`
	Weak    bool   `json:"weak,omitempty" doc:"It is easily guessed: with force_weak it is taken all the same"`
	Absent  bool   `json:"-"` // what the field names is not there
}

// NoSite says that there is no site of a name.
func NoSite(name string) Problems {
	return Problems{{Site: name, Field: "name", Message: "there is no such site", Remedy: "see the names with: vessik sites", Absent: true}}
}

// NotRunning says that a site must run for what is asked for.
func NotRunning(s Site) Problems {
	return Problems{{Site: s.Name, Field: "name", Message: "the site is " + string(s.State), Remedy: "start it: vessik start " + s.Name}}
}

func (p Problem) String() string {
	subject := p.Field
	if p.Site != "" {
		subject = Shown(p.Site) + ": " + p.Field
	}
	if p.Line > 0 {
		subject = fmt.Sprintf("line %d, column %d, %s", p.Line, p.Column, subject)
	}
	return fmt.Sprintf("%s: %s; %s", subject, p.Message, p.Remedy)
}

// Problems are all that is wrong with a request; empty means nothing.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i, problem := range p {
		lines[i] = problem.String()
	}
	return strings.Join(lines, "\n")
}
