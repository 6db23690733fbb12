// Package fleet is the fleet file: sites described in YAML, so that what is there can be compared with it and brought to it. It
// computes only.
package fleet

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/core/yamltext"
)

// File is a fleet file; docs/fleet.schema.json describes it for editors.
type File struct {
	Version int    `yaml:"fleet"` // 1
	Sites   []Site `yaml:"sites"`
}

// Site is one of its sites. Only the name is needed.
type Site struct {
	Name       string   `yaml:"name"`
	Title      string   `yaml:"title,omitempty"`
	Group      string   `yaml:"group,omitempty"`
	Note       string   `yaml:"note,omitempty"`
	Kit        string   `yaml:"kit,omitempty"`
	KitVersion string   `yaml:"kit_version,omitempty"`
	PHP        string   `yaml:"php,omitempty"`
	Web        string   `yaml:"web,omitempty"`
	Database   string   `yaml:"database,omitempty"`
	Domain     string   `yaml:"domain,omitempty"`
	Stencil    string   `yaml:"stencil,omitempty"`
	Touches    []string `yaml:"finishing_touches,omitempty"`
	Admin      string   `yaml:"admin,omitempty"`
	AdminEmail string   `yaml:"admin_email,omitempty"`
	Domains    []string `yaml:"domains,omitempty"`
	Language   string   `yaml:"language,omitempty"`
	TimeZone   string   `yaml:"time_zone,omitempty"`
	Network    string   `yaml:"network,omitempty"`
	SubSites   []string `yaml:"sub_sites,omitempty"`
	Plugins    []string `yaml:"plugins,omitempty"`
	Themes     []string `yaml:"themes,omitempty"`
	Offline    bool     `yaml:"offline,omitempty"`
	Visible    bool     `yaml:"search_engines,omitempty"`
	State      string   `yaml:"state,omitempty"` // running (which it is where it is left out) or stopped
}

// Parse reads a fleet file and judges what can be judged without knowing the machine.
func Parse(text []byte) (File, error) {
	var f File
	read, err := yamltext.Read(text, &f)
	if err != nil {
		return f, err
	}
	if f.Version != 1 {
		return f, read.At("fleet", "write fleet: 1 as the first line: this is what the file is")
	}
	seen := map[string]bool{}
	for i, s := range f.Sites {
		where := fmt.Sprintf("sites[%d]", i)
		switch {
		case s.Name == "":
			return f, read.At(where, "the site has no name")
		case seen[s.Name]:
			return f, read.At(where+".name", fmt.Sprintf("there are two sites %q", s.Name))
		case s.State != "" && s.State != "running" && s.State != "stopped":
			return f, read.At(where+".state", fmt.Sprintf("%q is neither running nor stopped", s.State))
		}
		seen[s.Name] = true
	}
	return f, nil
}

// Step is one thing that has to be done.
type Step struct {
	Site    string        `json:"site"`
	What    string        `json:"what" enum:"make,restack,readdress,domains,label,start,stop"`
	Words   []string      `json:"words"` // what will be different
	Make    *site.Request `json:"make,omitempty"`
	Stack   *wire.Restack `json:"stack,omitempty"`
	Label   *wire.Label   `json:"label,omitempty"`
	Rename  *wire.Rename  `json:"rename,omitempty"`
	Domains *wire.Domains `json:"domains,omitempty"`
}

// Request asks for a site as the file describes it.
func (s Site) Request() site.Request {
	return site.Request{Name: s.Name, Title: s.Title, Group: s.Group, Kit: s.Kit, KitVersion: s.KitVersion, PHP: s.PHP, Web: s.Web,
		Database: s.Database, Domain: s.Domain, Stencil: s.Stencil, Touches: s.Touches,
		Admin: s.Admin, AdminEmail: s.AdminEmail, Domains: s.Domains, Language: s.Language, TimeZone: s.TimeZone, Network: s.Network,
		SubSites: s.SubSites, Plugins: s.Plugins, Themes: s.Themes, Offline: s.Offline, SearchEngines: s.Visible}
}

// Compare says what leads from the sites that there are to those of the file. Sites that the file does not name are left alone. What
// cannot be changed afterwards (kit, network) is told as a problem.
func Compare(f File, there []wire.Site, engines map[string][]site.EngineFact) (steps []Step, problems site.Problems) {
	for _, want := range f.Sites {
		i := slices.IndexFunc(there, func(s wire.Site) bool { return s.Name == want.Name })
		if i < 0 {
			request := want.Request()
			steps = append(steps, Step{Site: want.Name, What: "make", Words: words(want), Make: &request})
			if want.Note != "" {
				steps = append(steps, Step{Site: want.Name, What: "label", Words: []string{"note: " + want.Note},
					Label: &wire.Label{Names: []string{want.Name}, Note: &want.Note}})
			}
			if want.State == "stopped" {
				steps = append(steps, Step{Site: want.Name, What: "stop"})
			}
			continue
		}
		s := there[i]
		for field, pair := range map[string][2]string{"kit": {want.Kit, s.Kit.Name}, "kit_version": {want.KitVersion, s.Kit.Version},
			"network": {want.Network, s.Network}} {
			if pair[0] != "" && pair[0] != pair[1] {
				problems = append(problems, site.Problem{Site: s.Name, Field: field,
					Message: fmt.Sprintf("the site has %s, and it cannot be made %s afterwards", pair[1], pair[0]),
					Remedy:  "write what it has, or retire the site first"})
			}
		}
		stack, changed := wire.Restack{}, []string{}
		for _, part := range []struct {
			kind, want, has string
			set             *string
		}{{"php", want.PHP, s.Stack.PHP.Engine, &stack.PHP}, {"web", want.Web, s.Stack.Web.Engine, &stack.Web},
			{"database", want.Database, s.Stack.Database.Engine, &stack.Database}} {
			if part.want == "" {
				continue
			}
			id, ok := site.MatchEngine(engines[part.kind], part.want)
			if !ok {
				problems = append(problems, site.Problem{Site: s.Name, Field: part.kind, Message: fmt.Sprintf("no engine fits %q", part.want),
					Remedy: "see them with: vessik engines"})
			} else if id != part.has {
				*part.set, changed = id, append(changed, part.has+" → "+id)
			}
		}
		if len(changed) > 0 {
			steps = append(steps, Step{Site: s.Name, What: "restack", Words: changed, Stack: &stack})
		}
		if domain := site.ASCII(want.Domain); domain != "" && domain != s.Domain {
			steps = append(steps, Step{Site: s.Name, What: "readdress", Words: []string{s.Domain + " → " + domain},
				Rename: &wire.Rename{Domain: domain}})
		}
		for i, domain := range want.Domains {
			want.Domains[i] = site.ASCII(domain)
		}
		if want.Domains != nil && !slices.Equal(slices.Sorted(slices.Values(want.Domains)), slices.Sorted(slices.Values(s.Domains))) {
			steps = append(steps, Step{Site: s.Name, What: "domains", Words: want.Domains, Domains: &wire.Domains{Domains: want.Domains}})
		}
		label := wire.Label{Names: []string{s.Name}}
		changed = nil
		if want.Group != s.Group && want.Group != "" {
			label.Group, changed = &want.Group, append(changed, "group: "+want.Group)
		}
		if want.Note != s.Note && want.Note != "" {
			label.Note, changed = &want.Note, append(changed, "note: "+want.Note)
		}
		if len(changed) > 0 {
			steps = append(steps, Step{Site: s.Name, What: "label", Words: changed, Label: &label})
		}
		switch {
		case want.State == "stopped" && s.State == site.Running:
			steps = append(steps, Step{Site: s.Name, What: "stop"})
		case want.State != "stopped" && s.State == site.Stopped:
			steps = append(steps, Step{Site: s.Name, What: "start"})
		}
	}
	slices.SortStableFunc(problems, func(a, b site.Problem) int { return strings.Compare(a.Site+a.Field, b.Site+b.Field) })
	return steps, problems
}

func words(s Site) []string {
	said := []string{}
	for _, pair := range [][2]string{{"kit", strings.TrimSpace(s.Kit + " " + s.KitVersion)}, {"stencil", s.Stencil}, {"php", s.PHP},
		{"web", s.Web}, {"database", s.Database}, {"domain", s.Domain}, {"group", s.Group}, {"language", s.Language}, {"time zone", s.TimeZone},
		{"network by", s.Network}, {"plugins", strings.Join(s.Plugins, " ")}, {"themes", strings.Join(s.Themes, " ")}} {
		if pair[1] != "" {
			said = append(said, pair[0]+" "+pair[1])
		}
	}
	return said
}

func of(s wire.Site) Site {
	one := Site{Name: s.Name, Title: s.Title, Group: s.Group, Note: s.Note, Kit: s.Kit.Name, KitVersion: s.Kit.Version,
		PHP: s.Stack.PHP.Engine, Web: s.Stack.Web.Engine, Database: s.Stack.Database.Engine,
		Admin: s.Admin.User, AdminEmail: s.Admin.Email, Domains: s.Domains, Language: s.Language, TimeZone: s.TimeZone, Network: s.Network,
		Plugins: s.Plugins, Themes: s.Themes, Offline: s.Offline, Visible: s.SearchEngines, Touches: s.Touches}
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
	if s.Network == site.NetworkFolders {
		return strings.Trim(strings.TrimPrefix(address, s.URL), "/")
	}
	_, host, _ := strings.Cut(address, "//")
	name, _, _ := strings.Cut(host, ".")
	return name
}

// SiteFileName is what the file of one site is called, in its folder.
const SiteFileName = "vessik-site.yaml"

// SiteFile is the file of one site, kept with it: it makes the same site on another machine.
type SiteFile struct {
	Version int `yaml:"vessik-site"` // 1
	Site    `yaml:",inline"`
	PHPIni  map[string]string `yaml:"php_ini,omitempty"`
	SQL     string            `yaml:"sql,omitempty"`     // dump beside the file
	Address string            `yaml:"address,omitempty"` // base address in that dump
}

// ParseSite reads such a file.
func ParseSite(text []byte) (SiteFile, error) {
	var f SiteFile
	read, err := yamltext.Read(text, &f)
	if err != nil {
		return f, err
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
func WriteSite(s wire.Site, phpIni map[string]string, dump string) ([]byte, error) {
	f := SiteFile{Version: 1, Site: of(s), PHPIni: phpIni, SQL: dump}
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
	return append([]byte("# The fleet, written by vessik fleet write; vessik fleet apply FILE makes it so elsewhere.\n"), text...), err
}
