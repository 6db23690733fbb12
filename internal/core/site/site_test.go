package site

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// facts are those of a machine with one site and nothing in the way.
func facts() Facts {
	return Facts{Home: "/srv/vessik", FirstPort: 1024, KeptPorts: map[int]string{20070: "its API and console"},
		Engines:    map[string][]EngineFact{"php": {{ID: "php-8.2"}}, "web": {{ID: "nginx-1.22"}}, "database": {{ID: "mariadb-10.11"}}},
		Releases:   map[string][]string{"wordpress": {"6.1"}},
		CMSNames:   []string{"wordpress"},
		PortHolder: func(port int) string { return map[int]string{5432: "postgres (process 7)"}[port] },
		FolderFault: func(folder string) string {
			return map[string]string{"/srv/full": "/srv/full is not empty"}[folder]
		},
		Sites: []Site{{Name: "fernhollow", State: Running, Domain: "fernhollow.localhost", Folder: "/srv/vessik/sites/fernhollow", Port: 21000,
			Stack: Stack{"php-8.2", "nginx-1.22", "mariadb-10.11"}, Database: Database{Name: "fernhollow", User: "fernhollow"}}}}
}

func TestEverythingIsDerivedFromAName(t *testing.T) {
	s := Complete(Request{Name: "seed-exchange"}, facts())
	assert.Empty(t, Check(s, facts()))
	assert.Equal(t, Site{Name: "seed-exchange", Title: "Seed Exchange", State: Making, Domain: "seed-exchange.localhost",
		Folder: "/srv/vessik/sites/seed-exchange", Port: 21001,
		CMS: CMS{"wordpress", "6.1"}, Stack: Stack{"php-8.2", "nginx-1.22", "mariadb-10.11"},
		Database:      Database{Name: "seed_exchange", User: "seed_exchange"},
		Administrator: Administrator{Name: "seed-exchange-keeper", Mail: "keeper@seed-exchange.example"}}, s)
	assert.Equal(t, "http://seed-exchange.localhost/", s.URL(Gateway{80, 443}))
	assert.Equal(t, "http://seed-exchange.localhost:20080/", s.URL(Gateway{20080, 20443}))
	s.HTTPS = true
	assert.Equal(t, "https://seed-exchange.localhost/", s.URL(Gateway{80, 443}))
	assert.Equal(t, "seed-exchange.localhost:20443", s.Host(Gateway{20080, 20443}))
}

func TestBadRequestsNameTheFieldAndTheRemedy(t *testing.T) {
	for name, c := range map[string]struct {
		request Request
		field   string
		says    string
	}{
		"taken":                  {Request{Name: "fernhollow"}, "name", "exists"},
		"reserved":               {Request{Name: "vessik"}, "name", "reserved"},
		"empty":                  {Request{}, "name", "empty"},
		"too long":               {Request{Name: strings.Repeat("a", 64)}, "name", "64 characters"},
		"upper case":             {Request{Name: "Orchard"}, "name", "write it orchard"},
		"not a label":            {Request{Name: "orchard_days"}, "name", "write it orchard-days"},
		"other script":           {Request{Name: "Ærø gård"}, "name", "write it ærø-gård"},
		"leading hyphen":         {Request{Name: "-orchard"}, "name", "not a host label"},
		"domain taken":           {Request{Name: "a", Domain: "fernhollow.localhost"}, "domain", "belongs to the site fernhollow"},
		"domain not a host name": {Request{Name: "a", Domain: "or chard"}, "domain", "not a host name"},
		"domain an address":      {Request{Name: "a", Domain: "127.0.0.1"}, "domain", "not a host name"},
		"domain of the console":  {Request{Name: "a", Domain: "vessik.localhost"}, "domain", "reserved"},
		"folder relative":        {Request{Name: "a", Folder: "here"}, "folder", "absolute"},
		"folder full":            {Request{Name: "a", Folder: "/srv/full"}, "folder", "not empty"},
		"folder inside a site": {Request{Name: "a", Folder: "/srv/vessik/sites/fernhollow/wp-content"}, "folder",
			"overlaps with the folder of the site fernhollow"},
		"folder in the home":    {Request{Name: "a", Folder: "/srv/vessik/run/a"}, "folder", "overlaps with the service's home"},
		"folder holds the home": {Request{Name: "a", Folder: "/srv"}, "folder", "overlaps"},
		"folder unquotable":     {Request{Name: "a", Folder: "/srv/a$b"}, "folder", "characters"},
		"port of a site":        {Request{Name: "a", Port: 21000}, "port", "belongs to the site fernhollow"},
		"port of Vessik":        {Request{Name: "a", Port: 20070}, "port", "used by Vessik"},
		"port of a stranger":    {Request{Name: "a", Port: 5432}, "port", "postgres (process 7)"},
		"port low":              {Request{Name: "a", Port: 80}, "port", "choose one from 1024"},
		"port out of range":     {Request{Name: "a", Port: 70000}, "port", "not a port"},
		"port negative":         {Request{Name: "a", Port: -1}, "port", "not a port"},
		"engine unknown":        {Request{Name: "a", PHP: "php-9.9"}, "php", "choose one of php-8.2"},
		"web unknown":           {Request{Name: "a", Web: "php-8.2"}, "web", "choose one of nginx-1.22"},
		"CMS unknown":           {Request{Name: "a", CMS: "none"}, "cms", "choose one of wordpress"},
		"version unknown":       {Request{Name: "a", CMSVersion: "9"}, "cms_version", "choose one of 6.1"},
		"admin guessed": {Request{Name: "a", Administrator: Administrator{Name: "Admin"}}, "administrator.name",
			"everybody tries first"},
		"mail":           {Request{Name: "a", Administrator: Administrator{Mail: "ines"}}, "administrator.mail", "not a mail address"},
		"password short": {Request{Name: "a", Administrator: Administrator{Password: "fern"}}, "administrator.password", "short of 12"},
		"password dull": {Request{Name: "a", Administrator: Administrator{Password: "aaaaaaaaaaaaaaa"}},
			"administrator.password", "different characters"},
		"password common": {Request{Name: "a", Administrator: Administrator{Password: "password-12345"}},
			"administrator.password", `contains "password"`},
		"password of the name": {Request{Name: "moss-archive", Administrator: Administrator{Password: "moss-archive-2026"}},
			"administrator.password", "contains"},
		"database taken":         {Request{Name: "a", DatabaseName: "FERNHOLLOW"}, "database_name", "belongs to the site fernhollow"},
		"database of the server": {Request{Name: "a", DatabaseName: "mysql"}, "database_name", "belongs to the database server"},
		"database too long":      {Request{Name: "a", DatabaseName: strings.Repeat("a_", 22)}, "database_name", "_ counts twice"},
		"database user taken":    {Request{Name: "a", DatabaseUser: "fernhollow"}, "database_user", "belongs to the site fernhollow"},
		"title with a line":      {Request{Name: "a", Title: "one\ntwo"}, "title", "control characters"},
	} {
		t.Run(name, func(t *testing.T) {
			problems := Check(Complete(c.request, facts()), facts())
			if assert.Len(t, problems, 1) {
				assert.Equal(t, c.field, problems[0].Field)
				assert.Contains(t, problems[0].Message+"; "+problems[0].Remedy, c.says)
			}
		})
	}
}

func TestAllProblemsAreToldAtOnce(t *testing.T) {
	problems := Check(Complete(Request{Name: "a", Port: 80, Administrator: Administrator{Name: "root", Password: "x"}, PHP: "php-1"},
		facts()), facts())
	assert.Len(t, problems, 4)
	assert.Contains(t, problems.Error(), "a: port: 80")
}

// Every host label that is free makes a site without any further word, whatever it is.
func TestAnyFreeLabelIsEnough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?`).Draw(t, "name")
		if name == "fernhollow" || nearest(name) == "" {
			t.Skip()
		}
		s := Complete(Request{Name: name}, facts())
		if problems := Check(s, facts()); len(problems) > 0 {
			t.Fatalf("%s: %s", name, problems)
		}
		if grantLength(s.Database.Name) > 64 {
			t.Fatalf("MariaDB refuses a grant on %s", s.Database.Name)
		}
	})
}

// Whatever is asked for, every problem has a field, a message and a remedy, and a bad name is told once only.
func TestAnyRequestIsJudged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String()
		r := Request{Name: text.Draw(t, "name"), Title: text.Draw(t, "title"), Folder: text.Draw(t, "folder"), Domain: text.Draw(t, "domain"),
			Port: rapid.Int().Draw(t, "port"), Administrator: Administrator{Name: text.Draw(t, "administrator"), Mail: text.Draw(t,
				"mail"), Password: text.Draw(t, "password")}}
		names := 0
		for _, p := range Check(Complete(r, facts()), facts()) {
			if p.Field == "" || p.Message == "" || p.Remedy == "" {
				t.Fatalf("%+v", p)
			}
			if p.Field == "name" {
				names++
			}
		}
		if names > 1 || names == 0 && !label.MatchString(ASCII(r.Name)) {
			t.Fatalf("%d problems with the name %q", names, r.Name)
		}
	})
}

func TestStatesMoveOnlyAsTheyMay(t *testing.T) {
	for _, c := range []struct {
		from, to State
		allowed  bool
	}{{Making, Running, true}, {Running, Stopping, true}, {Stopping, Stopped, true}, {Stopped, Starting, true},
		{Starting, Running, true}, {Failed, Retiring, true},
		{Stopped, Running, false}, {Retiring, Running, false}, {Running, Making, false}, {Running, Running, true}} {
		assert.Equal(t, c.allowed, Move(c.from, c.to) == nil, "%s to %s", c.from, c.to)
	}
}

func TestDomainsAreJudged(t *testing.T) {
	until := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	f := facts()
	f.Sites = append(f.Sites, Site{Name: "moss", Domain: "moss.localhost", Domains: []string{"mosses.test"}, Network: NetworkDomains,
		Forwards: []Forward{{"old-moss.localhost", until}}})
	for domain, words := range map[string]string{"moss.localhost": "belongs to the site moss", "mosses.test": "belongs to the site moss",
		"north.moss.localhost": "lies in the network of the site moss", "old-moss.localhost": "still leads to the site moss",
		"fern.com": ".com is a public ending", "fern.co.uk": ".co.uk is a public ending", "fern.dev": ".dev is a public ending",
		"fern.local": "multicast DNS", "vessik.localhost": "is reserved", "fern": "is not a host name", "127.0.0.1": "is not a host name",
		"fern.test": "", "fern.localhost": "", "fern.example": "", "fern.internal": "", "fern.home.arpa": "", "fern.intra": ""} {
		problems := Check(Complete(Request{Name: "fern", Domain: domain}, f), f)
		if words == "" {
			assert.Empty(t, problems, domain)
		} else if assert.Len(t, problems, 1, domain) {
			assert.Contains(t, problems[0].Message, words)
			assert.Equal(t, "domain", problems[0].Field)
		}
	}
	assert.Empty(t, Check(Complete(Request{Name: "fern", Domain: "fern.dev", ForceDomain: true}, f), f))
	problems := Check(Complete(Request{Name: "fern", Domains: []string{"a.test", "a.test", "moss.localhost"}}, f), f)
	assert.Len(t, problems, 2)
	moss := f.Sites[len(f.Sites)-1]
	assert.True(t, moss.InNetwork("a.b.moss.localhost"))
	assert.False(t, moss.InNetwork("xmoss.localhost"))
	assert.Equal(t, "http://north.moss.localhost:20080/", moss.SubURL("north", Gateway{20080, 20443}))
	moss.Network = NetworkFolders
	assert.Equal(t, "http://moss.localhost/north/", moss.SubURL("north", Gateway{80, 443}))
	assert.Equal(t, "xn--grten-gra.localhost", Complete(Request{Name: "gärten"}, f).Domain)
	assert.Equal(t, "gärten.localhost", Unicode("xn--grten-gra.localhost"))
	assert.Equal(t, "Gärten", Complete(Request{Name: "gärten"}, f).Title)
}

func TestDatabaseNamesGoAroundRenamedSites(t *testing.T) {
	f := facts()
	s := Complete(Request{Name: "apple"}, f)
	s.Name = "pear"
	f.Sites = append(f.Sites, s)
	assert.Equal(t, "apple_2", Complete(Request{Name: "apple"}, f).Database.Name)
	assert.Equal(t, "apple_2", Complete(Request{Name: "apple"}, f).Database.User)
	assert.Equal(t, "pear", Complete(Request{Name: "pear"}, f).Database.Name)
}

func TestChoicesAreJudged(t *testing.T) {
	f := facts()
	cms := first(f.CMSNames)
	f.Touches = map[string][]TouchFact{cms: {{Name: "plain"}, {Name: "permalinks", Value: regexp.MustCompile(`^/.*$`), Example: "/x/"}}}
	f.Languages = func(CMS) ([]string, bool) { return []string{"en", "de_DE"}, true }
	f.Networks = map[string][]string{cms: {NetworkFolders}}
	good := Request{Name: "fern", Touches: []string{"plain", "permalinks=/a/"}, Language: "de_DE", TimeZone: "Europe/Lisbon",
		Network: NetworkFolders, SubSites: []string{"north"}}
	assert.Empty(t, Check(Complete(good, f), f))
	assert.Equal(t, "Europe/Lisbon", Complete(good, f).Settings.PHP["date.timezone"])
	for _, bad := range []struct {
		field string
		r     Request
	}{{"finishing_touches", Request{Touches: []string{"other"}}}, {"finishing_touches", Request{Touches: []string{"plain=x"}}},
		{"finishing_touches", Request{Touches: []string{"permalinks=x"}}}, {"language", Request{Language: "fr_FR"}},
		{"time_zone", Request{TimeZone: "Mars/Crater"}}, {"time_zone", Request{TimeZone: "Local"}}, {"network", Request{Network: NetworkDomains}},
		{"sub_sites", Request{SubSites: []string{"a"}}}, {"sub_sites", Request{Network: NetworkFolders, SubSites: []string{"A b"}}},
		{"sub_sites", Request{Network: NetworkFolders, SubSites: []string{"a", "a"}}}} {
		bad.r.Name = "fern"
		problems := Check(Complete(bad.r, f), f)
		if assert.Len(t, problems, 1, "%+v", bad.r) {
			assert.Equal(t, bad.field, problems[0].Field)
			assert.NotEmpty(t, problems[0].Remedy)
		}
	}
	assert.Equal(t, []string{"a", "b=F j, Y", "c"}, SplitTouches("a,b=F j, Y,,c"))
}

func TestALanguageMayBeSaidInShort(t *testing.T) {
	names := []string{"en_US", "de_AT", "de_DE", "de_DE_formal", "en_CA", "eo", "es_CL", "es_MX", "fr_FR", "pt_BR", "zh_CN", "zh_TW"}
	for asked, wanted := range map[string]string{"de_DE": "de_DE", "de-de": "de_DE", "de": "de_DE", "fr": "fr_FR", "pt": "pt_BR",
		"en": "en_US", "eo": "eo", "de_DE_formal": "de_DE_formal", "es": "", "zh": "", "d": "", "": "", "..": ""} {
		assert.Equal(t, wanted, MatchLanguage(names, asked), asked)
	}
	f := facts()
	f.Languages = func(CMS) ([]string, bool) { return names, true }
	assert.Equal(t, "fr_FR", Complete(Request{Name: "moss", Language: "fr"}, f).Language)
	assert.Equal(t, "es", Complete(Request{Name: "moss", Language: "es"}, f).Language, "and it is refused with the names")
}

func TestWhatIsDrawnOrCopiedBringsItsNetwork(t *testing.T) {
	f := facts()
	f.Networks = map[string][]string{"wordpress": {"folders", "domains"}}
	f.Found = func(o Origin) (Found, string) {
		found := Found{CMS: CMS{"wordpress", "6.1"}}
		if o.From == "valley" {
			found.Network, found.SubSites, found.Newest = "folders", []string{"north"}, true
		}
		return found, ""
	}
	s := Complete(Request{Name: "moss", Stencil: "valley"}, f)
	assert.Equal(t, "folders north true", s.Network+" "+strings.Join(s.SubSites, " ")+" "+fmt.Sprint(s.Origin.Newest))
	for _, r := range []Request{{Stencil: "valley", Network: "domains"}, {Stencil: "valley", SubSites: []string{"south"}},
		{Stencil: "plain", Network: "folders"}, {CopyOf: "plain", Network: "folders", SubSites: []string{"a"}}} {
		r.Name = "moss"
		found := fmt.Sprint(Check(Complete(r, f), f))
		assert.Contains(t, found, "what is drawn or copied is a network already, or is none")
	}
	for _, r := range []Request{{Stencil: "valley", Network: "folders"}, {Stencil: "valley", SubSites: []string{"north"}},
		{Stencil: "plain"}} {
		r.Name = "moss"
		assert.NotContains(t, fmt.Sprint(Check(Complete(r, f), f)), "network")
	}
}

func TestTitlesAreMadeOfNamesInAnyScript(t *testing.T) {
	for name, title := range map[string]string{"orchard-days": "Orchard Days", "ærø-gård": "Ærø Gård", "été": "Été", "東京": "東京", "-": "",
		"2-moss": "2 Moss"} {
		assert.Equal(t, title, titleOf(name), name)
	}
}
