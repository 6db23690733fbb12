package test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/walk"
)

// garden is a site in which faults are planted: each page is a file of the document root.
var garden = map[string]string{
	"index.php": `<title>Garden</title>
		<a href="beds.php">b</a><a href="/gone.php#x">g</a><a href="/round.php">r</a><a href="/on.php">o</a>
		<img src="/no-fern.png"><a href="https://elsewhere.example/">e</a><a href="mailto:keeper@garden.example">m</a><a href="/broken.php">d</a>
		<a href="/moss.php?of=kert%20k%C3%A9k">k</a>
		<a href="/way.php">w</a><link rel="stylesheet" href="/s.css"><a href="/infinite.php?n=1">i</a>`,
	"beds.php":     `<title>Beds</title><form action="https://forms.example/send"></form><form action="/moss.php"></form>`,
	"way.php":      `<title>Beds</title>`,
	"moss.php":     `<title>Moss <?= $of ?></title>`,
	"round.php":    `<?php header('Location: /round-2.php'); http_response_code(302);`,
	"round-2.php":  `<?php header('Location: /round.php'); http_response_code(302);`,
	"on.php":       `<?php header('Location: /on-2.php'); http_response_code(301);`,
	"on-2.php":     `<?php header('Location: /beds.php'); http_response_code(301);`,
	"broken.php":   `<?php http_response_code(500); echo 'no';`,
	"s.css":        `body { color: green }`,
	"listed.php":   `<?php usleep(7000000); echo '<p>no title</p>';`,
	"robots.txt":   "User-agent: *\nSitemap: /map.xml\n",
	"map.xml":      `<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>/listed.php</loc></url></urlset>`,
	"infinite.php": `<?php $n = (int) $_GET['n']; echo "<title>Day $n</title><a href='/infinite.php?n=", $n + 1, "'>next</a>";`,
}

func TestAWalkFindsWhatIsWrongAndNothingElse(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}, client.Request{Name: "fern-archive"}))
	defer s.retire(t, "orchard-days", "fern-archive")
	for file, text := range garden {
		require.NoError(t, os.WriteFile(filepath.Join(s.site(t, "orchard-days").DocumentRoot, file), []byte(text), 0o644))
	}
	out, errs, code := s.cli("walk", "orchard-days", "-json", "-slow", "6000", "-pages", "40", "-browser", "0")
	require.Equal(t, 3, code, errs)
	var walked walk.Walked
	require.NoError(t, json.Unmarshal([]byte(out), &walked))
	found := []string{}
	for _, page := range walked.Pages {
		for _, f := range page.Findings {
			found = append(found, fmt.Sprintf("%s %s %s", page.Path, f.Kind, f.Where))
		}
	}
	assert.ElementsMatch(t, []string{"/broken.php fails ", "/moss.php?of=kert%20k%C3%A9k php public/moss.php:1",
		"/ broken-link <a href> /gone.php#x", "/ broken-link <a href> /broken.php", "/ broken-file <img src> /no-fern.png",
		"/ redirect-loop <a href> /round.php", "/ redirect-chain <a href> /on.php",
		"/beds.php form-elsewhere <form action> https://forms.example/send",
		"/beds.php same-title <title> Beds", "/way.php same-title <title> Beds", "/listed.php slow ", "/listed.php no-title <title>"},
		found)
	assert.True(t, walked.Cut, "it ends although the site does not")
	assert.LessOrEqual(t, len(walked.Pages), 40)
	out, _, _ = s.cli("walk", "orchard-days", "-csv", "-pages", "5", "-browser", "0")
	lines, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"path", "status", "milliseconds", "title", "kind", "where", "text"}, lines[0])
	out, _, code = s.cli("walk", "orchard-days", "-junit", "-pages", "5", "-browser", "0")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, `<testsuite name="orchard-days"`)
	_, errs, code = s.cli("walk", "orchard-days", "-as", "nobody")
	assert.NotZero(t, code)
	assert.NotEmpty(t, errs)

	// A new WordPress is in order, also for whoever signs in; but for a list in its own theme, in a browser.
	for _, more := range [][]string{nil, {"-as", s.site(t, "fern-archive").Administrator.Name}} {
		out, errs, code = s.cli(append([]string{"walk", "fern-archive", "-slow", "60000", "-browser", "0"}, more...)...)
		assert.Zero(t, code, out+errs)
		assert.Regexp(t, `^[5-9] pages and \d+ files in [\d.]+ s: 0 findings\n$`, out)
	}
	out, errs, code = s.cli("walk", "fern-archive", "-slow", "60000", "-browser", "2", "-csv", "-as", "fern-archive-keeper")
	assert.Zero(t, code, out+errs)
	assert.NotRegexp(t, `,(script-error|request-fails|wide|broken)`, out)
	assert.Contains(t, out, ",accessibility,list,")
}

// plot is a site in which faults are planted that only a browser sees, and a page that is slow.
var plot = map[string]string{
	"index.php": plotPage("Plot", `<style>a { display: block; padding: 1em }</style><a href="/script.php">s</a><a href="/asks.php">a</a>
		<a href="/wide.php">w</a><a href="/mute.php">m</a><a href="/alert.php">l</a><a href="/slow.php">o</a><a href="/new.php">n</a>`),
	"script.php": plotPage("Script", `<script>setTimeout(() => { throw new TypeError("no fern") }, 10)</script>`),
	"asks.php":   plotPage("Asks", `<script>fetch("/nothing.php"); fetch("https://elsewhere.example/x").catch(() => 0)</script>`),
	"wide.php": plotPage("Wide", `<div class="bed" style="width:900px">wide</div>
		<div style="overflow:auto"><p style="width:2000px">held</p></div>`),
	"mute.php":  plotPage("Mute", `<img src="/dot.png">`),
	"alert.php": plotPage("Alert", `<script>alert("well"); open("/"); onbeforeunload = () => "stay"</script>`),
	"new.php":   plotPage("New", ""),
}

func plotPage(title, body string) string {
	return `<!doctype html><html lang="en"><meta name="viewport" content="width=device-width"><title>` + title + `</title><body>` + body
}

// planted is a running site of such pages.
func planted(t *testing.T, s *service, name string) string {
	t.Helper()
	requirePassed(t, s.made(t, client.Request{Name: name, CMS: "empty"}))
	made, err := s.Site(context.Background(), name, true)
	require.NoError(t, err)
	for file, text := range plot {
		require.NoError(t, os.WriteFile(filepath.Join(made.DocumentRoot, file), []byte(text), 0o644))
	}
	dot := &bytes.Buffer{}
	require.NoError(t, png.Encode(dot, image.NewGray(image.Rect(0, 0, 1, 1))))
	require.NoError(t, os.WriteFile(filepath.Join(made.DocumentRoot, "dot.png"), dot.Bytes(), 0o644))
	d := made.Database
	require.NoError(t, os.WriteFile(filepath.Join(made.DocumentRoot, "slow.php"), []byte(plotPage("Slow", fmt.Sprintf(`<?php
		$db = new mysqli('127.0.0.1', '%s', '%s', '%s', %d); $db->query('SELECT SLEEP(2.5)'); @fsockopen('127.0.0.1', 9);`,
		d.User, d.Password, d.Name, d.Port))), 0o644))
	return made.DocumentRoot
}

func walkedBy(t *testing.T, s *service, code int, arguments ...string) (walked walk.Walked) {
	t.Helper()
	out, errs, ended := s.cli(append([]string{"walk", "orchard-days", "-json"}, arguments...)...)
	require.Equal(t, code, ended, "%s%s", out, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &walked))
	return walked
}

func TestAWalkLooksInABrowserAndIsCompared(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	root := planted(t, s, "orchard-days")
	defer s.retire(t, "orchard-days")
	walked := walkedBy(t, s, 3)
	found, pictures := []string{}, 0
	for _, page := range walked.Pages {
		for _, f := range page.Findings {
			found = append(found, fmt.Sprintf("%s %s %s", page.Path, f.Kind, f.Where))
			if f.Kind == walk.Slow {
				assert.Regexp(t, `asked the database \d+ statements in [23]\d{3} ms, .*SELECT SLEEP\(2.5\); 127.0.0.1:9 1 times, .* 1 refused$`, f.Text)
			}
		}
		pictures += len(page.Pictures)
	}
	assert.ElementsMatch(t, []string{"/script.php script-error /script.php:1", "/asks.php request-fails /nothing.php",
		"/wide.php wide <div class=bed>", "/mute.php accessibility image-alt", "/slow.php slow "}, found)
	require.Equal(t, 3*8, pictures, "three widths of each page")
	for picture, status := range map[string]int{walked.Pages[0].Pictures[2]: 200, "../walk.json": 404, "walk.json": 404} {
		answered, _, _ := get(t, fmt.Sprintf("%s/api/v1/sites/orchard-days/walks/%s/pictures/%s", s.Base, walked.ID, url.PathEscape(picture)),
			"Authorization", "Bearer "+s.Token)
		assert.Equal(t, status, answered, picture)
	}

	// What got worse since, and what was mended.
	require.NoError(t, os.WriteFile(filepath.Join(root, "script.php"), []byte(plotPage("Script", "")), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "alert.php"), []byte(`<?php http_response_code(500);`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "slow.php"), []byte(plotPage("Slow", "")), 0o644))
	now := walkedBy(t, s, 3, "-against", "last")
	require.NotNil(t, now.Compared)
	assert.Equal(t, walked.ID, now.Compared.With)
	changes := []string{}
	for _, d := range now.Compared.Differences {
		if d.Change != walk.Slower && d.Change != walk.Quicker {
			changes = append(changes, fmt.Sprint(d.Change, " ", d.Path))
		}
	}
	assert.Equal(t, []string{"found /", "found /alert.php", "title /alert.php", "mended /script.php"}, changes)
	assert.Empty(t, walkedBy(t, s, 0, "-against", now.ID, "-browser", "0").Compared.Worse())
	againstAnAddress(t, s)

	out, _, code := s.cli("walk", "orchard-days", "-list")
	assert.Zero(t, code)
	assert.Equal(t, 4, strings.Count(out, "\n"), out)
	assert.Equal(t, walked.Pages, walkedBy(t, s, 3, "-show", walked.ID).Pages)
	_, errs, code := s.cli("walk", "orchard-days", "-against", "nowhere")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "name last, the id of an earlier walk, a site, or an address")
	walkInTheConsole(t, s)
	_, _, code = s.cli("walk", "orchard-days", "-drop", walked.ID)
	assert.Zero(t, code)
	assert.NoDirExists(t, filepath.Join(s.home, "walks/orchard-days", walked.ID))
}

// againstAnAddress compares with a server elsewhere, which is asked slowly, for pages alone, and for what its robots.txt allows.
func againstAnAddress(t *testing.T, s *service) {
	t.Helper()
	asked, last, mu := []string{}, time.Time{}, sync.Mutex{}
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		assert.Equal(t, http.MethodGet, r.Method)
		if asked = append(asked, r.URL.Path); r.URL.Path == "/robots.txt" {
			fmt.Fprint(w, "User-agent: *\nDisallow: /live/slow.php\n")
			return
		}
		assert.Greater(t, time.Since(last), 900*time.Millisecond, "a page a second at most")
		last = time.Now()
		if r.URL.Path == "/live/wide.php" {
			w.WriteHeader(http.StatusGone)
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<title>Live</title>")
	}))
	defer elsewhere.Close()
	compared := walkedBy(t, s, 3, "-browser", "0", "-against", elsewhere.URL+"/live/").Compared
	mu.Lock()
	defer mu.Unlock()
	assert.ElementsMatch(t, []string{"/robots.txt", "/live/", "/live/script.php", "/live/asks.php", "/live/wide.php", "/live/mute.php",
		"/live/alert.php", "/live/new.php"}, asked)
	assert.Equal(t, 7, compared.Pages)
	assert.Contains(t, compared.Differences, walk.Difference{Path: "/alert.php", Change: walk.Found, Text: "fails answers 500"})
	assert.Contains(t, compared.Differences, walk.Difference{Path: "/", Change: walk.Retitle, Text: `"Plot", was "Live"`})
}

// A change of stack, and a trial, are judged by all pages where that is asked for.
func TestAWalkJudgesAChangeOfStackAndATrial(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}))
	defer s.retire(t, "orchard-days")
	for file, text := range map[string]string{"index.php": plotPage("Plot", `<a href="/new.php">new</a>`),
		"new.php": "<?php if (PHP_VERSION_ID < 80000) { http_response_code(500); } ?>" + plotPage("New", "")} {
		require.NoError(t, os.WriteFile(filepath.Join(s.site(t, "orchard-days").DocumentRoot, file), []byte(text), 0o644))
	}
	before := s.site(t, "orchard-days").Stack.PHP.Engine
	out, errs, code := s.cli("restack", "orchard-days", "-php", "7.4", "-walk")
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(t, out, "/new.php fails answers 500")
	assert.Equal(t, before, s.site(t, "orchard-days").Stack.PHP.Engine, "it went back")
	out, errs, code = s.cli("trial", "orchard-days", "-php", "7.4,8.2", "-walk", "-json", "-no-picture")
	assert.Equal(t, 3, code, errs)
	var trial plan.Trial
	require.NoError(t, json.Unmarshal([]byte(out), &trial))
	require.Len(t, trial.Cells, 2)
	for _, cell := range trial.Cells {
		require.NotNil(t, cell.Walked, cell.Summary)
		assert.Equal(t, cell.Stack.PHP == "php-7.4", len(cell.Walked.Worse) > 0, "%s: %v", cell.Stack.PHP, cell.Walked.Worse)
		assert.Equal(t, cell.Stack.PHP == "php-7.4", cell.Verdict == check.Fail, cell.Summary)
	}
}

func walkInTheConsole(t *testing.T, s *service) {
	t.Helper()
	do := steps(t, page(t, s, 1280, 800))
	do("earlier walks", chromedp.Navigate(mustStatus(t, s).Console+"sites/orchard-days/walk"),
		chromedp.WaitVisible(`//nav[@aria-label="Walks that are kept"]/button[2]`))
	do("a walk", chromedp.Click(`//label[contains(., "Chromium")]/input`), chromedp.Click(`//button[text()="Walk"]`),
		chromedp.WaitVisible(`//nav[@aria-label="Walks that are kept"]/button[5]`))
	do("its evidence", chromedp.Click(`//button[starts-with(@aria-label, "/: ")]`),
		chromedp.WaitVisible(`//article[@data-page="/"]//*[contains(., "/alert.php")]`),
		chromedp.WaitVisible(`//p[@role="status"][contains(., "findings")]`))
	do("an earlier one", chromedp.Click(`//nav[@aria-label="Walks that are kept"]/button[4]`),
		chromedp.WaitVisible(`//section[@aria-label="Compared"]`), chromedp.Click(`//button[starts-with(@aria-label, "/wide.php: ")]`),
		chromedp.WaitVisible(`//article[@data-page="/wide.php"]//img`))
}
