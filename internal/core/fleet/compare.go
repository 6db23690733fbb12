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
		c.problems = site.CheckSettings(c.name, site.Settings{PHP: want.PHPIni, Outgoing: want.Outgoing, Reach: want.Reach,
			Refuse: want.Refuse}, nil, nil, "")
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
	request := wire.Request(c.want.Request())
	c.step(Step{What: "make", Words: words(c.want), Make: &request})
	later := Step{What: "settings"}
	if len(c.want.PHPIni) > 0 {
		later.PHPIni, later.Words = c.want.PHPIni, iniWords(c.want.PHPIni)
	}
	if c.machines(&later, wire.Site{Outgoing: c.want.Outgoing}); len(later.Words) > 0 {
		c.step(later)
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
	asked, words := wire.Rename{}, []string{}
	if domain := site.ASCII(want.Domain); domain != "" && domain != s.Domain {
		asked.Domain, words = domain, append(words, s.Domain+" → "+domain)
	}
	if want.HTTPS != nil && *want.HTTPS != s.HTTPS {
		asked.HTTPS, words = onOff(want.HTTPS), append(words, "https "+onOff(want.HTTPS))
	}
	if len(words) > 0 {
		c.step(Step{What: "readdress", Words: words, Rename: &asked})
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
	c.machines(&settings, s)
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

// machines compares what a site may ask of other machines.
func (c *comparison) machines(settings *Step, s wire.Site) {
	want := c.want
	if want.Outgoing != "" && want.Outgoing != s.Outgoing {
		settings.Outgoing, settings.Words = want.Outgoing, append(settings.Words, "outgoing "+want.Outgoing)
	}
	if want.Reach != nil && !same(want.Reach, s.Reach) {
		settings.Reach, settings.Words = want.Reach, append(settings.Words, "outgoing allow "+strings.Join(want.Reach, " "))
	}
	if want.Refuse != nil && !same(want.Refuse, s.Refuse) {
		settings.Refuse, settings.Words = want.Refuse, append(settings.Words, "outgoing refuse "+strings.Join(want.Refuse, " "))
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
