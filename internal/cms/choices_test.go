package cms

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/safefile"
)

func lay(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
}

func TestOwnTouchesAreReadFromTheirFolder(t *testing.T) {
	dir := t.TempDir()
	lay(t, dir, map[string]string{"b.sql": "-- Sets a motto\nUPDATE `{{.Prefix}}options` SET a={{sql .Value}}",
		"a.php": "<?php // Plants a tree\necho 1;", "c.sh": "#!/bin/sh\n# Waters it\necho", "notes.txt": "none", ".hidden": ""})
	own := OwnTouches(dir)
	require.Len(t, own, 3)
	assert.Equal(t, [3]string{"a.php", "b.sql", "c.sh"}, [3]string{own[0].Name, own[1].Name, own[2].Name})
	assert.Equal(t, [3]string{"Plants a tree", "Sets a motto", "Waters it"}, [3]string{own[0].About, own[1].About, own[2].About})
	assert.NotContains(t, own[0].PHP, "<?php")
	written, err := fill(own[1].SQL[0], Facts{Prefix: "k3_", Value: "it's"})
	require.NoError(t, err)
	assert.Contains(t, written, "UPDATE `k3_options` SET a='it\\'s'")
	_, err = fill("{{.Nothing}}", Facts{})
	assert.Error(t, err)
	assert.Empty(t, OwnTouches(filepath.Join(dir, "gone")))
	assert.ErrorContains(t, Toucher{Definition: &Definition{}}.Apply(t.Context(), "unknown=1"), "there is no finishing touch unknown")
}

func TestWhatAScriptSaidIsToldShortly(t *testing.T) {
	assert.EqualError(t, said(nil, nil), "it ended before its last line, as by exit: it printed nothing")
	assert.EqualError(t, said(os.ErrClosed, []byte("<!DOCTYPE html><html><head><title>E</title><style>a{b:c}</style></head><body>"+
		"<p>No\n more&nbsp;room</p></body>")), "file already closed: No more room")
	long := said(os.ErrDeadlineExceeded, []byte(strings.Repeat("é", 2000)+"the end")).Error()
	assert.Less(t, len(long), 1700)
	assert.True(t, strings.HasSuffix(long, "the end"))
	assert.True(t, strings.HasPrefix(long, "i/o timeout: … "))
}

func TestATouchesValueIsJudgedWhole(t *testing.T) {
	for _, touch := range bundled("wordpress").Touches {
		fact := touch.Facts()
		if touch.Value.Pattern == "" {
			assert.Nil(t, fact.Value, touch.Name)
			continue
		}
		assert.True(t, fact.Value.MatchString(fact.Example), "%s: its own example", touch.Name)
		assert.False(t, fact.Value.MatchString(""), touch.Name)
	}
}

func TestLanguagesAreReadFromTheirFiles(t *testing.T) {
	dir := t.TempDir()
	pack := filepath.Join(dir, "pack")
	wordpress := bundled("wordpress")
	for _, name := range []string{"de_DE.mo", "admin-de_DE.mo", "admin-network-de_DE.mo", "continents-cities-de_DE.mo",
		"de_DE-0123456789abcdef0123456789abcdef.json", "fr_FR.mo", "ca.mo", "index.php", "README"} {
		lay(t, filepath.Join(pack, wordpress.Languages.Pack), map[string]string{name: name})
	}
	assert.Equal(t, []string{"en_US", "ca", "de_DE", "fr_FR"}, wordpress.LanguagesIn(filepath.Join(pack, wordpress.Languages.Pack)))
	site := filepath.Join(dir, "site")
	require.NoError(t, os.Mkdir(site, 0o755))
	require.NoError(t, wordpress.LayLanguage(pack, site, "de_DE"))
	require.NoError(t, wordpress.LayLanguage(pack, site, "de_DE"), "it may be there")
	laid, err := os.ReadDir(filepath.Join(site, "wp-content/languages"))
	require.NoError(t, err)
	assert.Len(t, laid, 5)
	assert.Error(t, wordpress.LayLanguage(filepath.Join(dir, "gone"), site, "de_DE"))
	assert.Equal(t, "languages-wordpress-6.1", wordpress.LanguagePack("6.1"))
	spip := bundled("spip")
	lay(t, filepath.Join(dir, "lang"), map[string]string{"spip_fr.php": "", "spip_pt_br.php": "", "ecrire_fr.php": "", "spip.xml": ""})
	assert.Equal(t, []string{"en", "fr", "pt_br"}, spip.LanguagesIn(filepath.Join(dir, "lang")))
	assert.Empty(t, spip.LanguagePack("4.4"))
	assert.Len(t, wordpress.localised(Facts{Language: "de_DE", TimeZone: "Europe/Lisbon"}), 2)
	assert.Empty(t, wordpress.localised(Facts{}))
}

func TestPluginsAndThemesSayWhatTheyAre(t *testing.T) {
	parts := bundled("wordpress").Parts
	require.Len(t, parts, 2)
	plugin, theme := parts[0], parts[1]
	assert.True(t, plugin.Matches("garden-menu/menu.php"))
	for _, other := range []string{"menu.php", "garden-menu/inc/menu.php", "garden-menu/menu.css"} {
		assert.False(t, plugin.Matches(other), other)
	}
	for text, wanted := range map[string][2]string{
		"<?php\n/*\nPlugin Name: Garden Menu\nVersion: 1.2.3-beta\n*/":         {"Garden Menu", "1.2.3-beta"},
		"<?php\r\n/**\r\n * Plugin Name:  Garden Menu \r\n * Version: 1.2\r\n": {"Garden Menu", "1.2"},
		"<?php /* Plugin Name: One line */":                                    {"One line", ""},
		"<?php echo 'Plugin without a head';":                                  {"", ""},
	} {
		title, version := plugin.Read(text)
		assert.Equal(t, wanted, [2]string{title, version}, "%q", text)
	}
	assert.True(t, theme.Matches("valley/style.css"))
	title, version := theme.Read("/*\nTheme Name: Valley\nVersion: 0.3\n*/")
	assert.Equal(t, "Valley 0.3", title+" "+version)
}

func TestCachesAreEmptiedAndWhatKeepsThemPrivateStays(t *testing.T) {
	folder, spip := t.TempDir(), bundled("spip")
	lay(t, folder, map[string]string{"tmp/cache/a.php": "old", "local/b.css": "old", "IMG/logo.png": "kept"})
	require.NoError(t, spip.ClearCaches(folder))
	assert.NoFileExists(t, filepath.Join(folder, "tmp/cache/a.php"))
	assert.FileExists(t, filepath.Join(folder, "tmp/.htaccess"))
	assert.DirExists(t, filepath.Join(folder, "local"))
	assert.FileExists(t, filepath.Join(folder, "IMG/logo.png"))
	_, err := safefile.Copy(t.Context(), folder, filepath.Join(t.TempDir(), "copy"), spip.Layout.Caches...)
	require.NoError(t, err)
}

func TestAPasswordWithAPepperIsRecognised(t *testing.T) {
	folder, spip := t.TempDir(), bundled("spip")
	lay(t, folder, map[string]string{"config/cles.php": `<?php die ('no'); ?>` + "\n" +
		`{"secret_du_site":"x","secret_des_auth":"Z2FyZGVu\/+8="}`})
	peppered := spip.peppered(folder, "ferns")
	assert.Len(t, peppered, 64)
	assert.NotEqual(t, peppered, spip.peppered(folder, "moss"))
	assert.True(t, passwordMatches(peppered, hashWith("bcrypt", peppered)))
	assert.Empty(t, spip.peppered(t.TempDir(), "ferns"))
	assert.Empty(t, bundled("wordpress").peppered(folder, "ferns"))
	assert.Equal(t, "ferns", spip.HashOf("4.4", "ferns"), "the definition's own SQL makes the hash")
}

func TestAConfigurationOfPositionsIsReadAndChanged(t *testing.T) {
	folder, spip := t.TempDir(), bundled("spip")
	facts := Facts{Site: site.Site{Folder: folder}, Host: "127.0.0.1", Port: 22001, Prefix: "k3xw_", URL: "http://fern.localhost:20080",
		Database: site.Database{Name: "ferns", User: "fern", Password: `it's`}}
	require.NoError(t, spip.Configure(facts))
	values, err := spip.Values(folder)
	require.NoError(t, err)
	assert.Equal(t, [4]string{"127.0.0.1", "22001", "ferns", "k3xw_"},
		[4]string{values["host"], values["port"], values["name"], values["prefix"]})
	assert.Equal(t, "it's", values["password"])
	facts.Prefix, facts.Database.Name, facts.Port, facts.Database.Password = "m2ab_", "mosses", 22002, `o'hara\`
	require.NoError(t, spip.DrawConfiguration(folder, facts))
	values, err = spip.Values(folder)
	require.NoError(t, err)
	assert.Equal(t, [4]string{"mosses", "22002", "m2ab_", `o'hara\`},
		[4]string{values["name"], values["port"], values["prefix"], values["password"]})
	blank, err := spip.Blank(folder)
	require.NoError(t, err)
	assert.NotContains(t, string(blank), "hara")
	assert.Equal(t, "fern.localhost:20080", facts.HostPort())
	require.NoError(t, spip.Redomain(folder, facts), "it names no domain")
}

func TestANetworksConfigurationFollowsItsDomain(t *testing.T) {
	folder, wordpress := t.TempDir(), bundled("wordpress")
	facts := Facts{Site: site.Site{Folder: folder}, Host: "127.0.0.1", Port: 22001, Prefix: "k3_", URL: "http://fern.localhost:20080",
		Network: site.NetworkDomains, Database: site.Database{Name: "n", User: "u", Password: "p"}}
	require.NoError(t, wordpress.Configure(facts))
	text := func() string {
		read, err := os.ReadFile(filepath.Join(folder, "wp-config.php"))
		require.NoError(t, err)
		return string(read)
	}
	assert.Contains(t, text(), "define( 'DOMAIN_CURRENT_SITE', 'fern.localhost:20080' );")
	assert.Contains(t, text(), "define( 'SUBDOMAIN_INSTALL', true );")
	facts.URL = "http://moss.test"
	require.NoError(t, wordpress.Redomain(folder, facts))
	assert.Contains(t, text(), "define( 'DOMAIN_CURRENT_SITE', 'moss.test' );")
	facts.Network = ""
	require.NoError(t, wordpress.Configure(facts))
	assert.NotContains(t, text(), "MULTISITE")
	for statement, number := range map[string]string{"CREATE TABLE `k3_2_options` (": "2_", "CREATE TABLE `k3_options` (": "",
		"CREATE TABLE `k3_12_posts` (": "", "INSERT INTO `k3_2_options` VALUES": "", "CREATE TABLE `x_2_options` (": ""} {
		assert.Equal(t, number, wordpress.numberOf(statement, "k3_"), statement)
	}
	facts.Network = site.NetworkFolders
	require.NoError(t, wordpress.layFileWith(folder, wordpress.Network.Files[0], facts))
	rules, err := os.ReadFile(filepath.Join(folder, ".htaccess"))
	require.NoError(t, err)
	assert.Contains(t, string(rules), "RewriteRule ^([_0-9a-zA-Z-]+/)?(.*\\.php)$ $2 [L]")
}

func TestFaultsOfNetworksPartsAndValuesAreTold(t *testing.T) {
	_, err := Read(fstest.MapFS{File: {Data: []byte(`cms: moss
title: Moss
layout: {also: [{from: /etc, to: x}], caches: [../tmp], script: gone.php}
network: {modes: [planets], shared: 'a b', directories: ['wp']}
parts: [{kind: engine, file: '(', title: 'no group', version: '(.)', into: ../x, activate: x}]
finishing-touches: [{name: fine, sql: [a], value: {pattern: '('}}, {name: other, sql: [a], value: {pattern: 'x'}}]
languages: {files: '(', folder: /x}
upgrade: x
`)}})
	require.Error(t, err)
	for _, entry := range []string{"layout.also[0].from", "layout.caches[0]", "layout.script", "network.modes[0]", "network.shared",
		"network.directories[0]", "parts[0].kind", "parts[0].file", "parts[0].title", "parts[0].into", "parts[0].activate",
		"finishing-touches[0].value.pattern", "finishing-touches[1].value", "languages.files", "languages.folder", "upgrade"} {
		assert.Contains(t, err.Error(), entry+":")
	}
}

func TestOnlyTheLoginsOwnFormIsFilled(t *testing.T) {
	page := `<form id="lang"><input name="action" value="converse"></form>` +
		`<form id='login'><input type='password' name='password'><input name="token" value="x"></form>`
	assert.NotContains(t, formWith(page, "password"), "converse")
	assert.Contains(t, formWith(page, "password"), "token")
	assert.Equal(t, page, formWith(page, "elsewhere"))
}
