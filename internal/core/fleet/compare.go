package fleet

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// Compare says what leads from the sites that there are to those of the file. Sites that the file does not name are left alone. What
// cannot be changed afterwards is told as a problem.
func Compare(f File, there []wire.Site, engines map[string][]site.EngineFact) (steps []Step, problems site.Problems) {
	for _, want := range f.Sites {
		for i, domain := range want.Domains {
			want.Domains[i] = site.ASCII(domain)
		}
		c := comparison{want: want, engines: engines, name: site.ASCII(want.Name)}
		c.problems = site.CheckSettings(c.name, site.Settings{PHP: want.PHPIni}, nil, nil, "")
		if i := slices.IndexFunc(there, func(s wire.Site) bool { return s.Name == c.name }); i >= 0 {
			c.change(there[i])
		} else {
			c.make()
		}
		steps, problems = append(steps, c.steps...), append(problems, c.problems...)
	}
	slices.SortStableFunc(problems, func(a, b site.Problem) int { return strings.Compare(a.Site+a.Field, b.Site+b.Field) })
	return steps, problems
}

// comparison is that of one site.
type comparison struct {
	want     Site
	name     string
	engines  map[string][]site.EngineFact
	steps    []Step
	problems site.Problems
}

func (c *comparison) step(s Step) {
	s.Site = c.name
	c.steps = append(c.steps, s)
}

// make is for a site that is not there.
func (c *comparison) make() {
	request := c.want.Request()
	c.step(Step{What: "make", Words: words(c.want), Make: &request})
	if len(c.want.PHPIni) > 0 {
		c.step(Step{What: "settings", Words: iniWords(c.want.PHPIni), PHPIni: c.want.PHPIni})
	}
	if c.want.Note != "" {
		c.step(Step{What: "label", Words: []string{"note: " + c.want.Note},
			Label: &wire.Label{Names: []string{c.name}, Note: &c.want.Note}})
	}
	if c.want.State == "stopped" {
		c.step(Step{What: "stop"})
	}
}

// change is for one that is.
func (c *comparison) change(s wire.Site) {
	c.fixed(s)
	c.stack(s)
	want := c.want
	if domain := site.ASCII(want.Domain); domain != "" && domain != s.Domain {
		c.step(Step{What: "readdress", Words: []string{s.Domain + " → " + domain}, Rename: &wire.Rename{Domain: domain}})
	}
	if want.Domains != nil && !same(want.Domains, s.Domains) {
		c.step(Step{What: "domains", Words: want.Domains, Domains: &wire.Domains{Domains: want.Domains}})
	}
	if want.Title != "" && want.Title != s.Title {
		c.problems = append(c.problems, site.CheckTitle(c.name, want.Title)...)
		c.step(Step{What: "title", Words: []string{s.Title + " → " + want.Title}, Title: want.Title})
	}
	settings := Step{What: "settings"}
	if want.PHPIni != nil && !maps.Equal(want.PHPIni, s.PHPIni) {
		settings.PHPIni, settings.Words = want.PHPIni, iniWords(want.PHPIni)
	}
	if want.Offline != nil && *want.Offline != s.Offline {
		settings.Offline = want.Offline
		settings.Words = append(settings.Words, "offline "+map[bool]string{true: "on", false: "off"}[*want.Offline])
	}
	if settings.Words != nil {
		c.step(settings)
	}
	c.label(s)
	switch {
	case want.State == "stopped" && s.State == site.Running:
		c.step(Step{What: "stop"})
	case want.State != "stopped" && s.State == site.Stopped:
		c.step(Step{What: "start"})
	}
}

// fixed judges what cannot be changed afterwards.
func (c *comparison) fixed(s wire.Site) {
	want := c.want
	stencil := ""
	if s.Origin.Kind == site.FromStencil {
		stencil = s.Origin.From
	}
	texts := map[string][2]string{"cms": {want.CMS, s.CMS.Name}, "network": {want.Network, s.Network}, "stencil": {want.Stencil, stencil},
		"time_zone": {want.TimeZone, s.TimeZone}, "administrator.name": {want.Administrator.Name, s.Administrator.Name},
		"administrator.mail": {want.Administrator.Mail, s.Administrator.Mail}}
	if want.CMSVersion != site.Newest {
		texts["cms_version"] = [2]string{want.CMSVersion, s.CMS.Version}
	}
	if site.MatchLanguage([]string{s.Language}, want.Language) == "" {
		texts["language"] = [2]string{want.Language, s.Language}
	}
	if want.Visible != nil && *want.Visible != s.SearchEngines {
		texts["search_engines"] = [2]string{fmt.Sprint(*want.Visible), fmt.Sprint(s.SearchEngines)}
	}
	subSites := []string{}
	for _, address := range s.SubSites {
		subSites = append(subSites, subName(address, s))
	}
	for field, lists := range map[string][2][]string{"plugins": {want.Plugins, s.Plugins}, "themes": {want.Themes, s.Themes},
		"sub_sites": {want.SubSites, subSites}, "finishing_touches": {want.Touches, s.Touches}} {
		if !same(lists[0], lists[1]) {
			texts[field] = [2]string{strings.Join(lists[0], " "), strings.Join(lists[1], " ")}
		}
	}
	for field, pair := range texts {
		has := pair[1]
		if pair[0] == "" || pair[0] == has {
			continue
		}
		if has == "" {
			has = "none of its own"
		}
		c.problems = append(c.problems, site.Problem{Site: s.Name, Field: field,
			Message: fmt.Sprintf("the site was made with %s, and a fleet file cannot make it %s afterwards", has, pair[0]),
			Remedy:  "change that in the site itself and leave it out here, write what it was made with, or retire the site first"})
	}
}

func (c *comparison) stack(s wire.Site) {
	stack, changed := wire.Restack{}, []string{}
	for _, part := range []struct {
		kind, want, has string
		set             *string
	}{{"php", c.want.PHP, s.Stack.PHP.Engine, &stack.PHP}, {"web", c.want.Web, s.Stack.Web.Engine, &stack.Web},
		{"database", c.want.Database, s.Stack.Database.Engine, &stack.Database}} {
		if part.want == "" {
			continue
		}
		id, ok := site.MatchEngine(c.engines[part.kind], part.want)
		if !ok {
			c.problems = append(c.problems, site.Problem{Site: s.Name, Field: part.kind, Message: fmt.Sprintf("no engine fits %q", part.want),
				Remedy: "see them with: vessik engines"})
		} else if id != part.has {
			*part.set, changed = id, append(changed, part.has+" → "+id)
		}
	}
	if len(changed) > 0 {
		c.step(Step{What: "restack", Words: changed, Stack: &stack})
	}
}

func (c *comparison) label(s wire.Site) {
	label, changed := wire.Label{Names: []string{s.Name}}, []string{}
	if c.want.Group != s.Group && c.want.Group != "" {
		label.Group, changed = &c.want.Group, append(changed, "group: "+c.want.Group)
	}
	if c.want.Note != s.Note && c.want.Note != "" {
		label.Note, changed = &c.want.Note, append(changed, "note: "+c.want.Note)
	}
	if len(changed) > 0 {
		c.step(Step{What: "label", Words: changed, Label: &label})
	}
}

// same tells whether two lists hold the same, in whatever order.
func same(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

func iniWords(values map[string]string) (said []string) {
	for _, name := range slices.Sorted(maps.Keys(values)) {
		said = append(said, name+" = "+values[name])
	}
	if said == nil {
		said = []string{"no php.ini settings of its own"}
	}
	return said
}
