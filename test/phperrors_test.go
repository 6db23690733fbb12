package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// bed has PHP complain of all kinds of things.
const bed = `<?php
function fern() {
    return $undefined . 'fern';
}
if (isset($_GET['fatal'])) {
    throw new RuntimeException("no such bed in /nowhere.php:1\nat all");
}
@file_get_contents('/nothing-there'); // silenced: no complaint
error_log('what the site writes itself');
echo fern(), trigger_error('moss is old', E_USER_WARNING);
`

func TestWhatPHPSaid(t *testing.T) {
	s := shared(t)
	ctx := context.Background()
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"},
		client.Request{Name: "moss-archive", CMS: "empty", PHP: "7.4", Web: "apache"}))
	defer s.retire(t, "orchard-days", "moss-archive")
	said := func(name string) (all []client.PHPError) {
		out, errs, code := s.cli("errors", name, "-json")
		require.Zero(t, code, errs)
		require.NoError(t, json.Unmarshal([]byte(out), &all))
		return all
	}
	for _, name := range []string{"orchard-days", "moss-archive"} {
		assert.Empty(t, said(name))
		site := s.site(t, name)
		require.NoError(t, os.WriteFile(filepath.Join(site.DocumentRoot, "bed.php"), []byte(bed), 0o644))
		for range 3 {
			status, _, _ := get(t, site.URL+"bed.php?of=kert%20k%C3%A9k")
			assert.Equal(t, 200, status)
		}
		status, _, _ := get(t, site.URL+"bed.php?fatal=1")
		assert.Equal(t, 500, status)
		file, err := filepath.Rel(site.Folder, filepath.Join(site.DocumentRoot, "bed.php"))
		require.NoError(t, err)
		all := said(name)
		require.Len(t, all, 3, "%+v", all)
		lines := []string{}
		for _, e := range all {
			lines = append(lines, fmt.Sprintf("%s %s:%d %d %s", e.Kind, e.File, e.Line, e.Count, e.Request))
			assert.WithinDuration(t, time.Now(), e.LastAt, time.Minute)
			assert.False(t, e.FirstAt.After(e.LastAt))
		}
		undefined := map[string]string{"orchard-days": "warning", "moss-archive": "notice"}[name] // PHP 8 finds it worse
		assert.ElementsMatch(t, []string{"error " + file + ":6 1 GET /bed.php?fatal=1",
			undefined + " " + file + ":3 3 GET /bed.php?of=kert%20k%C3%A9k", "warning " + file + ":10 3 GET /bed.php?of=kert%20k%C3%A9k"}, lines)
		fatal := all[slices.IndexFunc(all, func(e client.PHPError) bool { return e.Kind == "error" })]
		assert.Contains(t, fatal.Text, "Uncaught RuntimeException: no such bed in /nowhere.php:1\nat all")
		assert.Equal(t, 3, fatal.Source[0].Line)
		assert.Contains(t, fatal.Source[3].Text, "throw new RuntimeException")
		assert.Equal(t, 3, s.site(t, name).PHPErrors)
	}
	out, _, _ := s.cli("errors", "orchard-days")
	assert.Regexp(t, `(?s)warning public/bed.php:10\n    moss is old\n    3 times, first at .*, for GET /bed.php\?of=kert.*\n`+
		`  >    10  echo fern`, out)
	seenInTheConsole(t, s)
	renamed, err := s.Rename(ctx, "orchard-days", client.Rename{Name: "apple-days"})
	require.NoError(t, err)
	requirePassed(t, s.watch(t, renamed))
	counts := []int64{}
	for _, e := range said("apple-days") {
		counts = append(counts, e.Count)
	}
	assert.ElementsMatch(t, []int64{1, 3, 3}, counts, "by its new name nothing is read again")
	renamed, err = s.Rename(ctx, "apple-days", client.Rename{Name: "orchard-days"})
	require.NoError(t, err)
	requirePassed(t, s.watch(t, renamed))
	_, errs, code := s.cli("errors", "orchard-days", "-forget")
	require.Zero(t, code, errs)
	assert.Empty(t, said("orchard-days"))
	assert.Equal(t, 0, s.site(t, "orchard-days").PHPErrors)

	// A log that a site fills is read in bounds, and what its text is cannot lead out of its folder.
	log := filepath.Join(s.home, "logs/sites/orchard-days/php-error.log")
	file, err := os.OpenFile(log, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	outside := s.site(t, "orchard-days").Folder + "/../../token"
	for i := range 20000 {
		fmt.Fprintf(file, "[28-Nov-2026 18:00:00 UTC] PHP Warning:  %s in %s on line %d\n", strings.Repeat("moss ", 20), outside, i)
	}
	require.NoError(t, file.Close())
	many := said("orchard-days")
	assert.Len(t, many, 300)
	for _, e := range many {
		assert.Empty(t, e.Source)
	}
	list, err := s.PHPErrors(ctx, "moss-archive")
	require.NoError(t, err)
	assert.Len(t, list, 3, "of others nothing is lost")
}

// seenInTheConsole looks at the badge, and at what is behind it.
func seenInTheConsole(t *testing.T, s *service) {
	t.Helper()
	do := steps(t, page(t, s, 1280, 800))
	do("the badge", chromedp.WaitVisible(chromedp.CSS(`[data-site=orchard-days] a[href="/sites/orchard-days/errors"]`)),
		chromedp.Click(chromedp.CSS(`[data-site=orchard-days] a[href="/sites/orchard-days/errors"]`)),
		chromedp.WaitVisible(`//*[@data-place="public/bed.php:6"]//*[contains(., "no such bed")]`),
		chromedp.WaitVisible(`//*[@data-place="public/bed.php:10"]//mark[contains(., "trigger_error")]`))
}
