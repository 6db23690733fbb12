// Package defaults is what new sites have in common.
package defaults

import (
	"cmp"
	"path/filepath"
	"reflect"
	"strings"

	"go.yaml.in/yaml/v3"

	"vessik/internal/core/outgoing"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/facts"
	"vessik/internal/operation"
	"vessik/internal/ownfile"
	"vessik/internal/running"
)

// Feature is the defaults of one home.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Facts      *facts.Facts
}

// Page shows what is set once, and what holds where nothing is.
func (f *Feature) Page() wire.DefaultsPage {
	d, err := f.Facts.ReadDefaults()
	page := wire.DefaultsPage{File: f.Facts.DefaultsFile(), Settings: []wire.Default{}, Warnings: []string{}}
	facts := f.Facts.Now()
	if err != nil {
		page.Warnings = append(page.Warnings, err.Error())
	}
	for _, problem := range site.CheckDefaults(d, facts) {
		page.Warnings = append(page.Warnings, problem.String())
	}
	facts.Defaults = site.Defaults{}
	usual := site.Complete(site.Request{Name: "name"}, facts)
	words := map[string]string{"administrator": "NAME-keeper", "mail": "keeper@NAME.example", "password": "generated for each site",
		"domain_ending": "localhost", "sites_folder": f.Machine.Home.Path("sites"),
		"cms": usual.CMS.Name, "cms_version": usual.CMS.Version, "php": usual.Stack.PHP, "web": usual.Stack.Web, "database": usual.Stack.Database,
		"group": "none", "finishing_touches": "none",
		"language": "the CMS's own", "time_zone": "UTC", "https": "off", "outgoing": outgoing.Web, "appearance": "system",
		"operations_days": "30", "operations_kept": "1000"}
	about := map[string]string{"administrator": "Administrator's user name", "mail": "Administrator's mail address",
		"password": "Administrator's password"}
	for field := range reflect.TypeFor[site.Defaults]().Fields() {
		name, _, _ := strings.Cut(field.Tag.Get("yaml"), ",")
		about[name] = cmp.Or(about[name], field.Tag.Get("doc"))
	}
	for _, name := range site.DefaultNames {
		each := wire.Default{Others: f.others(name, cmp.Or(d.Get(name), words[name])), Name: name, About: about[name], Value: d.Get(name),
			Usual: words[name], From: "built in"}
		if each.Value != "" {
			each.From = "vessik.yaml"
		}
		if name == "password" && each.Value != "" {
			each.Value = "••••••••"
		}
		page.Settings = append(page.Settings, each)
	}
	return page
}

// others are the sites that have another value of a setting than the one that new sites get.
func (f *Feature) others(name, value string) []string {
	has := map[string]func(s site.Site) string{"administrator": func(s site.Site) string { return s.Administrator.Name },
		"mail":          func(s site.Site) string { return s.Administrator.Mail },
		"domain_ending": func(s site.Site) string { return strings.TrimPrefix(s.Domain, s.Name+".") },
		"sites_folder":  func(s site.Site) string { return filepath.Dir(s.Folder) },
		"cms":           func(s site.Site) string { return s.CMS.Name }, "cms_version": func(s site.Site) string { return s.CMS.Version },
		"php": func(s site.Site) string { return s.Stack.PHP },
		"web": func(s site.Site) string { return s.Stack.Web }, "database": func(s site.Site) string { return s.Stack.Database },
		"group":     func(s site.Site) string { return cmp.Or(s.Group, "none") },
		"language":  func(s site.Site) string { return cmp.Or(s.Language, "the CMS's own") },
		"time_zone": func(s site.Site) string { return cmp.Or(s.TimeZone, "UTC") },
		"outgoing":  func(s site.Site) string { return cmp.Or(s.Settings.Outgoing, outgoing.Web) }}[name]
	names := []string{}
	if has == nil {
		return names
	}
	engines := f.Facts.Engines()
	for _, s := range f.Machine.Registry.All() {
		wanted := strings.NewReplacer("NAME", s.Name).Replace(value)
		if id, ok := site.MatchEngine(engines[name], wanted); ok {
			wanted = id
		}
		if has(s) != wanted {
			names = append(names, s.Name)
		}
	}
	return names
}

// Set sets some of them, once a site that would be made with them has been judged.
func (f *Feature) Set(values map[string]string) error {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	d, err := f.Facts.ReadDefaults()
	if err != nil {
		return site.Problems{{Field: "settings", Message: err.Error(), Remedy: "mend the file, or remove it"}}
	}
	problems := site.Problems{}
	for name, value := range values {
		if !d.Set(name, strings.TrimSpace(value)) {
			problems = append(problems, site.Problem{Field: name, Message: "is no default",
				Remedy: "choose one of " + strings.Join(site.DefaultNames, ", ")})
		}
	}
	for _, problem := range site.CheckDefaults(d, f.Facts.Now()) {
		if _, asked := values[problem.Field]; asked {
			problems = append(problems, problem)
		}
	}
	if len(problems) > 0 {
		return problems
	}
	text, err := yaml.Marshal(d)
	if err != nil {
		return err
	}
	head := "# What new sites have in common; written by vessik defaults and the console, and by you.\n"
	return ownfile.Write(f.Facts.DefaultsFile(), append([]byte(head), text...), 0o600)
}
