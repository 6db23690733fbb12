package site

import (
	"cmp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var webEngines = []EngineFact{{"nginx-1.22", "1.22.1", 1}, {"nginx-1.26", "1.26.3", 2}, {"nginx-1.18", "1.18.0", 0},
	{"apache-2.4-bookworm", "2.4.71", 1}, {"apache-2.4-trixie", "2.4.71", 2}, {"apache-2.4-bullseye", "2.4.62", 0}}

func TestEnginesAreFoundByAnyPart(t *testing.T) {
	phps := []EngineFact{{ID: "php-8.2"}, {ID: "php-8.4"}, {ID: "php-7.4"}}
	databases := []EngineFact{{ID: "mariadb-10.11", Version: "10.11.19"}, {ID: "mariadb-11.8"}, {ID: "mariadb-10.5", Version: "10.5.29"}}
	for _, each := range []struct {
		engines    []EngineFact
		part, want string
	}{
		{phps, "7.4", "php-7.4"}, {phps, "8", "php-8.4"}, {phps, "php", "php-8.4"}, {phps, "php-8.2", "php-8.2"}, {phps, " PHP-8.2 ", "php-8.2"},
		{phps, "9", ""}, {phps, "", ""},
		{webEngines, "nginx", "nginx-1.26"}, {webEngines, "1.18", "nginx-1.18"}, {webEngines, "apache", "apache-2.4-trixie"},
		{webEngines, "apache-2.4.62", "apache-2.4-bullseye"},
		{webEngines, "apache-2.4.71", "apache-2.4-trixie"}, {webEngines, "bookworm", "apache-2.4-bookworm"},
		{webEngines, "2.4", "apache-2.4-trixie"}, {webEngines, "moss", ""},
		{databases, "10", "mariadb-10.11"}, {databases, "10.5", "mariadb-10.5"}, {databases, "11", "mariadb-11.8"},
		{databases, "10.11.19", "mariadb-10.11"},
	} {
		id, ok := MatchEngine(each.engines, each.part)
		assert.Equal(t, each.want, id, each.part)
		assert.Equal(t, each.want != "", ok, each.part)
	}
}

func TestListsOfEngines(t *testing.T) {
	ids, err := MatchEngines(webEngines, "nginx, apache,1.26")
	require.NoError(t, err)
	assert.Equal(t, []string{"nginx-1.26", "apache-2.4-trixie"}, ids, "each once")
	ids, err = MatchEngines(webEngines, "all")
	require.NoError(t, err)
	assert.Len(t, ids, len(webEngines))
	_, err = MatchEngines(webEngines, "nginx,moss")
	assert.ErrorContains(t, err, `"moss"`)
}

func TestVersionsAreOrderedByTheirNumbers(t *testing.T) {
	assert.Negative(t, CompareVersions("10.5", "10.11"))
	assert.Positive(t, CompareVersions("1.26.3", "1.19.5"))
	assert.Zero(t, CompareVersions("8.4", "php-8.4"))
	assert.Negative(t, CompareVersions("8.4", "8.4.1"))
	assert.Equal(t, "8.2", MajorMinor("php-8.2"))
	assert.Equal(t, "2.4", MajorMinor("2.4.71"))
	assert.Empty(t, MajorMinor("moss"))
	rapid.Check(t, func(t *rapid.T) {
		version := rapid.StringMatching(`\d{1,3}(\.\d{1,3}){0,3}`)
		a, b := version.Draw(t, "a"), version.Draw(t, "b")
		if CompareVersions(a, b) != -CompareVersions(b, a) {
			t.Fatalf("%s and %s", a, b)
		}
	})
}

func TestAnExactIdIsAlwaysThatEngine(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := rapid.SampledFrom(webEngines).Draw(t, "engine")
		if id, ok := MatchEngine(webEngines, e.ID); !ok || id != e.ID {
			t.Fatalf("%s became %s", e.ID, id)
		}
	})
}

func TestTheCMSFollowsThePHP(t *testing.T) {
	f := facts()
	f.Engines["php"] = []EngineFact{{ID: "php-8.2"}, {ID: "php-8.4"}, {ID: "php-9.0"}}
	f.Releases = map[string][]string{"wordpress": {"6.1", "6.8", "5.7"}}
	f.Supports = func(k CMS, php string) bool { return php == "php-8.2" || php == "php-8.4" && k.Version == "6.8" }
	assert.Equal(t, "6.1", Complete(Request{Name: "a"}, f).CMS.Version, "the usual one")
	assert.Equal(t, "6.8", Complete(Request{Name: "a", PHP: "8.4"}, f).CMS.Version, "one that bears it")
	assert.Equal(t, "6.1", Complete(Request{Name: "a", PHP: "9"}, f).CMS.Version, "none does: the usual one")
	assert.Equal(t, "5.7", Complete(Request{Name: "a", PHP: "8.4", CMSVersion: "5.7"}, f).CMS.Version, "as it was asked for")
	s := Complete(Request{Name: "a", Port: 4000}, f)
	assert.True(t, s.PortPinned)
	f.PortRange = [2]int{31000, 31001}
	assert.Equal(t, 31000, Complete(Request{Name: "a"}, f).Port)
	f.PortHolder = func(int) string { return "somebody" }
	assert.Contains(t, Check(Complete(Request{Name: "a"}, f), f).Error(), "no port from 31000 to 31001 is free")
}

func TestSettingsAreJudged(t *testing.T) {
	known, extensions := []string{"memory_limit", "post_max_size"}, []string{"gd", "intl"}
	check := func(s Settings) string { return CheckSettings("moss", s, known, extensions, "/srv/vessik").Error() }
	assert.Empty(t, check(Settings{PHP: map[string]string{"memory_limit": "512M"}, Extensions: map[string]bool{"gd": false},
		HostLines: map[string]string{"nginx": "x;"}, Allow: []string{"/srv/plugin", "/srv/vessik/sites/other/plugin"}, Xdebug: 9003}))
	for _, each := range []struct {
		s    Settings
		want string
	}{
		{Settings{PHP: map[string]string{"memory_limt": "1"}}, "did you mean memory_limit?"},
		{Settings{PHP: map[string]string{"quite.another": "1"}}, "vessik info moss"},
		{Settings{PHP: map[string]string{"memory limit": "1"}}, "is not a directive's name"},
		{Settings{PHP: map[string]string{"open_basedir": "/"}}, "keeps the site in its place"},
		{Settings{PHP: map[string]string{"memory_limit": "1\nauto_prepend_file=/x"}}, "one line without quotes"},
		{Settings{PHP: map[string]string{"memory_limit": `1"`}}, "one line without quotes"},
		{Settings{Extensions: map[string]bool{"moss": true}}, "choose one of gd, intl"},
		{Settings{HostLines: map[string]string{"iis": "x"}}, "is not a web server"},
		{Settings{Allow: []string{"relative"}}, "absolute path"},
		{Settings{Allow: []string{"/srv"}}, "overlaps with the service's home"},
		{Settings{Allow: []string{"/srv/vessik/records"}}, "overlaps with the service's home"},
		{Settings{Allow: []string{"/a;b"}}, "cannot be used"},
		{Settings{Xdebug: 70000}, "say a port"},
		{Settings{Memory: 1}, "choose 128M or more"},
		{Settings{Processes: 3}, "from 32 to 10000"},
		{Settings{Disk: -1}, "are too little"},
		{Settings{Outgoing: "shut"}, "say web, open or closed"},
		{Settings{Reach: []string{"fern.example/press"}}, "names no host"},
		{Settings{Refuse: make([]string, 101)}, "101 entries are more than 100"},
	} {
		assert.Contains(t, check(each.s), each.want)
	}
	both := check(Settings{PHP: map[string]string{"open_basedir": "/", "moss": "1"}, Xdebug: -1})
	for _, part := range []string{"open_basedir", "moss", "-1"} {
		assert.Contains(t, both, part, "all at once")
	}
	assert.Empty(t, CheckSettings("moss", Settings{PHP: map[string]string{"anything": "1"}}, nil, nil, "/srv/vessik"),
		"where the PHP is not here yet, it is asked later")
}

func TestSizesAreReadAsPHPHasThem(t *testing.T) {
	for text, want := range map[string]int64{"256M": 256 << 20, " 1k": 1024, "7": 7, "2G": 2 << 30} {
		bytes, ok := Bytes(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, bytes, text)
	}
	_, ok := Bytes("many")
	assert.False(t, ok)
}

// Each setting is read from the words that say it, is told apart from the usual, and is the same again once it is as usual.
func TestEverySettingIsWholeInItsTable(t *testing.T) {
	examples := map[string]string{"allow": "/srv/a,/srv/b", "rest": "30m", "xdebug": "9003", "processes": "64", "processor": "50%",
		"memory": "1G", "disk": "5G", "outgoing": "closed", "outgoing-allow": "*.fernhollow.example,:8080"}
	for _, each := range Settable {
		var s Settings
		require.NoError(t, s.Set(each.Name, cmp.Or(examples[each.Name], "on")), each.Name)
		assert.Len(t, Settings{}.Differences(s), 1, each.Name)
		assert.NotEmpty(t, each.Words(s))
		assert.Empty(t, CheckSettings("moss", s, nil, nil, "/srv/vessik"), each.Name)
		require.NoError(t, s.Set(each.Name, ""), each.Name)
		assert.True(t, s.Equal(Settings{}), each.Name)
		assert.NotEmpty(t, each.About+each.Form, each.Name)
	}
	assert.Error(t, new(Settings).Set("colour", "green"))
}

func TestSettingsAreToldApartInWords(t *testing.T) {
	before := Settings{PHP: map[string]string{"memory_limit": "256M", "precision": "14"}, Debug: true}
	after := Settings{PHP: map[string]string{"memory_limit": "512M", "post_max_size": "9M"}, Extensions: map[string]bool{"gd": false},
		HostLines: map[string]string{"nginx": "a;\n  b;"}, Allow: []string{"/a", "/b"}, Xdebug: 9003, RestAfter: -1}
	assert.Equal(t, []string{"memory_limit: 256M → 512M", "post_max_size: 9M", "precision: back to usual", "extension gd: off",
		"virtual host, nginx: a; b;", "further folders: /a, /b", "debugging: off", "Xdebug port: 9003", "rest after: 0s"},
		before.Differences(after))
	assert.Empty(t, after.Differences(after))
	assert.True(t, after.Equal(after))
	assert.False(t, after.Equal(before))
	assert.True(t, Settings{}.Equal(Settings{PHP: map[string]string{}}), "nothing is nothing")
	assert.Equal(t, DefaultRest, Settings{}.Rest())
	assert.Zero(t, after.Rest())
	assert.Equal(t, "30s", Settings{RestAfter: 30}.Rest().String())
}

func TestWhatIsDefaultsFillsWhatIsLeftOpen(t *testing.T) {
	d := Defaults{}
	for name, value := range map[string]string{"administrator": "head-keeper", "php": "php-8.2", "cms": "wordpress", "cms_version": "6.1",
		"group": "Gardens", "finishing_touches": "no-samples,,no-comments"} {
		require.True(t, d.Set(name, value), name)
		if name != "finishing_touches" {
			assert.Equal(t, value, d.Get(name))
		}
	}
	assert.False(t, d.Set("colour", "green"))
	assert.Equal(t, "no-samples,no-comments", d.Get("finishing_touches"))
	r := d.Fill(Request{Name: "moss", Administrator: Administrator{Name: "ines"}})
	assert.Equal(t, "ines php-8.2 wordpress 6.1 Gardens", strings.Join([]string{r.Administrator.Name, r.PHP, r.CMS, r.CMSVersion,
		r.Group}, " "))
	assert.Equal(t, []string{"no-samples", "no-comments"}, r.Touches)
	assert.Empty(t, d.Fill(Request{Name: "moss", CMS: "empty"}).CMSVersion, "a version is of its own CMS")
	assert.Empty(t, d.Fill(Request{Name: "moss", Stencil: "fern"}).CMS, "a stencil is what it is")
	assert.NotNil(t, d.Fill(Request{Name: "moss", Touches: []string{}}).Touches)
	assert.Empty(t, d.Fill(Request{Name: "moss", Touches: []string{}}).Touches, "none, and meant so")
	require.True(t, d.Set("administrator", ""))
	assert.Empty(t, d.Get("administrator"))
}

func TestDefaultsAreJudgedByASiteThatWouldBeMade(t *testing.T) {
	f := facts()
	assert.Empty(t, CheckDefaults(Defaults{}, f))
	found := []string{}
	for _, p := range CheckDefaults(Defaults{Administrator: Administrator{Name: "root", Password: "short"}, Ending: "not a host",
		Folder: "here", PHP: "php-9", Outgoing: "shut"}, f) {
		found = append(found, p.Field)
	}
	assert.ElementsMatch(t, []string{"administrator", "domain_ending", "sites_folder", "php", "password", "outgoing"}, found)
}

func TestASiteIsMadeOfWhatIsFound(t *testing.T) {
	f := facts()
	f.Found = func(o Origin) (Found, string) {
		return Found{CMS: map[string]CMS{"fern": {"wordpress", "6.1"}, "/srv/moss": {"archive", "1"}}[o.From],
			Root: map[string]string{"/srv/moss": "public"}[o.From]}, map[string]string{"gone": "there is no stencil \"gone\""}[o.From]
	}
	f.CMSNames = []string{"wordpress", "archive"}
	s := Complete(Request{Name: "moss", Adopt: "/srv/moss", SQL: "/srv/moss.sql", SQLAddress: "https://moss.example/"}, f)
	assert.Equal(t, "/srv/moss /srv/moss/public archive https://moss.example",
		strings.Join([]string{s.Folder, s.DocumentRoot(), s.CMS.Name, s.Origin.Address}, " "))
	assert.Empty(t, Check(s, f))
	for field, r := range map[string]Request{"stencil": {Name: "moss", Stencil: "gone"},
		"sql": {Name: "moss", Stencil: "fern", SQL: "/srv/moss.sql"}, "prefix": {Name: "moss", Prefix: "9;"},
		"finishing_touches": {Name: "moss", Touches: []string{"frosty"}}} {
		problems := Check(Complete(r, f), f)
		require.Len(t, problems, 1, field)
		assert.Equal(t, field, problems[0].Field)
	}
	assert.Equal(t, FromFolder, Complete(Request{Name: "moss", Adopt: "/srv/moss", CMS: "archive"}, f).Origin.Kind, "as it was found")
	known := f
	known.Found = func(Origin) (Found, string) { return Found{CMS: CMS{"wordpress", "6.8.3"}}, "" }
	assert.Equal(t, CMS{"wordpress", "6.8.3"}, Complete(Request{Name: "moss", Archive: "/srv/wp.zip", CMSVersion: "6.1"}, known).CMS,
		"a release in an archive is what it is")
	assert.Equal(t, ArchiveCMS, Complete(Request{Name: "moss", Archive: "/srv/wp.zip", CMS: ArchiveCMS}, known).CMS.Name,
		"where its installer is wanted")
	around := Complete(Request{Name: "moss", Adopt: "/srv/moss", CMS: "wordpress", CMSVersion: "6.1"}, f)
	assert.Equal(t, "repository wordpress 6.1", around.Origin.Kind+" "+around.CMS.Name+" "+around.CMS.Version)
	assert.NotEqual(t, "/srv/moss", around.Folder)
	assert.Equal(t, "it holds wordpress, not empty", Complete(Request{Name: "moss", Stencil: "fern", CMS: "empty"}, f).originFault)
}

func TestACopyHasTheStackAndTheSettingsOfItsSource(t *testing.T) {
	f := facts()
	f.Defaults.PHP = "8.2"
	settings := Settings{PHP: map[string]string{"memory_limit": "300M"}, Debug: true, Memory: 1 << 30}
	f.Found = func(Origin) (Found, string) {
		return Found{CMS: CMS{"wordpress", "6.1"}, Stack: Stack{"php-7.4", "apache-2.4", "mariadb-10.5"}, Settings: settings}, ""
	}
	s := Complete(Request{Name: "moss", CopyOf: "fern", Web: "nginx-1.22", TimeZone: "Europe/Lisbon"}, f)
	assert.Equal(t, Stack{"php-7.4", "nginx-1.22", "mariadb-10.5"}, s.Stack)
	assert.Equal(t, map[string]string{"memory_limit": "300M", "date.timezone": "Europe/Lisbon"}, s.Settings.PHP)
	assert.True(t, s.Settings.Debug && s.Settings.Memory == 1<<30)
	assert.Len(t, settings.PHP, 1, "those of the source stay as they are")
}

func TestWhatIsEasilyGuessedIsTakenWhenItIsSaidAgain(t *testing.T) {
	for words, r := range map[string]Request{"everybody tries first": {Administrator: Administrator{Name: "admin"}},
		"short of 12":          {Administrator: Administrator{Password: "fern-gate"}},
		`contains "secret"`:    {Administrator: Administrator{Password: "my-secret-garden"}},
		"different characters": {Administrator: Administrator{Password: "abababababab"}}} {
		r.Name = "moss"
		problems := Check(Complete(r, facts()), facts())
		require.Len(t, problems, 1, words)
		assert.True(t, problems[0].Weak)
		assert.Contains(t, problems[0].Message, words)
		assert.Contains(t, problems[0].Remedy, "-force-weak")
		r.ForceWeak = true
		assert.Empty(t, Check(Complete(r, facts()), facts()), words)
	}
	for _, password := range []string{"7-signs", " padded-with-spaces ", "bell\a-and-whistle"} {
		problems := Check(Complete(Request{Name: "moss", Administrator: Administrator{Password: password}, ForceWeak: true}, facts()), facts())
		require.Len(t, problems, 1, password)
		assert.False(t, problems[0].Weak)
	}
}
