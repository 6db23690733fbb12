package test

import (
	"context"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

// anybody is a browser of its own, with cookies, which follows redirects; every name leads to this machine.
func anybody(t testing.TB) *http.Client {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &http.Client{Jar: jar, Timeout: 60 * time.Second, Transport: browser.Transport}
}

func TestASiteWithoutACMS(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "glasshouse-journal", CMS: "empty", Title: "Seeds & <Swaps>"},
		client.Request{Name: "volunteer-desk", CMS: "empty", PHP: "7.4", Web: "apache", Database: "10.5"}))
	defer s.retire(t, "glasshouse-journal", "volunteer-desk")
	for name, version := range map[string]string{"glasshouse-journal": "11.8", "volunteer-desk": "10.5"} {
		made := s.site(t, name)
		assert.Equal(t, filepath.Join(made.Folder, "public"), made.DocumentRoot)
		status, text, _ := get(t, made.URL)
		assert.Equal(t, 200, status)
		assert.Contains(t, text, "answers: "+version, name)
		for _, path := range []string{"settings.php", "../settings.php", "%2e%2e/settings.php"} {
			_, text, _ = get(t, made.URL+path)
			assert.NotContains(t, text, made.Database.Password, "%s%s", made.URL, path)
		}
	}
	watched := s.restack(t, "volunteer-desk", client.Restack{PHP: "8.2", Web: "nginx", Database: "10.11"})
	assert.Equal(t, "done", string(watched.State), "%+v", watched.Sites)
	_, text, _ := get(t, s.site(t, "volunteer-desk").URL)
	assert.Contains(t, text, "answers: 10.11", "its configuration was pointed to the new server")
	out, errs, code := s.cli("users", "glasshouse-journal")
	assert.Equal(t, 2, code, out)
	assert.Contains(t, errs, "its definition does not say how")
	out, errs, code = s.cli("site", "glasshouse-journal")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "Empty PHP site 1")
	assert.NotContains(t, out, "administrator", "it has none")
	_, errs, code = s.cli("ticket", "glasshouse-journal")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing is known of signing in")
}

func TestATicketSignsInOnce(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Web: "apache-2.4-bookworm"}))
	defer s.retire(t, "orchard-days")
	made := s.site(t, "orchard-days")
	out, errs, code := run(t, "run", "orchard-days", "-home", s.home, "--", "php", "-r",
		`require 'wp-load.php'; echo wp_insert_user(['user_login' => 'tobias', 'user_pass' => wp_generate_password(),
'user_email' => 'tobias@fernhollow.example', 'role' => 'editor']);`)
	require.Zero(t, code, out+errs)
	for _, name := range []string{"fernhollow", "orchard-days"} { // on nginx and on Apache
		drawn, err := s.Ticket(context.Background(), name, "")
		require.NoError(t, err)
		assert.Equal(t, s.site(t, name).Administrator.Name, drawn.User)
		assert.WithinDuration(t, time.Now().Add(time.Minute), drawn.ExpiresAt, 5*time.Second)
		other := map[string]string{"fernhollow": "orchard-days", "orchard-days": "fernhollow"}[name]
		elsewhere, err := s.Ticket(context.Background(), name, "")
		require.NoError(t, err)
		wrong := strings.Replace(elsewhere.URL, "//"+name, "//"+other, 1)
		status, _, answer := get(t, wrong)
		assert.Equal(t, 403, status, "on another site")
		assert.Empty(t, answer.Values("Set-Cookie"))
		status, _, _ = get(t, elsewhere.URL)
		assert.Equal(t, 403, status, "whoever showed it there has used it up")

		visitor := anybody(t)
		response, err := visitor.Get(drawn.URL)
		require.NoError(t, err)
		text := readAll(t, response)
		assert.Equal(t, 200, response.StatusCode)
		assert.Equal(t, "/wp-admin/", response.Request.URL.Path)
		assert.Contains(t, text, `id="wpadminbar"`)
		status, _, answer = get(t, drawn.URL)
		assert.Equal(t, 403, status, "used")
		assert.Empty(t, answer.Values("Set-Cookie"))
	}
	drawn, err := s.Ticket(context.Background(), "orchard-days", "tobias")
	require.NoError(t, err)
	visitor := anybody(t)
	response, err := visitor.Get(drawn.URL)
	require.NoError(t, err)
	assert.Contains(t, readAll(t, response), "tobias")
	response, err = visitor.Get(made.URL + "wp-admin/users.php")
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, 403, response.StatusCode, "an editor stays one")

	request, err := http.NewRequest("GET", made.URL, nil)
	require.NoError(t, err)
	request.Header.Set("X-Vessik-Ticket", "aGVhZC1rZWVwZXI=")
	request.Header.Set("X-Vessik-Probe", "guessed")
	response, err = browser.Do(request)
	require.NoError(t, err)
	response.Body.Close()
	assert.Empty(t, response.Header.Values("Set-Cookie"), "the headers alone do nothing")
	_, errs, code = s.cli("ticket", "orchard-days", "-as", "nobody")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `-as: there is no user "nobody"; choose one of orchard-days-keeper, tobias`)
	found, err := filepath.Glob(filepath.Join(made.Folder, "*icket*"))
	require.NoError(t, err)
	assert.Empty(t, found)
}

func TestUsersAndTheirPasswords(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMSVersion: "6.8", PHP: "8.4"}))
	defer s.retire(t, "orchard-days")
	out, errs, code := s.cli("users", "orchard-days")
	require.Zero(t, code, errs)
	assert.Regexp(t, `orchard-days-keeper +orchard-days-keeper +keeper@orchard-days.example +administrator`, out)
	_, errs, code = s.cli("users", "orchard-days", "-set-password", "orchard-days-keeper", "-password", "short")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "characters short of 12")
	before := s.secrets(t, "orchard-days").Administrator.Password
	out, errs, code = s.cli("users", "orchard-days", "-set-password", "orchard-days-keeper")
	require.Zero(t, code, errs)
	after := s.secrets(t, "orchard-days").Administrator.Password
	assert.NotEqual(t, before, after)
	assert.Contains(t, out, after)
	watched := s.do(t, plan.Verify, "orchard-days")
	requirePassed(t, watched)
	assert.Equal(t, "pass", string(watched.Sites[0].Report.Result("sign-in").Verdict), "signed in with the new one")
}

func TestDefinitionsOfTheUsersOwn(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	folder := filepath.Join(s.home, "cms", "moss")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	file := filepath.Join(folder, "cms.yaml")
	require.NoError(t, os.WriteFile(file, []byte("cms: moss\ntitle: Moss Pages\nversion: '2'\nweb: {front: oops}\n"), 0o644))
	out, _, code := run(t, "cms", "check", folder)
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "line 4, web.front:")
	out, errs, code := s.cli("cms")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "left out: "+folder)
	require.NoError(t, os.WriteFile(file, []byte(`cms: moss
title: Moss Pages
about: Made by hand
version: '2'
layout:
  document-root: htdocs
  files:
    - path: htdocs/index.php
      text: |
        <?php $s = require '../config.php'; $d = new mysqli(...$s['database']);
        ?><title><?= $d->query('SELECT name FROM moss_names')->fetch_row()[0] ?></title>
    - {path: htdocs/private/notes.txt, text: "not to be read"}
configuration:
  file: config.php
  text: |
    <?php return ['database' => [{{php .Host}}, {{php .Database.User}}, {{php .Database.Password}}, {{php .Database.Name}}, {{.Port}}]];
install: {script: install.php}
content:
  title: SELECT name FROM moss_names
  set-title: ["UPDATE moss_names SET name={{sql .Title}}"]
web: {not-served: [/private/]}
checks:
  - {about: its notes are private, address: private/notes.txt, status: [403, 404]}
  - {about: its names are told, address: "?names", status: [200], text: "<title>"}
finishing-touches:
  - {name: frosty, about: All words in white, sql: ["UPDATE moss_names SET name=CONCAT('Frosty ', name)"]}
`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "install.php"),
		[]byte(`<?php [, $folder] = $argv; $s = require $folder . '/config.php'; $d = new mysqli(...$s['database']);
$d->query('CREATE TABLE moss_names (name VARCHAR(99))'); $d->query("INSERT INTO moss_names VALUES ('as installed')");
if (@file_get_contents('/etc/passwd')) echo 'not confined'; exit(0);`), 0o644))
	out, errs, code = run(t, "cms", "check", folder)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "is right: Moss Pages, 1 finishing touches")
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "moss", Title: "It's Moss", Web: "apache"},
		client.Request{Name: "fernhollow", CMS: "moss"}))
	_, text, _ := get(t, s.site(t, "moss-archive").URL)
	assert.Equal(t, "<title>It's Moss</title>", strings.TrimSpace(text))
	for _, name := range []string{"moss-archive", "fernhollow"} {
		status, _, _ := get(t, s.site(t, name).URL+"private/notes.txt")
		assert.Equal(t, 404, status)
	}
	written, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(written), `status: [200], text: "<title>"`,
		`status: [200], text: "<h1>"`, 1)), 0o644))
	watched := s.do(t, plan.Verify, "fernhollow")
	assert.Contains(t, watched.Sites[0].Report.Result("front-page").Observed, `its names are told: ?names answers without "<h1>"`)
	s.do(t, plan.Stop, "moss-archive", "fernhollow") // and restart without the CMS
	require.NoError(t, os.RemoveAll(folder))
	_, errs, code = s.cli("new", "orchard-days", "-cms", "moss")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `there is no CMS "moss"; choose one of empty, spip, wordpress`)
	s.retire(t, "moss-archive", "fernhollow")
}

func TestDefaultsHoldForNewSites(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	out, errs, code := s.cli("defaults")
	require.Zero(t, code, errs)
	assert.Regexp(t, `php +\(php-8.4\) +built in`, out)
	_, errs, code = s.cli("defaults", "administrator=root", "php=9.9", "colour=green", "password=secret")
	assert.Equal(t, 2, code)
	for _, part := range []string{"-administrator: \"root\" is what everybody tries first", "-php: no php engine fits \"9.9\"",
		"-colour: is no default", "-password"} {
		assert.Contains(t, errs, part)
	}
	assert.NoFileExists(t, filepath.Join(s.home, "vessik.yaml"), "nothing was changed")
	out, errs, code = s.cli("defaults", "administrator=head-keeper", "php=7.4", "cms=empty", "group=Gardens")
	require.Zero(t, code, errs)
	assert.Regexp(t, `administrator +head-keeper +vessik.yaml`, out)
	derived, err := s.PreviewSites(context.Background(), client.Request{Name: "moss"},
		client.Request{Name: "fern", PHP: "8.2", CMS: "wordpress", Administrator: site.Administrator{Name: "ines"}})
	require.NoError(t, err)
	assert.Equal(t, "head-keeper php-7.4 empty Gardens",
		strings.Join([]string{derived.Sites[0].Administrator.Name, derived.Sites[0].Stack.PHP.Engine, derived.Sites[0].CMS.Name,
			derived.Sites[0].Group},
			" "))
	assert.Equal(t, "ines php-8.2 wordpress", strings.Join([]string{derived.Sites[1].Administrator.Name, derived.Sites[1].Stack.PHP.Engine,
		derived.Sites[1].CMS.Name}, " "))
	file := filepath.Join(s.home, "vessik.yaml")
	require.NoError(t, os.WriteFile(file, []byte("administrator: {name: head-keeper}\ncolour: green\n"), 0o644))
	out, _, _ = s.cli("defaults")
	assert.Contains(t, out, "warning: ")
	assert.Contains(t, out, "colour")

	require.NoError(t, os.WriteFile(file, []byte("cms: empty\n"), 0o644))
	requirePassed(t, s.made(t, client.Request{Name: "moss"}, client.Request{Name: "fern"}))
	_, errs, code = s.cli("label", "moss", "fern", "-group", "Open days", "-pin", "on")
	require.Zero(t, code, errs)
	out, errs, code = s.cli("label", "moss", "-note", "stays on old engines", "-pin", "off")
	require.Zero(t, code, errs)
	assert.Regexp(t, `moss +Open days +stays on old engines`, out)
	assert.True(t, s.site(t, "fern").Pinned)
	_, _, code = s.cli("label", "frost", "-group", "x")
	assert.Equal(t, 2, code)
}

func TestTheFleetFile(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	file := filepath.Join(t.TempDir(), "fleet.yaml")
	require.NoError(t, os.WriteFile(file, []byte("fleet: 1\nsites:\n  - {name: fernhollow, title: Fernhollow, group: Gardens}\n  - {name: "+
		"moss-archive, cms: empty, php: '7.4', state: stopped}\n  - {name: seed-exchange, cms: empty, web: apache}\n"), 0o644))
	out, errs, code := s.cli("fleet", "compare", file)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "make      moss-archive  cms empty, php 7.4")
	sites, err := s.Sites(context.Background(), false)
	require.NoError(t, err)
	assert.Empty(t, sites, "it only shows")

	// Applied, and killed half-way: the next service makes it whole.
	command := exec.Command(program, "fleet", "match", file, "-home", s.home)
	require.NoError(t, command.Start())
	require.Eventually(t, func() bool { sites, _ := s.Sites(context.Background(), false); return len(sites) == 3 }, 20*time.Second,
		time.Millisecond)
	s.kill()
	command.Wait()
	s = start(t, s.home)
	require.Eventually(t, func() bool {
		operations, err := s.Operations(context.Background(), 50)
		return err == nil && !slices.ContainsFunc(operations, func(o client.Operation) bool { return o.State == plan.OperationRunning })
	}, time.Minute, 50*time.Millisecond)
	assert.Equal(t, "running stopped running", strings.Join([]string{string(s.site(t, "fernhollow").State),
		string(s.site(t, "moss-archive").State), string(s.site(t, "seed-exchange").State)}, " "))
	assert.Equal(t, "php-7.4", s.site(t, "moss-archive").Stack.PHP.Engine)
	out, errs, code = s.cli("fleet", "match", file)
	require.Zero(t, code, errs)
	assert.Equal(t, "everything is as the file says\n", out)
	requirePassed(t, s.do(t, plan.Verify, "fernhollow", "seed-exchange"))

	require.NoError(t, os.WriteFile(file, []byte("fleet: 1\nsites:\n  - {name: seed-exchange, php: '8.2', note: swaps}\n"), 0o644))
	out, errs, code = s.cli("fleet", "match", file)
	require.Zero(t, code, out+errs)
	assert.Equal(t, "php-8.2 swaps", s.site(t, "seed-exchange").Stack.PHP.Engine+" "+s.site(t, "seed-exchange").Note)
	assert.NotNil(t, s.site(t, "fernhollow"), "what the file does not name is left alone")
	require.NoError(t, os.WriteFile(file, []byte("fleet: 1\nsites:\n  - name: seed-exchange\n    cms: wordpress\n"), 0o644))
	_, errs, code = s.cli("fleet", "match", file)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs,
		"line 4, column 10, seed-exchange: -cms: the site was made with empty, and a fleet file cannot make it wordpress afterwards")
	require.NoError(t, os.WriteFile(file, []byte("fleet: 1\nsites:\n  - nane: moss\n  - {name: fern, cms: [x]}\n"), 0o644))
	_, errs, code = s.cli("fleet", "match", file)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "line 3, column 5")
	assert.Contains(t, errs, "line 4, column 23", "all at once")
	require.NoError(t, os.WriteFile(file, []byte("fleet: 1\nsites:\n  - name: fernhollow\n    title: Ferns & Co\n    outgoing: closed\n"+
		"    php_ini: {memory_limit: 300M}\n"), 0o644))
	out, errs, code = s.cli("fleet", "match", file)
	require.Zero(t, code, out+errs)
	changed := s.secrets(t, "fernhollow")
	assert.Equal(t, "Ferns & Co 300M closed", changed.Title+" "+changed.PHPIni["memory_limit"]+" "+changed.Outgoing)
	_, page, _ := get(t, changed.URL)
	assert.Contains(t, page, "<title>Ferns &amp; Co", "its CMS knows it, too")
	requirePassed(t, s.do(t, plan.Verify, "fernhollow"))
	out, errs, code = s.cli("fleet", "write")
	require.Zero(t, code, errs)
	require.NoError(t, os.WriteFile(file, []byte(out), 0o644))
	out, errs, code = s.cli("fleet", "compare", file)
	require.Zero(t, code, errs)
	assert.Equal(t, "everything is as the file says\n", out)
}
