package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

// landing is a folder at a host, of a site of a strict PHP that stands for it, into which a parcel and its lander were uploaded.
type landing struct {
	t       *testing.T
	s       *service
	at      client.Site
	key     string
	address string
}

// host makes such a folder, with the site that is there already.
func host(t *testing.T, s *service, name string, stack client.Request) *landing {
	t.Helper()
	dir := outside(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.php"), []byte("<?php echo 'the old site';"), 0o644))
	stack.Name, stack.Archive = name, filepath.Join(dir, "old.tar")
	said, err := exec.CommandContext(ctx, "tar", "-C", dir, "-cf", stack.Archive, "index.php").CombinedOutput()
	require.NoError(t, err, string(said))
	require.NoError(t, os.Chmod(stack.Archive, 0o644))
	requirePassed(t, s.made(t, stack))
	operation, err := s.Adjust(ctx, name, client.Settings{PHP: map[string]string{"max_execution_time": "5", "memory_limit": "64M"}}, false)
	require.NoError(t, err)
	s.watch(t, operation)
	return &landing{t: t, s: s, at: s.secrets(t, name)}
}

// upload puts a parcel of a site and its lander there.
func (l *landing) upload(of string, flags ...string) {
	l.t.Helper()
	dir := outside(l.t)
	out, errs, code := l.s.cli(append([]string{"parcel", of, "-o", filepath.Join(dir, "orchard.zip"), "-with-lander", "-json"}, flags...)...)
	require.Zero(l.t, code, errs)
	var told struct{ Key, Lander string }
	require.NoError(l.t, json.Unmarshal([]byte(out), &told))
	l.key, l.address = told.Key, l.at.URL+"orchard-lander.php"
	for _, name := range []string{"orchard.zip", "orchard-lander.php"} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(l.t, err)
		writeAs(l.t, l.at.Folder, name, text)
	}
}

// writeAs writes a file into a site's folder, as its own account has it.
func writeAs(t *testing.T, folder, name string, text []byte) {
	t.Helper()
	path := filepath.Join(folder, name)
	require.NoError(t, os.WriteFile(path, text, 0o644))
	info, err := os.Stat(folder)
	require.NoError(t, err)
	owner := info.Sys().(*syscall.Stat_t)
	require.NoError(t, os.Chown(path, int(owner.Uid), int(owner.Gid)))
}

// ask asks the lander for something; what it answers is kept by its names.
func (l *landing) ask(do string, more ...string) map[string]any {
	l.t.Helper()
	form := url.Values{"key": {l.key}, "do": {do}, "host": {fmt.Sprintf("127.0.0.1:%d", l.at.Database.Port)}, "name": {l.at.Database.Name},
		"user": {l.at.Database.User}, "password": {l.at.Database.Password}, "url": {l.at.URL}}
	for i := 0; i+1 < len(more); i += 2 {
		form.Set(more[i], more[i+1])
	}
	request, err := http.NewRequestWithContext(ctx, "POST", l.address, strings.NewReader(form.Encode()))
	require.NoError(l.t, err)
	request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	response, err := browser.Do(request)
	require.NoError(l.t, err)
	defer response.Body.Close()
	said := map[string]any{}
	require.NoError(l.t, json.NewDecoder(response.Body).Decode(&said))
	return said
}

// on goes on until the lander has nothing more to do, or stands at a step.
func (l *landing) on(until string) map[string]any {
	l.t.Helper()
	for range 200 {
		said := l.ask("on")
		require.NotContains(l.t, said, "refused", "%v", said)
		if step := said["step"]; step == until || step == "landed" {
			return said
		}
	}
	require.Fail(l.t, "it never ends")
	return nil
}

// A parcel lands where no Vessik is, on each PHP with five seconds a request and 64 MB; what was there comes back if asked for, and nothing
// of the lander stays.
func TestALanderLandsAParcel(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	old := s.site(t, "orchard-days")
	big := []byte(strings.Repeat("fern and moss ", 400_000))
	writeAs(t, old.Folder, "wp-content/big.txt", big)
	_, errs, code := run(t, "run", "orchard-days", "-home", s.home, "--", "php", "-r", `require 'wp-load.php';
		update_option('seeds', ['home' => home_url('/hedge/'), 'inner' => serialize(['x' => home_url()])]);`)
	require.Zero(t, code, errs)
	for _, statement := range []string{"CREATE TABLE beds (a INT)", "CREATE VIEW plots AS SELECT a FROM beds",
		"CREATE TRIGGER one BEFORE INSERT ON beds FOR EACH ROW BEGIN SET NEW.a = 1; END",
		"CREATE TRIGGER two AFTER INSERT ON beds FOR EACH ROW BEGIN SET @x = ';'; END"} {
		_, err := pool(t, s.secrets(t, "orchard-days")).Exec(statement)
		require.NoError(t, err)
	}
	for name, stack := range map[string]client.Request{"land-74": {PHP: "7.4", Web: "apache", Database: "10.5"},
		"land-82": {PHP: "8.2", Database: "10.11"}, "land-84": {PHP: "8.4"}} {
		t.Run(name, func(t *testing.T) {
			defer s.retire(t, name)
			l := host(t, s, name, stack)
			l.upload("orchard-days")
			assert.Contains(t, l.ask("begin")["refused"], "place: holds index.php")
			require.Equal(t, "unpack", l.ask("begin", "aside", "1")["step"])
			said := l.on("landed")
			assert.Empty(t, said["proof"])
			assert.Empty(t, said["left"])
			_, page, _ := get(t, l.at.URL)
			assert.Contains(t, page, "Orchard Days")
			assert.NotContains(t, page, old.Domain)
			text, err := os.ReadFile(filepath.Join(l.at.Folder, "wp-content/big.txt"))
			require.NoError(t, err)
			assert.Equal(t, big, text)
			out, errs, code := run(t, "run", name, "-home", s.home, "--", "php", "-r", `require 'wp-load.php'; $seeds = get_option('seeds');
				echo $seeds['home'], ' ', unserialize($seeds['inner'])['x'];`)
			require.Zero(t, code, errs)
			assert.Equal(t, l.at.URL+"hedge/ "+strings.TrimSuffix(l.at.URL, "/"), out)

			out, _, _ = s.cli("sql", name, "-csv", "-e", "INSERT INTO beds VALUES (7); SELECT a FROM plots")
			assert.Equal(t, "a\n1\n", out, "its programs have landed, too")

			// Back to what was there, again, and done.
			require.Equal(t, "ask", l.ask("back")["step"])
			_, page, _ = get(t, l.at.URL)
			assert.Equal(t, "the old site", page)
			out, _, _ = s.cli("sql", name, "-csv", "-e", "SHOW TABLES")
			assert.Equal(t, 1, strings.Count(out, "\n"), out)
			require.Equal(t, "unpack", l.ask("begin", "aside", "1")["step"])
			l.on("landed")
			assert.Equal(t, "finished", l.ask("finish")["step"])
			for _, gone := range []string{"orchard-lander.php", "orchard.zip", ".landing-*"} {
				found, _ := filepath.Glob(filepath.Join(l.at.Folder, gone))
				assert.Empty(t, found)
			}
			kept, _ := filepath.Glob(filepath.Join(l.at.Folder, ".aside-*/index.php"))
			assert.Len(t, kept, 1)
		})
	}
}

// What a CMS has made again by itself does not land, and its configuration names the tables as they are called.
func TestALanderLandsSPIP(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "seed-press", CMS: "spip", Title: "Seed Press"}))
	l := host(t, s, "land-spip", client.Request{})
	l.upload("seed-press")
	require.Equal(t, "unpack", l.ask("begin", "aside", "1")["step"])
	assert.Empty(t, l.on("landed")["proof"])
	text, err := os.ReadFile(filepath.Join(l.at.Folder, "config/connect.php"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "'"+strings.TrimSuffix(s.site(t, "seed-press").Prefix, "_")+"'")
	_, page, _ := get(t, l.at.URL)
	assert.Contains(t, page, "Seed Press")
	assert.NotContains(t, page, "seed-press.localhost")
	requirePassed(t, s.do(t, plan.Verify, "land-spip"))
}

// What can go wrong at a host: nothing is done without the key, after an hour, with half an archive or a wrong database, and a load that
// was cut off begins again.
func TestALanderRefuses(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days", "land-here")
	l := host(t, s, "land-here", client.Request{})
	l.upload("orchard-days", "-for", "https://elsewhere.example")
	for _, key := range []string{"", "wrong", strings.ToUpper(l.key)} {
		assert.Equal(t, "That is not the key.", l.ask("begin", "key", key, "aside", "1")["refused"])
	}
	assert.Contains(t, l.ask("begin", "password", "wrong", "aside", "1")["refused"], "Access denied")
	assert.Contains(t, l.ask("begin", "url", "orchard", "aside", "1")["refused"], "https://orchard.example")
	zipped := filepath.Join(l.at.Folder, "orchard.zip")
	whole, err := os.ReadFile(zipped)
	require.NoError(t, err)
	for what, text := range map[string][]byte{"half": whole[:len(whole)/2], "none": []byte("<html>"),
		"a way out": []byte(strings.Replace(string(whole), "files/wp-login.php", "files/../../../a", 2))} {
		writeAs(t, l.at.Folder, "orchard.zip", text)
		assert.Contains(t, l.ask("begin", "aside", "1")["refused"], "archive", what)
	}
	writeAs(t, l.at.Folder, "orchard.zip", whole)
	_, err = pool(t, s.secrets(t, "orchard-days")).Exec("CREATE TABLE beds (a INT)")
	require.NoError(t, err)
	l.upload("orchard-days", "-for", "https://elsewhere.example")
	there := pool(t, l.at)
	for _, statement := range []string{"CREATE TABLE beds (b INT)", "INSERT INTO beds VALUES (5)"} {
		_, err := there.Exec(statement)
		require.NoError(t, err)
	}
	require.Equal(t, "unpack", l.ask("begin", "aside", "1")["step"])
	l.on("load")
	assert.Contains(t, l.ask("on")["refused"], "The database has beds already")
	require.Equal(t, "ask", l.ask("back")["step"])
	assert.Equal(t, "5", query(t, l.at, "SELECT b FROM beds"), "what was there is not dropped")
	_, err = there.Exec("DROP TABLE beds")
	require.NoError(t, err)

	require.Equal(t, "unpack", l.ask("begin", "aside", "1")["step"])
	l.on("load")
	states, _ := filepath.Glob(filepath.Join(l.at.Folder, ".landing-*/state.php"))
	require.Len(t, states, 1)
	_, page, _ := get(t, l.at.URL+strings.TrimPrefix(states[0], l.at.Folder+"/"))
	assert.NotContains(t, page, l.at.Database.Password)
	l.on("place")
	text, err := os.ReadFile(states[0]) // as if the load had been cut off
	require.NoError(t, err)
	writeAs(t, l.at.Folder, strings.TrimPrefix(states[0], l.at.Folder+"/"), []byte(strings.NewReplacer(`"step":"place"`, `"step":"load"`,
		`"open":false`, `"open":true`).Replace(string(text))))
	assert.Empty(t, l.on("landed")["proof"])
	lander, err := os.ReadFile(filepath.Join(l.at.Folder, "orchard-lander.php"))
	require.NoError(t, err)
	writeAs(t, l.at.Folder, "orchard-lander.php", []byte(strings.Replace(string(lander), "const LASTS = 3600", "const LASTS = 2", 1)))
	time.Sleep(3500 * time.Millisecond)
	assert.Contains(t, l.ask("back")["refused"], "An hour has gone by")
	writeAs(t, l.at.Folder, "orchard-lander.php", lander)

	// In a browser, as most will do it.
	require.Equal(t, "ask", l.ask("back")["step"])
	page8 := chromium(t, 1280, 800)
	do := steps(t, page8)
	do("the form", chromedp.Navigate(l.address), chromedp.WaitVisible(`//h1[text()="Landing a site"]`))
	for field, value := range map[string]string{"key": l.key, "host": fmt.Sprintf("127.0.0.1:%d", l.at.Database.Port),
		"name": l.at.Database.Name, "user": l.at.Database.User, "password": l.at.Database.Password} {
		do(field, chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void (document.querySelector('[name=%s]').value = %q)", field, value)))
	}
	do("the host", chromedp.Click(`//button[@id="look"]`), chromedp.WaitVisible(`//li[@class="bad" and contains(., "holds index.php")]`))
	do("it lands", chromedp.Click(chromedp.CSS(`[name=aside]`)), chromedp.Click(`//button[text()="Land the site"]`),
		chromedp.WaitVisible(`//p[contains(., "The site has landed, and its front page answers.")]`))
	do("it is gone", chromedp.Click(`//button[text()="Remove the lander"]`),
		chromedp.WaitVisible(`//p[contains(., "The lander and its archive are gone.")]`))
	assert.NoFileExists(t, filepath.Join(l.at.Folder, "orchard-lander.php"))
}
