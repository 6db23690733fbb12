package provision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// DefaultsFile is where what is set once stands; people may write it by hand.
func (p *Provisioner) DefaultsFile() string { return p.Home.path("vessik.yaml") }

// Defaults reads what is set once. A file that cannot be read counts as empty, and is told by DefaultsPage.
func (p *Provisioner) Defaults() site.Defaults {
	d, _ := p.readDefaults()
	return d
}

func (p *Provisioner) readDefaults() (d site.Defaults, err error) {
	text, err := os.ReadFile(p.DefaultsFile())
	if errors.Is(err, fs.ErrNotExist) {
		return d, nil
	}
	if err != nil {
		return d, err
	}
	if err := yaml.UnmarshalWithOptions(text, &d, yaml.Strict()); err != nil {
		return site.Defaults{}, fmt.Errorf("%s: %s", p.DefaultsFile(), yaml.FormatError(err, false, false))
	}
	return d, nil
}

// DefaultsPage shows what is set once, and what holds where nothing is.
func (p *Provisioner) DefaultsPage() wire.DefaultsPage {
	d, err := p.readDefaults()
	page := wire.DefaultsPage{File: p.DefaultsFile(), Settings: []wire.Default{}, Warnings: []string{}}
	facts := p.facts()
	if err != nil {
		page.Warnings = append(page.Warnings, err.Error())
	}
	for _, problem := range site.CheckDefaults(d, facts) {
		page.Warnings = append(page.Warnings, problem.String())
	}
	facts.Defaults = site.Defaults{}
	usual := site.Derive(site.Request{Name: "name"}, facts)
	words := map[string]string{"admin": "NAME-keeper", "admin_email": "keeper@NAME.example", "admin_password": "generated for each site", "domain_ending": "localhost", "sites_folder": p.Home.path("sites"),
		"kit": usual.Kit.Name, "kit_version": usual.Kit.Version, "php": usual.Stack.PHP, "web": usual.Stack.Web, "database": usual.Stack.Database, "group": "none", "finishing_touches": "none",
		"language": "the CMS's own", "time_zone": "UTC", "editor": "code FOLDER", "terminal": "x-terminal-emulator", "appearance": "system"}
	about := map[string]string{}
	for field := range reflect.TypeFor[site.Defaults]().Fields() {
		name, _, _ := strings.Cut(field.Tag.Get("yaml"), ",")
		about[name] = field.Tag.Get("doc")
	}
	for _, name := range site.DefaultNames {
		each := wire.Default{Others: p.others(name, cmp.Or(d.Get(name), words[name])), Name: name, About: about[name], Value: d.Get(name), Usual: words[name], From: "built in"}
		if each.Value != "" {
			each.From = "vessik.yaml"
		}
		if name == "admin_password" && each.Value != "" {
			each.Value = "••••••••"
		}
		page.Settings = append(page.Settings, each)
	}
	return page
}

// others are the sites that have another value of a setting than the one that new sites get.
func (p *Provisioner) others(name, value string) []string {
	has := map[string]func(s site.Site) string{"admin": func(s site.Site) string { return s.Admin.User }, "admin_email": func(s site.Site) string { return s.Admin.Email },
		"domain_ending": func(s site.Site) string { return strings.TrimPrefix(s.Domain, s.Name+".") }, "sites_folder": func(s site.Site) string { return filepath.Dir(s.Folder) },
		"kit": func(s site.Site) string { return s.Kit.Name }, "kit_version": func(s site.Site) string { return s.Kit.Version }, "php": func(s site.Site) string { return s.Stack.PHP },
		"web": func(s site.Site) string { return s.Stack.Web }, "database": func(s site.Site) string { return s.Stack.Database }, "group": func(s site.Site) string { return cmp.Or(s.Group, "none") },
		"language": func(s site.Site) string { return cmp.Or(s.Language, "the CMS's own") }, "time_zone": func(s site.Site) string { return cmp.Or(s.TimeZone, "UTC") }}[name]
	names := []string{}
	if has == nil {
		return names
	}
	engines := p.Engines()
	for _, s := range p.Sites() {
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

// SetDefaults sets some of them, once a site that would be made with them has been judged.
func (p *Provisioner) SetDefaults(values map[string]string) error {
	p.requests.Lock()
	defer p.requests.Unlock()
	d, err := p.readDefaults()
	if err != nil {
		return site.Problems{{Field: "settings", Message: err.Error(), Remedy: "mend the file, or remove it"}}
	}
	problems := site.Problems{}
	for name, value := range values {
		if !d.Set(name, strings.TrimSpace(value)) {
			problems = append(problems, site.Problem{Field: name, Message: "cannot be set once", Remedy: "choose one of " + strings.Join(site.DefaultNames, ", ")})
		}
	}
	for _, problem := range site.CheckDefaults(d, p.facts()) {
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
	next := p.DefaultsFile() + ".next"
	head := "# What is set once for new sites; written by vessik defaults and the console, and by you.\n"
	if err := os.WriteFile(next, append([]byte(head), text...), 0o600); err != nil {
		return err
	}
	return os.Rename(next, p.DefaultsFile())
}

// Label changes how sites are shown in the fleet.
func (p *Provisioner) Label(ctx context.Context, l wire.Label) error {
	problems := site.Problems{}
	for _, name := range l.Names {
		if _, ok := p.Site(name); !ok {
			problems = append(problems, noSite(name)...)
		}
	}
	for field, text := range map[string]*string{"group": l.Group, "note": l.Note} {
		if most := map[string]int{"group": 60, "note": 2000}[field]; text != nil && len([]rune(*text)) > most {
			problems = append(problems, site.Problem{Field: field, Message: fmt.Sprintf("is %d characters long", len([]rune(*text))), Remedy: fmt.Sprintf("shorten it to %d", most)})
		}
	}
	if len(problems) > 0 {
		return problems
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(l.Names))) {
		err := p.change(ctx, name, func(s *site.Site) error {
			if l.Group != nil {
				s.Group = strings.TrimSpace(*l.Group)
			}
			if l.Note != nil {
				s.Note = *l.Note
			}
			if l.Top != nil {
				s.Top = *l.Top
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	p.announce()
	return nil
}
