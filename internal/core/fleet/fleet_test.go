package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/core/yamltext"
)

var engines = map[string][]site.EngineFact{"php": {{ID: "php-8.2"}, {ID: "php-7.4"}}, "web": {{ID: "nginx-1.22"}},
	"database": {{ID: "mariadb-10.11"}}}

func there() []wire.Site {
	s := wire.Site{Name: "fernhollow", Title: "Fernhollow", State: site.Running, Domain: "fernhollow.localhost",
		CMS: wire.TitledCMS{Name: "wordpress", Version: "6.1"}}
	s.Stack.PHP.Engine, s.Stack.Web.Engine, s.Stack.Database.Engine = "php-8.2", "nginx-1.22", "mariadb-10.11"
	return []wire.Site{s}
}

func TestFaultsAreToldWithLineAndColumn(t *testing.T) {
	for text, want := range map[string]string{
		"sites: []\n":                                                     "line 1, column 1: write fleet: 1",
		"fleet: 2\nsites: []\n":                                           "line 1, column 8: write fleet: 1",
		"fleet: 1\nsites:\n  - title: Moss\n":                             "line 3, column",
		"fleet: 1\nsites:\n  - name: moss\n    colour: green\n":           "line 4, column 5: unknown field \"colour\"",
		"fleet: 1\nsites:\n  - name: moss\n  - name: moss\n":              `line 4, column 11: there are two sites "moss"`,
		"fleet: 1\nsites:\n  - name: moss\n    state: asleep\n":           `line 4, column 12: "asleep" is neither`,
		"fleet: 1\nsites:\n  - name: [moss\n":                             "line 3, column",
		"fleet: 1\nsites:\n  - {name: moss, finishing_touches: frosty}\n": "line 3, column",
	} {
		_, _, err := Parse([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	_, _, err := Parse([]byte("fleet: 1\nsites:\n  - name: moss\n    colour: green\n    domains: moss.test\n  - name: fern\n    pph: '8.2'\n" +
		"    title: [Ferns]\n"))
	assert.ErrorContains(t, err, `line 4, column 5: unknown field "colour"`)
	assert.ErrorContains(t, err, "line 5, column 14: ")
	assert.ErrorContains(t, err, `line 7, column 5: unknown field "pph"`)
	assert.ErrorContains(t, err, "line 8, column 12: ")
	var faults yamltext.Faults
	_, _, err = Parse([]byte("fleet: 1\nsites:\n  - {name: moss, state: asleep}\n  - {name: moss, state: awake}\n"))
	require.ErrorAs(t, err, &faults)
	assert.Len(t, faults, 3, "all at once: %v", err)
}

func TestAFormersNamesAreToldWithTodays(t *testing.T) {
	_, _, err := Parse([]byte("fleet: 1\nsites:\n  - name: moss\n    kit: empty\n    admin: ines\n"))
	assert.ErrorContains(t, err, `unknown field "kit"; it is called cms`)
	assert.ErrorContains(t, err, `unknown field "admin"; it is called administrator, with name: below it`)
	_, err = ParseSite([]byte("vessik-site: 1\nname: moss\nkit: empty\n"))
	assert.ErrorContains(t, err, `unknown field "kit"; it is called cms`)
}

func TestWhatAFileSaysOfASiteIsCarriedOutOrRefusedByName(t *testing.T) {
	f, _, err := Parse([]byte("fleet: 1\nsites:\n  - name: fernhollow\n    title: Ferns\n    outgoing: closed\n" +
		"    php_ini: {memory_limit: 512M}\n"))
	require.NoError(t, err)
	steps, problems := Compare(f, there(), engines)
	require.Empty(t, problems)
	require.Len(t, steps, 2)
	assert.Equal(t, "title Fernhollow → Ferns", steps[0].What+" "+steps[0].Words[0])
	assert.Equal(t, []string{"memory_limit = 512M", "outgoing closed"}, steps[1].Words)
	for field, value := range map[string]string{"language": "fr_FR", "time_zone": "Europe/Lisbon", "search_engines": "true",
		"plugins": "[menu]",
		"themes":  "[leaf]", "administrator": "{name: ines}", "stencil": "basics",
		"finishing_touches": "[no-samples]", "network": "folders", "sub_sites": "[north]",
		"cms": "spip", "cms_version": "'5.7'", "php_ini": "{'memory limit': x}",
		"title": `"two\nlines"`} {
		f, read, err := Parse([]byte("fleet: 1\nsites:\n  - name: moss\n  - name: fernhollow\n    " + field + ": " + value + "\n"))
		require.NoError(t, err, field)
		_, problems = Compare(f, there(), engines)
		require.Len(t, problems, 1, field)
		problems = f.Locate(read, problems)
		assert.True(t, problems[0].Field == field || field == "administrator" && problems[0].Field == "administrator.name" || field ==
			"php_ini" && problems[0].Field == "php.memory limit", field)
		assert.Contains(t, []int{4, 5}, problems[0].Line, field)
	}
}

func TestWhatLeadsToTheFile(t *testing.T) {
	f, _, err := Parse([]byte("fleet: 1\nsites:\n  - {name: fernhollow, php: '7.4', web: nginx, group: Gardens, state: stopped}\n  - {name: " +
		"moss, cms: empty, php: '8.2', note: wet, state: stopped}\n"))
	require.NoError(t, err)
	steps, problems := Compare(f, there(), engines)
	require.Empty(t, problems)
	whats := []string{}
	for _, s := range steps {
		whats = append(whats, s.What+" "+s.Site)
	}
	assert.Equal(t, []string{"restack fernhollow", "label fernhollow", "stop fernhollow", "make moss", "label moss", "stop moss"}, whats)
	assert.Equal(t, wire.Restack{PHP: "php-7.4"}, *steps[0].Stack, "what fits already stays")
	assert.Equal(t, "empty", steps[3].Make.CMS)

	f.Sites[0] = Site{Name: "fernhollow", CMS: "empty", PHP: "9.9", Domain: "other.localhost"}
	steps, problems = Compare(f, there(), engines)
	require.Len(t, problems, 2)
	assert.Equal(t, "cms", problems[0].Field)
	assert.Equal(t, "readdress", steps[0].What)
	f.Sites[0] = Site{Name: "fernhollow", Domains: []string{"b.test", "a.test"}}
	steps, problems = Compare(f, there(), engines)
	require.Empty(t, problems)
	assert.Equal(t, []string{"b.test", "a.test"}, steps[0].Domains.Domains)
}

func TestASitesOwnFileSaysAllThatMakesIt(t *testing.T) {
	s := there()[0]
	s.URL, s.Domains, s.Network, s.SubSites, s.Plugins, s.Language = "http://fernhollow.localhost/", []string{"ferns.test"}, "domains",
		[]string{"http://north.fernhollow.localhost/"}, []string{"garden-menu"}, "de_DE"
	s.PHPIni = map[string]string{"memory_limit": "512M"}
	text, err := WriteSite(s, "content.sql.zst")
	require.NoError(t, err)
	f, err := ParseSite(text)
	require.NoError(t, err, string(text))
	assert.Equal(t, []string{"north"}, f.SubSites)
	assert.Equal(t, [3]string{"content.sql.zst", "http://fernhollow.localhost", "512M"}, [3]string{f.SQL, f.Address, f.PHPIni["memory_limit"]})
	r := f.Request()
	assert.Equal(t, []string{"garden-menu"}, r.Plugins)
	assert.Equal(t, "de_DE", r.Language)
	for bad, place := range map[string]string{"name: x\n": "line 1", "vessik-site: 1\n": "the site has no name",
		"vessik-site: 1\nname: x\nsql: ../../etc/passwd\n": "line 3, column 6", "vessik-site: 1\nname: x\nwrong: 1\n": "line 3, column 1",
		"vessik-site: [": "line 1"} {
		_, err := ParseSite([]byte(bad))
		var fault *yamltext.Fault
		require.ErrorAs(t, err, &fault, bad)
		assert.Contains(t, fault.Error(), place)
	}
}

func TestWhatIsWrittenChangesNothing(t *testing.T) {
	text, err := Of(there())
	require.NoError(t, err)
	f, _, err := Parse(text)
	require.NoError(t, err, string(text))
	steps, problems := Compare(f, there(), engines)
	assert.Empty(t, steps)
	assert.Empty(t, problems)
}
