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
)

func read(text string) error {
	_, err := Read(fstest.MapFS{File: {Data: []byte(text)}, "there.php": {Data: []byte("<?php")}})
	return err
}

func TestTheDefinitionsThatComeWithVessikAreRight(t *testing.T) {
	definitions, faults := All("")
	assert.Empty(t, faults)
	assert.Equal(t, "wordpress", definitions.Names()[0])
	for _, name := range []string{"empty", "wordpress"} {
		require.Contains(t, definitions, name)
	}
	from, to := definitions["wordpress"].Range("6.1.9")
	assert.Equal(t, "5.6 8.2", from+" "+to)
	assert.False(t, definitions.Bear(site.CMS{Name: "wordpress", Version: "5.7"}, "php-8.4"))
	assert.True(t, definitions.Bear(site.CMS{Name: "empty", Version: "1"}, "php-8.4"), "nothing is known")
}

func TestADefinitionsFaultsAreToldWithTheirLines(t *testing.T) {
	err := read(`cms: Moss CMS
title: Moss
layout:
  files:
    - path: ../../etc/cron.d/moss
      text: "{{.Nothing}}"
configuration:
  file: config.php
  values:
    - of: colour
      constant: DB
    - of: name
      pattern: 'name=\w+'
install:
  script: gone.php
sign-in:
  address: login
  error: '(unclosed'
administrator:
  hashes: [{version: "0", scheme: rot13}]
finishing-touches:
  - name: fine
    php: echo 1;
  - name: fine
    sql: ['DELETE FROM {{.Prefix']
web:
  front: /index.php; evil
  no-php: ['/up;loads/']
`)
	var faults Faults
	require.ErrorAs(t, err, &faults)
	told := faults.Error()
	for _, line := range []string{
		`line 1, cms: "Moss CMS" is not a definition's name`,
		`line 5, layout.files[0].path: "../../etc/cron.d/moss" does not lie inside the site's folder`,
		`line 6, layout.files[0].text:`,
		`line 10, configuration.values[0].of: "colour" is none of`, `line 13, configuration.values[1].pattern: has no group`,
		`line 15, install.script: there is no gone.php beside cms.yaml`,
		`line 18, sign-in.error:`, `sign-in.user: is empty`, `line 20, administrator.hashes[0].scheme: "rot13" is none of phpass`,
		`line 23, finishing-touches[0].php: needs the definition's load script`,
		`line 24, finishing-touches[1].name: "fine" is not a name of its own`, `line 25, finishing-touches[1].sql[0]:`, `line 27, web.front:`,
		`is not an address prefix`,
	} {
		assert.Contains(t, told, line)
	}
	require.ErrorAs(t, read("cms: moss\ntitle: Moss\ncolour: green\n"), &faults)
	assert.Equal(t, 3, faults[0].Line, "%v", faults)
	assert.Contains(t, faults[0].Message, "colour")
	require.ErrorAs(t, read("cms: moss\n  title: [\n"), &faults)
	assert.NotZero(t, faults[0].Line)
	assert.NoError(t, read("cms: moss\ntitle: Moss\ninstall: {script: there.php}\n"))
}

func TestADefinitionOfTheUsersOwn(t *testing.T) {
	dir := t.TempDir()
	before := State(dir)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "moss"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "frost"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "moss", File),
		[]byte("cms: moss\ntitle: Moss\nversion: '2'\nrecognise: {file: moss.php, version: 'MOSS (\\d+)'}\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "frost", File), []byte("cms: frost\n"), 0o644))
	definitions, faults := All(dir)
	assert.Equal(t, filepath.Join(dir, "moss"), definitions["moss"].From)
	assert.ErrorContains(t, faults[filepath.Join(dir, "frost")], "title: is empty")
	assert.NotEqual(t, before, State(dir))

	folder := t.TempDir()
	k, _ := definitions.Recognised(folder)
	assert.Nil(t, k)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "moss.php"), []byte("<?php // MOSS 3"), 0o644))
	k, version := definitions.Recognised(folder)
	assert.Equal(t, "moss 3", k.Name+" "+version)
}

func TestPrefixes(t *testing.T) {
	for in, out := range map[string]string{
		"CREATE TABLE `wp_posts` (a INT COMMENT 'wp_x')": "CREATE TABLE `k3_posts` (a INT COMMENT 'wp_x')",
		"INSERT INTO `wp_posts` VALUES ('`wp_posts')":    "INSERT INTO `k3_posts` VALUES ('`wp_posts')",
		"INSERT INTO `other` VALUES (1)":                 "INSERT INTO `other` VALUES (1)",
		"SET NAMES utf8mb4":                              "SET NAMES utf8mb4",
	} {
		assert.Equal(t, out, Reprefix(in, "wp_", "k3_"))
	}
	seen := map[string]bool{}
	for range 50 {
		p := Prefix()
		assert.Regexp(t, `^[a-z][a-z0-9]{3}_$`, p)
		seen[p] = true
	}
	assert.Greater(t, len(seen), 40)
	statements := bundled("wordpress").prefixColumns("wp_", "k3_")
	statements = append(statements, bundled("wordpress").prefixColumns("wp_", "k3_", "2_")...)
	assert.Contains(t, statements, "UPDATE `k3_options` SET `option_name`='k3_user_roles' WHERE `option_name`='wp_user_roles'")
	assert.Contains(t, statements, "UPDATE `k3_2_options` SET `option_name`='k3_2_user_roles' WHERE `option_name`='wp_2_user_roles'")
	assert.Contains(t, strings.Join(statements, "\n"),
		"UPDATE `k3_usermeta` SET `meta_key`=CONCAT('k3_', SUBSTRING(`meta_key`, 4)) WHERE LEFT(`meta_key`, 3)='wp_'")
}

func TestASecretIsNeitherSavedNorShared(t *testing.T) {
	k, folder := bundled("wordpress"), t.TempDir()
	path := filepath.Join(folder, "wp-config.php")
	require.NoError(t, os.WriteFile(path, []byte(configuration("garden-gate-77")+"define( 'MY_OWN', 'kept' );\n"), 0o600))
	blank, err := k.Blank(folder)
	require.NoError(t, err)
	for _, gone := range []string{"garden-gate-77", "'d'", "'u'", "127.0.0.1:22000"} {
		assert.NotContains(t, string(blank), gone)
	}
	assert.Contains(t, string(blank), "define( 'AUTH_KEY', '' );")
	assert.Contains(t, string(blank), "$table_prefix = 'wp_';")
	assert.Contains(t, string(blank), "'MY_OWN', 'kept'")
	drawn := map[string]bool{}
	for range 2 {
		require.NoError(t, os.WriteFile(path, blank, 0o600))
		require.NoError(t, k.DrawConfiguration(folder, Facts{Database: site.Database{Name: "n", User: "u", Password: "p"}, Port: 22001,
			Prefix: "k3xw_", URL: "http://n.localhost"}))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Contains(t, string(text), "$table_prefix = 'k3xw_';")
		assert.Contains(t, string(text), "'MY_OWN', 'kept'")
		assert.NotContains(t, string(text), "KEY', '' )")
		drawn[string(text)] = true
	}
	assert.Len(t, drawn, 2, "fresh secrets each time")
}

func TestADumpTellsItsAddressAndPrefix(t *testing.T) {
	k := bundled("wordpress")
	said, err := k.Dumped(strings.NewReader("CREATE TABLE `moss_commentmeta` (a INT);\nCREATE TABLE `moss_options` (a INT);\n" +
		"INSERT INTO `moss_options` VALUES (1,'siteurl','https://moss.example/','yes'),(2,'home','https://other.example','yes');\n"))
	require.NoError(t, err)
	assert.Equal(t, DumpSaid{"https://moss.example", "moss_"}, said)
	said, err = k.Dumped(strings.NewReader("CREATE TABLE x (a INT);"))
	require.NoError(t, err)
	assert.Empty(t, said)
	_, err = k.Dumped(strings.NewReader("INSERT INTO x VALUES ('unended"))
	assert.ErrorContains(t, err, "ends inside a string")
}
