// Package fleet is the fleet file: sites described in YAML, so that what is there can be compared with it and brought to it. It
// computes only.
package fleet

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"vessik/internal/core/outgoing"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/core/yamltext"
)

// File is a fleet file; docs/fleet.schema.json describes it for editors.
type File struct {
	Version int    `yaml:"fleet"` // 1
	Sites   []Site `yaml:"sites"`
}

// Administrator is that of a site's CMS, without a password.
type Administrator struct {
	Name string `yaml:"name,omitempty"`
	Mail string `yaml:"mail,omitempty"`
}

// Site is one of its sites. Only the name is needed.
type Site struct {
	Name          string        `yaml:"name"`
	Title         string        `yaml:"title,omitempty"`
	Group         string        `yaml:"group,omitempty"`
	Note          string        `yaml:"note,omitempty"`
	CMS           string        `yaml:"cms,omitempty"`
	CMSVersion    string        `yaml:"cms_version,omitempty"`
	PHP           string        `yaml:"php,omitempty"`
	Web           string        `yaml:"web,omitempty"`
	Database      string        `yaml:"database,omitempty"`
	Domain        string        `yaml:"domain,omitempty"`
	Stencil       string        `yaml:"stencil,omitempty"`
	Touches       []string      `yaml:"finishing_touches,omitempty"`
	Administrator Administrator `yaml:"administrator,omitempty"`
	Domains       []string      `yaml:"domains,omitempty"`
	Language      string        `yaml:"language,omitempty"`
	TimeZone      string        `yaml:"time_zone,omitempty"`
	Network       string        `yaml:"network,omitempty"`
	SubSites      []string      `yaml:"sub_sites,omitempty"`
	Plugins       []string      `yaml:"plugins,omitempty"`
	Themes        []string      `yaml:"themes,omitempty"`
	Outgoing      string        `yaml:"outgoing,omitempty"`
	Reach         []string      `yaml:"outgoing_allow,omitempty"`
	Refuse        []string      `yaml:"outgoing_refuse,omitempty"`
	HTTPS         *bool         `yaml:"https,omitempty"`
	Visible       *bool         `yaml:"search_engines,omitempty"`
	// PHPIni are all the php.ini settings of the site's own, where it is there.
	PHPIni map[string]string `yaml:"php_ini,omitempty"`
	State  string            `yaml:"state,omitempty"` // running (which it is where it is left out) or stopped
}

// Parse reads a fleet file and judges what can be judged without knowing the machine; an error is yamltext.Faults.
func Parse(text []byte) (File, yamltext.Text, error) {
	var f File
	read, err := yamltext.ReadWhole(text, &f)
	if err != nil {
		return f, read, renamed(err)
	}
	faults := yamltext.Faults{}
	if f.Version != 1 {
		faults = append(faults, read.At("fleet", "write fleet: 1 as the first line: this is what the file is"))
	}
	seen := map[string]bool{}
	for i, s := range f.Sites {
		where := fmt.Sprintf("sites[%d]", i)
		switch {
		case s.Name == "":
			faults = append(faults, read.At(where, "the site has no name"))
		case seen[site.ASCII(s.Name)]:
			faults = append(faults, read.At(where+".name", fmt.Sprintf("there are two sites %q", s.Name)))
		}
		if s.State != "" && s.State != "running" && s.State != "stopped" {
			faults = append(faults, read.At(where+".state", fmt.Sprintf("%q is neither running nor stopped", s.State)))
		}
		seen[site.ASCII(s.Name)] = true
	}
	if len(faults) > 0 {
		return f, read, faults
	}
	return f, read, nil
}

// formerNames are fields that files of an earlier version have, and what they are called now.
var formerNames = map[string]string{"kit": "cms", "kit_version": "cms_version", "admin": "administrator, with name: below it",
	"admin_email": "administrator, with mail: below it",
	"offline":     "outgoing, with closed or web"}

// renamed says of fields that are called otherwise now how.
func renamed(err error) error {
	var faults yamltext.Faults
	var one *yamltext.Fault
	if errors.As(err, &one) {
		faults = yamltext.Faults{one}
	} else {
		errors.As(err, &faults)
	}
	for _, fault := range faults {
		for former, now := range formerNames {
			if fault.Message == fmt.Sprintf("unknown field %q", former) {
				fault.Message += "; it is called " + now
			}
		}
	}
	return err
}

// Locate tells where in the file problems with its sites stand.
func (f File) Locate(read yamltext.Text, problems site.Problems) site.Problems {
	for n := range problems {
		p := &problems[n]
		i := slices.IndexFunc(f.Sites, func(s Site) bool { return site.ASCII(s.Name) == p.Site })
		if i < 0 {
			continue
		}
		field := p.Field
		if name, ini := strings.CutPrefix(field, "php."); ini {
			field = "php_ini." + name
		}
		for _, path := range []string{"." + strings.ReplaceAll(field, "outgoing-", "outgoing_"), ".name", ""} {
			if line, column, found := read.Place(fmt.Sprintf("sites[%d]%s", i, path)); found {
				p.Line, p.Column = line, column
				break
			}
		}
	}
	return problems
}

// Step is one thing that has to be done.
type Step struct {
	Site    string        `json:"site"`
	What    string        `json:"what" enum:"make,restack,readdress,domains,title,settings,label,start,stop"`
	Words   []string      `json:"words"` // what will be different
	Make    *wire.Request `json:"make,omitempty"`
	Stack   *wire.Restack `json:"stack,omitempty"`
	Label   *wire.Label   `json:"label,omitempty"`
	Rename  *wire.Rename  `json:"rename,omitempty"`
	Domains *wire.Domains `json:"domains,omitempty"`
	Title   string        `json:"title,omitempty"`
	// These are settings; nil, or empty, where they stay.
	Outgoing string            `json:"outgoing,omitempty"`
	Reach    []string          `json:"outgoing_allow,omitempty"`
	Refuse   []string          `json:"outgoing_refuse,omitempty"`
	PHPIni   map[string]string `json:"php_ini,omitempty"`
}

// Request asks for a site as the file describes it.
func (s Site) Request() site.Request {
	return site.Request{Name: s.Name, Title: s.Title, Group: s.Group, CMS: s.CMS, CMSVersion: s.CMSVersion, PHP: s.PHP, Web: s.Web,
		Database: s.Database, Domain: s.Domain, Stencil: s.Stencil, Touches: s.Touches,
		Administrator: site.Administrator{Name: s.Administrator.Name, Mail: s.Administrator.Mail}, Domains: s.Domains,
		Language: s.Language, TimeZone: s.TimeZone, Network: s.Network,
		SubSites: s.SubSites, Plugins: s.Plugins, Themes: s.Themes, Outgoing: s.Outgoing, SearchEngines: is(s.Visible),
		HTTPS: onOff(s.HTTPS)}
}

// onOff is how a request asks for what is said; empty where nothing is.
func onOff(said *bool) string {
	switch {
	case said == nil:
		return ""
	case *said:
		return site.On
	}
	return site.Off
}

// is tells whether something is said, and said to be so.
func is(said *bool) bool { return said != nil && *said }

func words(s Site) []string {
	said := []string{}
	for _, pair := range [][2]string{{"cms", strings.TrimSpace(s.CMS + " " + s.CMSVersion)}, {"stencil", s.Stencil}, {"php", s.PHP},
		{"web", s.Web}, {"database", s.Database}, {"domain", s.Domain}, {"group", s.Group}, {"language", s.Language}, {"time zone", s.TimeZone},
		{"network by", s.Network}, {"plugins", strings.Join(s.Plugins, " ")}, {"themes", strings.Join(s.Themes, " ")}} {
		if pair[1] != "" {
			said = append(said, pair[0]+" "+pair[1])
		}
	}
	return said
}

func of(s wire.Site) Site {
	one := Site{Name: s.Name, Title: s.Title, Group: s.Group, Note: s.Note, CMS: s.CMS.Name, CMSVersion: s.CMS.Version,
		PHP: s.Stack.PHP.Engine, Web: s.Stack.Web.Engine, Database: s.Stack.Database.Engine,
		Administrator: Administrator{s.Administrator.Name, s.Administrator.Mail}, Domains: s.Domains, Language: s.Language,
		TimeZone: s.TimeZone, Network: s.Network,
		Plugins: s.Plugins, Themes: s.Themes, Touches: s.Touches, PHPIni: s.PHPIni}
	if s.Outgoing != outgoing.Web {
		one.Outgoing = s.Outgoing
	}
	one.Reach, one.Refuse = s.Reach, s.Refuse
	if s.HTTPS {
		one.HTTPS = &s.HTTPS
	}
	if s.SearchEngines {
		one.Visible = &s.SearchEngines
	}
	for _, address := range s.SubSites {
		one.SubSites = append(one.SubSites, subName(address, s))
	}
	if s.Domain != s.Name+".localhost" {
		one.Domain = s.Domain
	}
	if s.Origin.Kind == site.FromStencil {
		one.Stencil, one.Touches = s.Origin.From, nil
	}
	return one
}

// subName is a sub-site's name, from its address.
func subName(address string, s wire.Site) string {
	return site.Site{Network: s.Network, Domain: s.Domain}.SubName(address)
}

// SiteFileName is what the file of one site is called, in its folder.
const SiteFileName = "vessik-site.yaml"

// SiteFile is the file of one site, kept with it: it makes the same site on another machine.
type SiteFile struct {
	Version int `yaml:"vessik-site"` // 1
	Site    `yaml:",inline"`
	SQL     string `yaml:"sql,omitempty"`     // dump beside the file
	Address string `yaml:"address,omitempty"` // base address in that dump
}

// ParseSite reads such a file.
func ParseSite(text []byte) (SiteFile, error) {
	var f SiteFile
	read, err := yamltext.Read(text, &f)
	if err != nil {
		return f, renamed(err)
	}
	switch {
	case f.Version != 1:
		return f, read.At("vessik-site", "write vessik-site: 1 as the first line: this is what the file is")
	case f.Name == "":
		return f, read.At("name", "the site has no name")
	case f.SQL != "" && !filepath.IsLocal(f.SQL):
		return f, read.At("sql", fmt.Sprintf("%q does not lie beside the file", f.SQL))
	}
	return f, nil
}

// WriteSite writes the file of one site.
func WriteSite(s wire.Site, dump string) ([]byte, error) {
	f := SiteFile{Version: 1, Site: of(s), SQL: dump}
	f.Group, f.Note, f.Stencil = "", "", ""
	if dump != "" {
		f.Address = strings.TrimSuffix(s.URL, "/")
	}
	text, err := yaml.Marshal(f)
	return append([]byte("# This site, as Vessik knows it; a colleague makes the same one with: vessik new -in FOLDER\n"), text...), err
}

// Of is the file of what there is.
func Of(there []wire.Site) ([]byte, error) {
	f := File{Version: 1, Sites: []Site{}}
	for _, s := range there {
		if s.TrialOf != "" {
			continue
		}
		one := of(s)
		if s.State == site.Stopped {
			one.State = "stopped"
		}
		f.Sites = append(f.Sites, one)
	}
	text, err := yaml.Marshal(f)
	return append([]byte("# The fleet, written by vessik fleet write; vessik fleet match FILE makes it so elsewhere.\n"), text...), err
}
