package site

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Defaults are what is set once for all sites that are made later; they stand in vessik.yaml in the home folder.
type Defaults struct {
	Ending     string   `yaml:"domain_ending,omitempty" json:"domain_ending,omitempty" doc:"Ends the sites' domains" example:"localhost"`
	Folder     string   `yaml:"sites_folder,omitempty" json:"sites_folder,omitempty" doc:"Where the sites' folders are made; absolute"`
	CMS        string   `yaml:"cms,omitempty" json:"cms,omitempty" doc:"The CMS"`
	CMSVersion string   `yaml:"cms_version,omitempty" json:"cms_version,omitempty" doc:"Its version"`
	PHP        string   `yaml:"php,omitempty" json:"php,omitempty" doc:"PHP engine"`
	Web        string   `yaml:"web,omitempty" json:"web,omitempty" doc:"Web server engine"`
	Database   string   `yaml:"database,omitempty" json:"database,omitempty" doc:"Database engine"`
	Language   string   `yaml:"language,omitempty" json:"language,omitempty" doc:"Language of that CMS, as it writes it" example:"de_DE"`
	TimeZone   string   `yaml:"time_zone,omitempty" json:"time_zone,omitempty" doc:"Time zone, by its IANA name" example:"Europe/Lisbon"`
	HTTPS      string   `yaml:"https,omitempty" json:"https,omitempty" doc:"Sites answer over https: on or off"`
	Outgoing   string   `yaml:"outgoing,omitempty" json:"outgoing,omitempty" doc:"What sites may ask of other machines: web, open or closed"`
	Group      string   `yaml:"group,omitempty" json:"group,omitempty" doc:"Group of new sites"`
	Appearance string   `yaml:"appearance,omitempty" json:"appearance,omitempty" doc:"The console: light, dark or system"`
	Days       string   `yaml:"operations_days,omitempty" json:"operations_days,omitempty" doc:"How many days operations are kept"`
	Most       string   `yaml:"operations_kept,omitempty" json:"operations_kept,omitempty" doc:"How many operations are kept at most"`
	Touches    []string `yaml:"finishing_touches,omitempty" json:"finishing_touches,omitempty" doc:"Finishing touches of that CMS"`

	Administrator Administrator `yaml:"administrator,omitempty" json:"administrator,omitzero"`
}

// DefaultNames are the settings' names, as they are asked for; administrator, mail and password stand together in vessik.yaml.
var DefaultNames = []string{"administrator", "mail", "password", "domain_ending", "sites_folder", "cms", "cms_version", "php", "web",
	"database", "language", "time_zone", "https", "outgoing", "group", "finishing_touches", "appearance",
	"operations_days", "operations_kept"}

// field is one of them, by its name.
func (d *Defaults) field(name string) *string {
	return map[string]*string{"administrator": &d.Administrator.Name, "mail": &d.Administrator.Mail,
		"password": &d.Administrator.Password, "domain_ending": &d.Ending,
		"sites_folder": &d.Folder, "cms": &d.CMS,
		"cms_version": &d.CMSVersion, "php": &d.PHP, "web": &d.Web, "database": &d.Database, "group": &d.Group,
		"language": &d.Language, "time_zone": &d.TimeZone, "https": &d.HTTPS, "outgoing": &d.Outgoing, "appearance": &d.Appearance,
		"operations_days": &d.Days, "operations_kept": &d.Most}[name]
}

// Get returns one of them as text; lists are joined by commas.
func (d Defaults) Get(name string) string {
	if name == "finishing_touches" {
		return strings.Join(d.Touches, ",")
	}
	if field := d.field(name); field != nil {
		return *field
	}
	return ""
}

// Set changes one of them; empty takes it back. It is false where there is none of that name.
func (d *Defaults) Set(name, value string) bool {
	if name == "finishing_touches" {
		d.Touches = SplitTouches(value)
		return true
	}
	field := d.field(name)
	if field != nil {
		*field = value
	}
	return field != nil
}

// Kept is for how many days, and how many operations, it is kept what was done.
func (d Defaults) Kept() (days, most int) {
	days, most = keptDays, keptMost
	if n, err := strconv.Atoi(d.Days); err == nil && n > 0 {
		days = n
	}
	if n, err := strconv.Atoi(d.Most); err == nil && n > 0 {
		most = n
	}
	return days, most
}

const (
	keptDays = 30
	keptMost = 1000
)

// SplitTouches reads finishing touches that are joined by commas; a comma before a space belongs to a value.
func SplitTouches(text string) []string {
	touches := []string{}
	for part := range strings.SplitSeq(text, ",") {
		if strings.HasPrefix(part, " ") && len(touches) > 0 {
			touches[len(touches)-1] += "," + part
		} else if part != "" {
			touches = append(touches, part)
		}
	}
	return touches
}

// Fill gives a request what it leaves open and was set once.
func (d Defaults) Fill(r Request) Request {
	r.Administrator = Administrator{Name: cmp.Or(r.Administrator.Name, d.Administrator.Name),
		Mail: cmp.Or(r.Administrator.Mail, d.Administrator.Mail), Password: cmp.Or(r.Administrator.Password, d.Administrator.Password)}
	r.PHP, r.Web, r.Database, r.Group = cmp.Or(r.PHP, d.PHP), cmp.Or(r.Web, d.Web), cmp.Or(r.Database, d.Database), cmp.Or(r.Group, d.Group)
	r.TimeZone, r.HTTPS = cmp.Or(r.TimeZone, d.TimeZone), cmp.Or(r.HTTPS, d.HTTPS)
	if originOf(r).Kind != FromSite { // a copy may ask what the site may
		r.Outgoing = cmp.Or(r.Outgoing, d.Outgoing)
	}
	if originOf(r).Kind == "" {
		if r.CMS == "" || r.CMS == d.CMS {
			r.CMSVersion = cmp.Or(r.CMSVersion, d.CMSVersion)
			if r.Touches == nil {
				r.Touches = d.Touches
			}
			r.Language = cmp.Or(r.Language, d.Language)
		}
		r.CMS = cmp.Or(r.CMS, d.CMS)
	}
	return r
}

// CheckDefaults judges them by a site that would be made with them: what is wrong, by the setting at fault.
func CheckDefaults(d Defaults, f Facts) Problems {
	const name = "defaults-trial"
	f.Defaults = d
	problems := Problems{}
	for _, p := range Check(Complete(Request{Name: name}, f), f) {
		p.Site = ""
		switch p.Field {
		case "domain":
			p.Field = "domain_ending"
		case "folder":
			p.Field = "sites_folder"
		case "administrator.name":
			p.Field = "administrator"
		case "administrator.mail", "administrator.password":
			p.Field = strings.TrimPrefix(p.Field, "administrator.")
		}
		if slices.Contains(DefaultNames, p.Field) && d.Get(p.Field) != "" {
			problems = append(problems, p)
		}
	}
	if d.Appearance != "" && !slices.Contains([]string{"light", "dark", "system"}, d.Appearance) {
		problems = append(problems, Problem{Field: "appearance", Message: fmt.Sprintf("%q is none", d.Appearance),
			Remedy: "say light, dark or system"})
	}
	for _, name := range []string{"operations_days", "operations_kept"} {
		if n, err := strconv.Atoi(d.Get(name)); d.Get(name) != "" && (err != nil || n < 1) {
			problems = append(problems, Problem{Field: name, Message: fmt.Sprintf("%q is not a number from 1", d.Get(name)),
				Remedy: "write a number, or leave it empty"})
		}
	}
	return problems
}
