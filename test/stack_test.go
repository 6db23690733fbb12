package test

import (
	"context"
	"database/sql"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
	"vessik/internal/survey"
)

var (
	phps     = []string{"php-7.4", "php-8.2", "php-8.4"}
	webs     = []string{"nginx-1.18", "nginx-1.22", "nginx-1.26", "apache-2.4-bullseye", "apache-2.4-bookworm", "apache-2.4-trixie"}
	mariadbs = []string{"mariadb-10.5", "mariadb-10.11", "mariadb-11.8"}
)

// combinations are all of them with VESSIK_GRID set (make grid); else so many that every pair of engines meets at least once.
func combinations() (stacks [][3]string) {
	for i, php := range phps {
		for j, web := range webs {
			for k, database := range mariadbs {
				if os.Getenv("VESSIK_GRID") != "" || (i+j)%3 == k {
					stacks = append(stacks, [3]string{php, web, database})
				}
			}
		}
	}
	return stacks
}

// onStack asks a site, as a visitor, for a page that tells what serves it.
func onStack(t testing.TB, s *service, name string) (php, web, database string) {
	t.Helper()
	made := s.site(t, name)
	page := filepath.Join(made.Folder, "on-what.php")
	require.NoError(t, os.WriteFile(page, []byte(`<?php define('SHORTINIT', true); require 'wp-load.php'; echo PHP_VERSION, '|',
$_SERVER['SERVER_SOFTWARE'], '|', $wpdb->get_var('SELECT VERSION()');`), 0o644))
	defer os.Remove(page)
	status, text, header := get(t, made.URL+"on-what.php")
	require.Equal(t, 200, status, text)
	words := strings.Split(text, "|")
	require.Len(t, words, 3, text)
	assert.Contains(t, header.Get("Server"), words[1])
	_, version, _ := strings.Cut(words[1], "/")
	number, _, _ := strings.Cut(words[2], "-")
	return words[0], version, number
}

// fullVersion is an engine's as it tells itself.
func fullVersion(t testing.TB, s *service, id string) string {
	t.Helper()
	engines, err := s.Engines(context.Background())
	require.NoError(t, err)
	for _, e := range engines.Engines {
		if e.ID == id {
			require.NotEmpty(t, e.Version, id)
			return e.Version
		}
	}
	require.Fail(t, "no engine "+id)
	return ""
}

func TestApacheHonoursTheSitesOwnRules(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", Web: "apache"}, client.Request{Name: "orchard-days", Web: "apache"}))
	defer s.retire(t, "moss-archive", "orchard-days")
	mine, neighbour := s.site(t, "moss-archive"), s.site(t, "orchard-days")
	assert.Equal(t, "apache-2.4-trixie", mine.Stack.Web.Engine, "the newest that fits")
	rules := filepath.Join(mine.Folder, ".htaccess")
	usual, err := os.ReadFile(rules)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(mine.Folder, "fern.css"), []byte(strings.Repeat("fern { color: green }\n", 100)), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(mine.Folder, "notes.txt"), []byte("private"), 0o644))
	require.NoError(t, os.WriteFile(rules, []byte("RewriteEngine On\nRewriteRule ^old-moss$ /fern.css [R=301,L]\n<Files notes.txt>\n"+
		"Require all denied\n</Files>\nHeader set X-Keeper Ines\nExpiresActive On\nExpiresByType text/css \"access plus 1 day\"\n"+string(usual)),
		0o644))
	status, _, header := get(t, mine.URL+"old-moss")
	assert.Equal(t, 301, status)
	assert.Equal(t, mine.URL+"fern.css", header.Get("Location"))
	status, _, _ = get(t, mine.URL+"notes.txt")
	assert.Equal(t, 403, status)
	_, _, header = get(t, mine.URL+"fern.css", "Accept-Encoding", "gzip")
	assert.Equal(t, "Ines", header.Get("X-Keeper"))
	assert.Equal(t, "gzip", header.Get("Content-Encoding"))
	assert.Equal(t, "max-age=86400", header.Get("Cache-Control"))

	// What rules can make Apache do is held to the site: neither a neighbour's files, nor the service's, nor a neighbour's PHP.
	secret := filepath.Join(neighbour.Folder, "wp-config.php")
	for _, file := range []string{secret, filepath.Join(s.home, "token"), "/etc/passwd"} {
		require.NoError(t, os.WriteFile(rules, []byte("RewriteEngine On\nRewriteCond expr \"file('"+file+
			"') =~ /./\"\nRewriteRule ^leak$ /fern.css [L]\n"), 0o644))
		_, text, _ := get(t, mine.URL+"leak")
		assert.NotContains(t, text, "fern { color", file)
	}
	require.NoError(t, os.Symlink(secret, filepath.Join(mine.Folder, "link.txt")))
	require.NoError(t, os.WriteFile(rules, []byte("Options +FollowSymLinks\n"), 0o644))
	status, _, _ = get(t, mine.URL+"link.txt")
	assert.NotEqual(t, 200, status)
}

func (s *service) restack(t testing.TB, name string, r client.Restack) client.Watched {
	t.Helper()
	operation, err := s.Restack(context.Background(), name, r)
	require.NoError(t, err)
	return s.watch(t, operation)
}

// content is what a site's database holds, without what a visit or a sign-in leaves.
func content(t testing.TB, made client.Site) map[string]string {
	t.Helper()
	pool, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", made.Database.User, made.Database.Password, made.Database.Port,
		made.Database.Name))
	require.NoError(t, err)
	defer pool.Close()
	found := map[string]string{}
	for _, query := range []string{"SELECT CONCAT('post ', ID), CONCAT(post_title, post_content, post_date, post_name) FROM wp_posts",
		"SELECT CONCAT('option ', option_name), option_value FROM wp_options WHERE option_name NOT LIKE '%transient%' AND option_name NOT IN " +
			"('cron', 'finished_updating_comment_type')",
		"SELECT CONCAT('user ', user_login), CONCAT(user_pass, user_email) FROM wp_users"} {
		rows, err := pool.Query(strings.Replace(query, "FROM wp_", "FROM "+made.Prefix, 1))
		require.NoError(t, err)
		for rows.Next() {
			var key, value string
			require.NoError(t, rows.Scan(&key, &value))
			found[key] = value
		}
		rows.Close()
	}
	require.Greater(t, len(found), 50)
	return found
}

// visitors ask a site without pause until they are told to end, and count what they were answered.
type visitors struct {
	answered, failed atomic.Int64
	longest          atomic.Int64 // milliseconds
	first            atomic.Value // of the failures
	end              func()
}

func visit(address string, count int) *visitors {
	v := &visitors{}
	ctx, cancel := context.WithCancel(context.Background())
	var group sync.WaitGroup
	v.end = func() { cancel(); group.Wait() }
	for range count {
		group.Go(func() {
			for ctx.Err() == nil {
				began := time.Now()
				response, err := browser.Get(address)
				took := time.Since(began).Milliseconds()
				for old := v.longest.Load(); took > old && !v.longest.CompareAndSwap(old, took); old = v.longest.Load() {
				}
				switch {
				case err != nil:
					v.failed.Add(1)
					v.first.CompareAndSwap(nil, err.Error())
				case response.StatusCode != 200:
					v.failed.Add(1)
					v.first.CompareAndSwap(nil, response.Status)
					response.Body.Close()
				default:
					v.answered.Add(1)
					response.Body.Close()
				}
			}
		})
	}
	return v
}

func TestAStackIsChangedWithoutLosingAPage(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMSVersion: "6.1", Web: "nginx-1.22", Database: "10.11"}))
	defer s.retire(t, "orchard-days")
	before := s.site(t, "orchard-days")
	held := content(t, before)
	preview, err := s.PreviewRestack(context.Background(), "orchard-days", client.Restack{PHP: "8.4"})
	require.NoError(t, err)
	assert.Equal(t, "php-8.4", preview.After.PHP)
	assert.Contains(t, preview.Warning, "not known to work on php-8.4")
	assert.Equal(t, before.Stack, s.site(t, "orchard-days").Stack, "a preview changes nothing")

	for _, to := range []client.Restack{{PHP: "7.4"}, {Web: "apache"}, {Web: "nginx-1.18", PHP: "8.2"}, {Database: "11.8"},
		{PHP: "7.4", Web: "apache-2.4-bullseye", Database: "10.5"}} {
		v := visit(before.URL, 2)
		watched := s.restack(t, "orchard-days", to)
		v.end()
		requirePassed(t, watched)
		assert.Zero(t, v.failed.Load(), "%+v: %v", to, v.first.Load())
		assert.Positive(t, v.answered.Load())
		now := s.site(t, "orchard-days")
		php, web, database := onStack(t, s, "orchard-days")
		assert.Equal(t, [3]string{now.Stack.PHP.Version, now.Stack.Web.Version, now.Stack.Database.Version}, [3]string{php, web, database})
		if to.Database == "" {
			assert.Less(t, changeOf(watched).DowntimeMilliseconds, int64(1000), "%+v", to)
		} else {
			assert.Regexp(t, `12 tables with \d+ rows, all alike`, changeOf(watched).Moved)
		}
		assert.Equal(t, held, content(t, now), "%+v", to)
		verified, err := s.VerifyPoints(context.Background(), "orchard-days") // files and database can be read
		require.NoError(t, err)
		assert.Empty(t, verified.Damaged)
		assert.Greater(t, verified.Blobs, 2000, "WordPress has so many files")
		assert.FileExists(t, filepath.Join(changeOf(watched).RestorePoint, "point.json"))
	}
	assert.Equal(t, "php-7.4 apache-2.4-bullseye mariadb-10.5",
		strings.Join([]string{s.site(t, "orchard-days").Stack.PHP.Engine, s.site(t, "orchard-days").Stack.Web.Engine,
			s.site(t, "orchard-days").Stack.Database.Engine}, " "))
	_, errs, code := s.cli("restack", "orchard-days", "-php", "5.2", "-web", "moss")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `no php engine fits "5.2"`)
	assert.Contains(t, errs, `no web engine fits "moss"`)
}

// frost is a plugin that PHP 8.4 refuses and older ones bear.
const frost = `<?php
/* Plugin Name: Frost */
if (PHP_VERSION_ID >= 80400) { frost_is_not_ready_for_this(); }
`

func activate(t testing.TB, s *service, name string) {
	t.Helper()
	made := s.site(t, name)
	plugin := filepath.Join(made.Folder, "wp-content/plugins/frost/frost.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(plugin), 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(plugin), 0o777)) // the service's account removes it
	require.NoError(t, os.WriteFile(plugin, []byte(frost), 0o644))
	out, errs, code := run(t, "run", name, "-home", s.home, "--", "php", "-r",
		`define('WP_ADMIN', true); require 'wp-load.php'; require_once ABSPATH.'wp-admin/includes/plugin.php';
$e = activate_plugin('frost/frost.php'); echo is_wp_error($e) ? $e->get_error_message() : 'active';`)
	require.Zero(t, code, errs)
	require.Contains(t, out, "active")
}

func TestAChangeThatBreaksTheSiteGoesBackByItself(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMSVersion: "6.1", Web: "nginx-1.22", Database: "10.11"}))
	defer s.retire(t, "orchard-days")
	activate(t, s, "orchard-days")
	before := s.site(t, "orchard-days")
	requirePassed(t, s.do(t, plan.Verify, "orchard-days"))
	held := content(t, before)
	out, errs, code := s.cli("restack", "orchard-days", "-php", "8.4", "-database", "11.8")
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(t, errs, "went back to what it was, proven by a second report")
	assert.Contains(t, out, "frost_is_not_ready_for_this()", "PHP's own words")
	assert.Contains(t, out, "front-page")
	after := s.site(t, "orchard-days")
	assert.Equal(t, before.Stack, after.Stack)
	php, _, database := onStack(t, s, "orchard-days")
	assert.Equal(t, [2]string{before.Stack.PHP.Version, before.Stack.Database.Version}, [2]string{php, database})
	assert.Equal(t, held, content(t, after), "the database is what it was")
	requirePassed(t, s.do(t, plan.Verify, "orchard-days"))
	operations, err := s.Operations(context.Background(), 10)
	require.NoError(t, err)
	i := slices.IndexFunc(operations, func(o client.Operation) bool { return o.Kind == "restack" })
	stages := []string{}
	for _, report := range append(operations[i].Sites[0].Earlier, *operations[i].Sites[0].Report) {
		stages = append(stages, report.Stage)
	}
	assert.Equal(t, []string{"before", "after", "back"}, stages)
	out, _, _ = run(t, "run", "orchard-days", "-home", s.home, "--", "mariadb", "-N", "-e", "SELECT VERSION()")
	assert.Contains(t, out, before.Stack.Database.Version)

	_, errs, code = s.cli("restack", "orchard-days", "-php", "8.4", "-stay")
	assert.Equal(t, 3, code, "it stays, and fails: %s", errs)
	assert.Equal(t, "php-8.4", s.site(t, "orchard-days").Stack.PHP.Engine)
	watched := s.restack(t, "orchard-days", client.Restack{PHP: "8.2"})
	requirePassed(t, watched)
}

func TestATrialShowsWhatEveryStackWouldDo(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMSVersion: "6.1", Web: "nginx-1.22", Database: "10.11"}))
	defer s.retire(t, "orchard-days")
	activate(t, s, "orchard-days")
	held := content(t, s.site(t, "orchard-days"))
	names := func(pattern string) []string {
		found, err := filepath.Glob(filepath.Join(s.home, pattern))
		require.NoError(t, err)
		return found
	}
	before := slices.Concat(names("sites/*"), names("run/sockets/*"), names("logs/sites/*"), names("mail/*"))
	out, errs, code := s.cli("trial", "orchard-days", "-php", "all", "-web", "nginx,apache", "-visit", "/hello-world/", "-json")
	require.Equal(t, 3, code, errs)
	var trial plan.Trial
	require.NoError(t, json.Unmarshal([]byte(out), &trial))
	require.Len(t, trial.Cells, 6)
	for _, cell := range trial.Cells {
		want := map[bool]string{true: "fail", false: "pass"}[cell.Stack.PHP == "php-8.4"]
		assert.Equal(t, want, string(cell.Verdict), "%+v: %s", cell.Stack, cell.Summary)
		if want == "fail" {
			require.NotNil(t, cell.Report)
			assert.Contains(t, cell.Summary, "Fatal error in ")
			assert.Contains(t, cell.Summary, "/hello-world/ answers 500", "all pages that fail")
			assert.Nil(t, cell.Different, "an error page is no picture of the site")
			assert.Contains(t, cell.Report.Result("front-page").Observed, "frost_is_not_ready_for_this")
			continue
		}
		require.Len(t, cell.Visits, 2)
		assert.Equal(t, 200, cell.Visits[1].Status)
		assert.Positive(t, cell.Milliseconds)
		require.NotNil(t, cell.Different, "a picture was taken")
		assert.Less(t, *cell.Different, 0.02, "it looks like the site itself")
	}
	i := slices.IndexFunc(trial.Cells, func(c plan.Cell) bool { return c.Stack.PHP == "php-8.2" })
	assert.True(t, slices.ContainsFunc(trial.Cells[i].Messages,
		func(m plan.Message) bool { return m.Level == "Deprecated" && strings.Contains(m.Where, "wp-includes/") }),
		"what PHP 8.2 says of WordPress 6.1")
	assert.Equal(t, before, slices.Concat(names("sites/*"), names("run/sockets/*"), names("logs/sites/*"), names("mail/*")), "nothing is left")
	assert.Equal(t, held, content(t, s.site(t, "orchard-days")))
	sites, err := s.Sites(context.Background(), false)
	require.NoError(t, err)
	assert.False(t, slices.ContainsFunc(sites, func(s client.Site) bool { return strings.Contains(s.Name, "trial") }))

	out, _, code = s.cli("trial", "orchard-days", "-php", "8.2", "-no-picture", "-junit")
	assert.Equal(t, 0, code)
	var junit struct {
		Suites []struct {
			Name  string `xml:"name,attr"`
			Tests int    `xml:"tests,attr"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal([]byte(out), &junit))
	require.Len(t, junit.Suites, 1)
	assert.Equal(t, "orchard-days on php-8.2, nginx-1.22, mariadb-10.11", junit.Suites[0].Name)
	out, _, _ = s.cli("trial", "orchard-days", "-php", "8.2,8.4", "-no-picture")
	assert.Regexp(t, `nginx-1.22\s+pass \d+ ms, \d+ said\s+FAIL\*`, out)

	operation, err := s.Try(context.Background(), "orchard-days", client.Trial{PHP: "8.2", KeepCopies: true, NoPicture: true})
	require.NoError(t, err)
	kept := wire.DetailsOf[plan.Trial](s.watch(t, operation).Operation).Cells[0].Copy
	status, _, _ := get(t, s.site(t, kept).URL)
	assert.Equal(t, 200, status, "kept as a site")
	s.retire(t, kept)
	_, errs, code = s.cli("trial", "orchard-days", "-php", "moss", "-visit", "hello")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `no engine fits "moss"`)
	assert.Contains(t, errs, "write it as /path")
}

func TestSettingsAreCheckedProvenAndTakenBack(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	made := s.site(t, "orchard-days")
	ini := func(name string) string {
		info, err := s.Info(context.Background(), "orchard-days")
		require.NoError(t, err)
		for _, e := range info.Entries {
			if e.Section == "php.ini" && e.Name == name {
				return e.Value
			}
		}
		return ""
	}
	_, errs, code := s.cli("settings", "orchard-days", "memory_limit=300M", "upload_max_filesize=8M", "post_max_size=9M", "-extension",
		"gd=off")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, [3]string{"300M", "8M", "9M"}, [3]string{ini("memory_limit"), ini("upload_max_filesize"), ini("post_max_size")},
		"as served by the site")
	out, _, _ := s.cli("info", "orchard-days", "-search", "extensions gd")
	assert.NotContains(t, out, "gd")
	request, err := http.NewRequest("POST", fmt.Sprintf("http://127.0.0.1:%d/", made.Port), strings.NewReader(strings.Repeat("x", 12<<20)))
	require.NoError(t, err)
	request.Host = strings.TrimSuffix(strings.TrimPrefix(made.URL, "http://"), "/")
	response, err := browser.Do(request)
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, 413, response.StatusCode, "the web server's limit follows")

	_, errs, code = s.cli("settings", "orchard-days", "memry_limit=1", "auto_prepend_file=/x", "-xdebug", "70000")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "did you mean memory_limit?")
	assert.Contains(t, errs, "auto_prepend_file keeps the site in its place")
	assert.Equal(t, "300M", ini("memory_limit"))

	out, errs, code = s.cli("settings", "orchard-days", "-extension", "mysqli=off")
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(t, errs, "went back")
	assert.Contains(t, out, "mysqli", "the site's own words")
	assert.Equal(t, "300M", ini("memory_limit"))
	requirePassed(t, s.do(t, plan.Verify, "orchard-days"))

	out, _, code = s.cli("settings", "orchard-days", "-history")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "memory_limit: 300M; post_max_size: 9M; upload_max_filesize: 8M; extension gd: off")
	assert.NotContains(t, out, "mysqli", "what was taken back is no part of it")
	_, errs, code = s.cli("settings", "orchard-days", "-back", "-1")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, "256M", ini("memory_limit"))

	// A further folder, opened and taken back.
	dir := filepath.Join(filepath.Dir(s.home), "shared-plugin")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "seed.txt"), []byte("a seed"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(made.Folder, "read.php"),
		[]byte("<?php echo @file_get_contents('"+dir+"/seed.txt') ?: 'refused';"), 0o644))
	read := func() string { _, text, _ := get(t, made.URL+"read.php"); return text }
	assert.Equal(t, "refused", read())
	_, errs, code = s.cli("settings", "orchard-days", "-allow", dir)
	require.Equal(t, 0, code, errs)
	assert.Equal(t, "a seed", read())
	_, errs, code = s.cli("settings", "orchard-days", "-drop", dir)
	require.Equal(t, 0, code, errs)
	assert.Equal(t, "refused", read())

	// Debugging: what WordPress hides is shown, and Xdebug is that of the site's own PHP.
	require.NoError(t, os.WriteFile(filepath.Join(made.Folder, "old.php"),
		[]byte("<?php define('SHORTINIT', true); require 'wp-load.php'; trim(null); "+
			"echo WP_DEBUG ? 'd' : '', extension_loaded('xdebug') ? 'x' : '-';"), 0o644))
	_, text, _ := get(t, made.URL+"old.php")
	assert.Equal(t, "-", text)
	_, errs, code = s.cli("settings", "orchard-days", "-debug", "on", "-xdebug", "9003")
	require.Equal(t, 0, code, errs)
	_, text, _ = get(t, made.URL+"old.php")
	assert.Contains(t, text, "Deprecated")
	assert.True(t, strings.HasSuffix(text, "dx"), text)
	assert.NotContains(t, text, "already defined", "what its own configuration says")
	out, _, _ = s.cli("logs", "orchard-days", "-log", "php", "-search", "trim()")
	assert.Contains(t, out, "old.php")
	out, _, _ = s.cli("logs", "orchard-days", "-log", "access", "-last", "1000")
	assert.Contains(t, out, "GET /old.php")
	assert.NotContains(t, out, "Vessik-check", "the verifications of both changes")
	out, _, _ = s.cli("logs", "orchard-days", "-log", "access", "-last", "1000", "-checks")
	assert.Contains(t, out, "Vessik-check")
	_, errs, code = s.cli("logs", "orchard-days", "-log", "moss")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "choose of php, fpm")
}

func TestSitesGoToRestAndWakeWithoutLosingAPage(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "fernhollow"},
		client.Request{Name: "moss-archive", PHP: "7.4", Web: "apache", Database: "10.5"}))
	for _, name := range []string{"fernhollow", "moss-archive"} {
		_, errs, code := s.cli("settings", name, "-rest", "1s")
		require.Equal(t, 0, code, errs)
		made := s.site(t, name)
		rested := 0
		for visits := 0; visits < 60 && rested < 3; visits++ { // at different moments of going to rest
			require.Eventually(t, func() bool { return s.site(t, name).Resting || visits%4 != 0 }, 20*time.Second, 20*time.Millisecond)
			if s.site(t, name).Resting {
				rested++
			}
			status, text, _ := get(t, made.URL)
			require.Equal(t, 200, status, text)
			time.Sleep(time.Duration(visits*53%400) * time.Millisecond)
		}
		assert.GreaterOrEqual(t, rested, 3, name)
		require.Eventually(t, func() bool {
			return s.site(t, name).Resting && len(processesOf(filepath.Join(s.home, "run/php", name))) == 0
		}, 30*time.Second, 20*time.Millisecond, "nothing of its PHP is loaded")
	}
	assert.Eventually(t, func() bool { return len(processesOf(filepath.Join(s.home, "run/apache-2.4-trixie"))) == 0 }, 30*time.Second,
		100*time.Millisecond, "nor of its Apache")
	requirePassed(t, s.do(t, plan.Verify, "fernhollow", "moss-archive"))
	s.do(t, plan.Stop, "moss-archive")
	require.Eventually(t, func() bool { return len(processesOf(filepath.Join(s.home, "run/mariadb-10.5"))) == 0 }, 20*time.Second,
		50*time.Millisecond, "an engine that no running site uses stops")
	requirePassed(t, s.do(t, plan.Start, "moss-archive"))

	// A scheduled task of a site at rest runs when it is due, without a visitor.
	folder := s.site(t, "fernhollow").Folder
	plugins := filepath.Join(folder, "wp-content/mu-plugins")
	require.NoError(t, os.MkdirAll(plugins, 0o777))
	require.NoError(t, os.Chmod(plugins, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(plugins, "watering.php"), []byte(`<?php
add_action('water', function () { file_put_contents(__DIR__ . '/watered', $_SERVER['REQUEST_URI']); });
if (isset($_GET['plan'])) wp_schedule_single_event(time() + 6, 'water');`), 0o644))
	get(t, s.site(t, "fernhollow").URL+"?plan=1")
	require.Eventually(t, func() bool { return s.site(t, "fernhollow").Resting }, 20*time.Second, 20*time.Millisecond)
	assert.NoFileExists(t, filepath.Join(plugins, "watered"))
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(plugins, "watered")); return err == nil }, 30*time.Second,
		50*time.Millisecond)
	require.NoError(t, os.RemoveAll(plugins))

	// The home is moved, and starts as it is.
	s.stop()
	moved := s.home + "-moved"
	require.NoError(t, os.Rename(s.home, moved))
	s = start(t, moved)
	requirePassed(t, s.do(t, plan.Verify, "fernhollow", "moss-archive"))
	assert.True(t, strings.HasPrefix(s.site(t, "fernhollow").Folder, moved), s.site(t, "fernhollow").Folder)
}

func TestATakenPortIsNoticedAndAnotherIsTaken(t *testing.T) {
	s := shared(t)
	port := 31717
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days"}, client.Request{Name: "volunteer-desk", Port: port}))
	defer s.retire(t, "orchard-days", "volunteer-desk")
	s.do(t, plan.Stop, "orchard-days", "volunteer-desk")
	taken := s.site(t, "orchard-days").Port
	for _, each := range []int{taken, port} {
		thief, err := net.Listen("tcp4", "127.0.0.1:"+strconv.Itoa(each))
		require.NoError(t, err)
		defer thief.Close()
	}
	out, errs, code := s.cli("start", "orchard-days")
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, fmt.Sprintf("port %d was taken while the site was stopped (port %d is held by ", taken, taken))
	assert.NotEqual(t, taken, s.site(t, "orchard-days").Port)
	_, errs, code = s.cli("start", "volunteer-desk")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, fmt.Sprintf("port %d is held by", port))
	assert.Contains(t, errs, "asked for by number")
}

func TestTheSurveySaysWhoHoldsWhat(t *testing.T) {
	s := shared(t)
	out, errs, code := s.cli("survey", "-json")
	require.Contains(t, []int{0, 3}, code, errs)
	var result survey.Survey
	require.NoError(t, json.Unmarshal([]byte(out), &result))
	areas := map[string]int{}
	for _, f := range result.Findings {
		areas[f.Area]++
		assert.NotEmpty(t, f.Observed, f.Subject)
		if f.Verdict != survey.Good {
			assert.NotEmpty(t, f.Remedy, f.Subject)
		}
	}
	for _, area := range []string{"ports", "neighbours", "names", "disk", "memory", "limits", "archive"} {
		assert.Positive(t, areas[area], area)
	}
	before, err := os.ReadDir(filepath.Dir(s.home))
	require.NoError(t, err)
	fresh := filepath.Join(filepath.Dir(s.home), "not-there")
	out, _, _ = run(t, "survey", "-home", fresh)
	assert.Contains(t, out, "engine store")
	after, err := os.ReadDir(filepath.Dir(s.home))
	require.NoError(t, err)
	assert.Len(t, after, len(before), "it only looks")
}

// changeOf is what a change tells of itself.
func changeOf(watched client.Watched) plan.Change {
	return wire.DetailsOf[plan.Change](watched.Operation)
}
