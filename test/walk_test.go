package test

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
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
	"listed.php":   `<?php usleep(4000000); echo '<p>no title</p>';`,
	"robots.txt":   "User-agent: *\nSitemap: /map.xml\n",
	"map.xml":      `<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>/listed.php</loc></url></urlset>`,
	"infinite.php": `<?php $n = (int) $_GET['n']; echo "<title>Day $n</title><a href='/infinite.php?n=", $n + 1, "'>next</a>";`,
}

func TestAWalkFindsWhatIsWrongAndNothingElse(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}, client.Request{Name: "fern-archive"}))
	defer s.retire(t, "orchard-days", "fern-archive")
	for file, text := range garden {
		require.NoError(t, os.WriteFile(filepath.Join(s.site(t, "orchard-days").DocumentRoot, file), []byte(text), 0o644))
	}
	out, errs, code := s.cli("walk", "orchard-days", "-json", "-slow", "3000", "-pages", "40")
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
	out, _, _ = s.cli("walk", "orchard-days", "-csv", "-pages", "5")
	lines, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"path", "status", "milliseconds", "title", "kind", "where", "text"}, lines[0])
	out, _, code = s.cli("walk", "orchard-days", "-junit", "-pages", "5")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, `<testsuite name="orchard-days"`)
	_, errs, code = s.cli("walk", "orchard-days", "-as", "nobody")
	assert.NotZero(t, code)
	assert.NotEmpty(t, errs)

	// A new WordPress is in order, also for whoever signs in.
	for _, more := range [][]string{nil, {"-as", s.site(t, "fern-archive").Administrator.Name}} {
		out, errs, code = s.cli(append([]string{"walk", "fern-archive", "-slow", "60000"}, more...)...)
		assert.Zero(t, code, out+errs)
		assert.Regexp(t, `^[5-9] pages and \d+ files in [\d.]+ s: 0 findings\n$`, out)
	}
	walkInTheConsole(t, s)
}

func walkInTheConsole(t *testing.T, s *service) {
	t.Helper()
	do := steps(t, page(t, s, 1280, 800))
	do("a walk", chromedp.Navigate(mustStatus(t, s).Console+"sites/orchard-days/walk"), chromedp.Click(`//button[text()="Walk"]`),
		chromedp.WaitVisible(`//*[@data-page="/"]//*[contains(., "/no-fern.png")]`),
		chromedp.WaitVisible(`//p[@role="status"][contains(., "findings")]`))
}
