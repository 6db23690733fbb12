package site

import (
	"cmp"
	"strings"
	"time"

	"vessik/internal/core/outgoing"
)

// Settings are what a site's owner changed of its engines.
type Settings struct {
	PHP        map[string]string `json:"php,omitempty" doc:"php.ini directives and their values"`
	Extensions map[string]bool   `json:"extensions,omitempty" doc:"PHP extensions that are switched on or off"`
	HostLines  map[string]string `json:"host_lines,omitempty" doc:"Further lines for the virtual host, by web server: nginx, apache"`
	Allow      []string          `json:"allow,omitempty" doc:"Further folders that the site may use: FOLDER, or FOLDER=PLACE in its own"`
	Debug      bool              `json:"debug,omitempty" doc:"PHP shows and logs every error, and the CMS's own debugging is on"`
	Xdebug     int               `json:"xdebug,omitempty" doc:"Port that Xdebug connects to; 0 leaves it out"`
	Outgoing   string            `json:"outgoing,omitempty" enum:",web,open,closed" doc:"What it may ask of other machines; empty is web"`
	Reach      []string          `json:"outgoing_allow,omitempty" doc:"Hosts, networks and ports that it may ask in any case"`
	Refuse     []string          `json:"outgoing_refuse,omitempty" doc:"Those that it may not ask in any case"`
	Helpers    []string          `json:"helpers,omitempty" doc:"Local helpers that are loaded for it, by name"`
	RestAfter  int               `json:"rest_after,omitempty" doc:"Seconds without a request until PHP rests; 0 is 600, -1 never"`
	Memory     int64             `json:"memory,omitempty" doc:"Bytes that the site may take in each of its cells; 0 is 2 GB"`
	Processes  int               `json:"processes,omitempty" doc:"Processes and threads in each of the site's cells; 0 is 256"`
	Processor  int               `json:"processor,omitempty" doc:"Percent of one processor's time for each of the site's cells; 0 is no limit"`
	Disk       int64             `json:"disk,omitempty" doc:"Bytes that the site's folder may take; 0 is no limit"`
}

// Shared is a further folder that a site may use: where it is, and its place in the site's own folder; empty where it has none.
type Shared struct{ Folder, Place string }

// SharedOf reads one of Settings.Allow.
func SharedOf(entry string) Shared {
	if i := strings.LastIndexByte(entry, '='); i > 0 && !strings.HasPrefix(entry[i+1:], "/") {
		return Shared{entry[:i], entry[i+1:]}
	}
	return Shared{Folder: entry}
}

// Open are the further folders that stand in the site's cells where they stand outside.
func (s Settings) Open() (folders []string) {
	for _, entry := range s.Allow {
		if shared := SharedOf(entry); shared.Place == "" {
			folders = append(folders, shared.Folder)
		}
	}
	return folders
}

// Bound are those that stand in them at a place in the site's own folder.
func (s Settings) Bound() (all []Shared) {
	for _, entry := range s.Allow {
		if shared := SharedOf(entry); shared.Place != "" {
			all = append(all, shared)
		}
	}
	return all
}

// Policy is what the site may ask of other machines.
func (s Settings) Policy() outgoing.Policy {
	return outgoing.Of(cmp.Or(s.Outgoing, outgoing.Web), s.Reach, s.Refuse)
}

// TimeZoneDirective is the php.ini directive that a site's time zone is written to as well.
const TimeZoneDirective = "date.timezone"

// What a cell of a site may take, where its settings do not say.
const (
	DefaultMemory    = 2 << 30
	DefaultProcesses = 256
)

// MostMemory is the memory limit in bytes, MostProcesses that of processes and threads.
func (s Settings) MostMemory() int64  { return cmp.Or(s.Memory, DefaultMemory) }
func (s Settings) MostProcesses() int { return cmp.Or(s.Processes, DefaultProcesses) }

// DefaultRest is the idle time after which PHP goes to rest.
const DefaultRest = 10 * time.Minute

// Rest is the idle time; 0 for never.
func (s Settings) Rest() time.Duration {
	switch {
	case s.RestAfter < 0:
		return 0
	case s.RestAfter == 0:
		return DefaultRest
	}
	return time.Duration(s.RestAfter) * time.Second
}
