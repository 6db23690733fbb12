package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// A site goes back to what it was: files and database, under the name that it has now. What it was in between is kept, too.
func TestASiteGoesBackToARestorePoint(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer func() { s.retire(t, "apple-days") }()
	folder := s.site(t, "orchard-days").Folder
	out, _, code := s.cli("restore", "orchard-days")
	require.Zero(t, code)
	assert.Contains(t, out, "has no restore point yet")
	out, errs, code := s.cli("restore", "orchard-days", "-make", "-note", "before the new theme")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "go back to it with: vessik restore orchard-days -back ")
	point := pointsOf(t, s, "orchard-days")[0]
	assert.Equal(t, "before the new theme", point.Note)
	assert.True(t, point.Kept)

	// Everything is spoilt, and the site is called otherwise by now.
	theme := filepath.Join(folder, "wp-content/themes/twentytwentyfive")
	require.NoError(t, os.WriteFile(filepath.Join(theme, "functions.php"), []byte("<?php // nothing is left"), 0o644))
	require.NoError(t, os.RemoveAll(filepath.Join(folder, "wp-content/plugins")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(folder, "wp-content/plugins"))) // a link in the place of a folder
	require.NoError(t, os.WriteFile(filepath.Join(folder, "later.txt"), []byte("later"), 0o644))
	made := s.site(t, "orchard-days")
	inPHP := func(name, code string) string {
		out, errs, status := run(t, "run", name, "-home", s.home, "--", "php", "-r", "require 'wp-load.php'; "+code)
		require.Zero(t, status, errs)
		return out
	}
	inPHP("orchard-days", `update_option('blogdescription', 'spoilt'); wp_insert_post(['post_title' => 'Later', 'post_status' => 'publish']);`)
	out, errs, code = s.cli("restore", "orchard-days", "-back", point.ID, "-dry-run")
	require.Zero(t, code, errs)
	for _, part := range []string{"files that change: 2\n", "twentytwentyfive/functions.php", "files that go: 1\n  later.txt", "_posts has",
		"Nothing was changed."} {
		assert.Contains(t, out, part)
	}
	assert.Equal(t, "spoilt", inPHP("orchard-days", "echo get_option('blogdescription');"), "nothing was changed")
	require.Zero(t, func() int { _, _, code := s.cli("rename", "orchard-days", "apple-days"); return code }())

	out, errs, code = s.cli("restore", "apple-days", "-back", point.ID)
	require.Zero(t, code, out+errs)
	now := s.site(t, "apple-days")
	assert.NotEqual(t, made.Folder, now.Folder)
	assert.NoFileExists(t, filepath.Join(now.Folder, "later.txt"))
	info, err := os.Lstat(filepath.Join(now.Folder, "wp-content/plugins"))
	require.NoError(t, err)
	assert.True(t, info.IsDir())
	assert.FileExists(t, filepath.Join(now.Folder, "wp-content/plugins/index.php"))
	assert.DirExists(t, "/etc/ssl", "what the link led to is untouched")
	assert.Equal(t, now.URL+" 0", inPHP("apple-days",
		"echo home_url('/'), get_option('blogdescription'), ' ', count(get_posts(['title' => 'Later', 'post_status' => 'any']));"))

	// And forward again.
	all := pointsOf(t, s, "apple-days")
	require.Equal(t, "before going back to "+point.ID, all[0].Note)
	out, errs, code = s.cli("restore", "apple-days", "-back", all[0].ID, "-stay")
	require.Zero(t, code, out+errs)
	assert.FileExists(t, filepath.Join(now.Folder, "later.txt"))
	assert.Equal(t, "spoilt", inPHP("apple-days", "echo get_option('blogdescription');"))
	_, errs, code = s.cli("restore", "apple-days", "-back", "../apple-days")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `ID: there is no restore point "`)
	for _, each := range pointsOf(t, s, "apple-days") {
		_, errs, code = s.cli("restore", "apple-days", "-drop", each.ID)
		require.Zero(t, code, errs)
	}
	assert.Empty(t, pointsOf(t, s, "apple-days"))
	left, err := os.ReadDir(filepath.Join(s.home, "restore/apple-days"))
	require.NoError(t, err)
	assert.Empty(t, left, "nor is anything left of them")
}

// A point that breaks the site is left again by itself.
func TestGoingBackToWhatDoesNotWorkIsTakenBack(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "moss-archive"))
	defer s.retire(t, "moss-archive")
	functions := filepath.Join(s.site(t, "moss-archive").Folder, "wp-content/themes/twentytwentyfive/functions.php")
	whole, err := os.ReadFile(functions)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(functions, []byte("<?php seeds_missing();"), 0o644))
	require.Zero(t, func() int { _, _, code := s.cli("restore", "moss-archive", "-make"); return code }())
	require.NoError(t, os.WriteFile(functions, whole, 0o644))
	out, errs, code := s.cli("restore", "moss-archive", "-back", pointsOf(t, s, "moss-archive")[0].ID)
	assert.Equal(t, 3, code)
	assert.Contains(t, errs, "on the restore point ")
	assert.Contains(t, errs, "went back to what it was, proven by a second report")
	assert.Contains(t, out, "seeds_missing()")
	again, err := os.ReadFile(functions)
	require.NoError(t, err)
	assert.Equal(t, string(whole), string(again))
}

func pointsOf(t *testing.T, s *service, name string) (points []client.RestorePoint) {
	t.Helper()
	out, errs, code := s.cli("restore", name, "-json")
	require.Zero(t, code, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &points))
	return points
}
