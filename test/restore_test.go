package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/safefile"
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

// Points share what did not change between them; what is damaged is named, leaves the rest good, and is made whole by the next point.
func TestRestorePointsShareWhatIsTheSame(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	folder, kept := s.site(t, "orchard-days").Folder, filepath.Join(s.home, "restore/orchard-days")
	point := func() {
		out, errs, code := s.cli("restore", "orchard-days", "-make")
		require.Zero(t, code, out+errs)
	}
	point()
	one := safefile.Bytes(kept)
	time.Sleep(2500 * time.Millisecond) // what is as new as a point is read again by the next
	read := filepath.Join(folder, "wp-content/index.php")
	for i := range 5 {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "wp-content", fmt.Sprint("fern-", i)), bytes.Repeat([]byte{byte(i)}, 5000), 0o644))
		require.NoError(t, os.WriteFile(read, fmt.Appendf(nil, "<?php // %d", i), 0o644)) // of the same length
		point()
	}
	assert.Less(t, float64(safefile.Bytes(kept)), 1.2*float64(one), "six points")
	verified := func(code int) (v client.VerifiedPoints) {
		out, errs, ended := s.cli("restore", "orchard-days", "-verify", "-json")
		require.Equal(t, code, ended, out+errs)
		require.NoError(t, json.Unmarshal([]byte(out), &v))
		return v
	}
	assert.Equal(t, 6, verified(0).Points)

	// The blob of one file is spoilt: that of the third point alone.
	sum := sha256.Sum256([]byte("<?php // 2"))
	name := hex.EncodeToString(sum[:])
	require.NoError(t, os.WriteFile(filepath.Join(kept, ".blobs", name[:2], name), []byte("spoilt"), 0o600))
	all := pointsOf(t, s, "orchard-days")
	out, errs, code := s.cli("restore", "orchard-days", "-back", all[2].ID, "-dry-run")
	assert.NotZero(t, code, out)
	assert.Contains(t, errs, "wp-content/index.php")
	damaged := verified(3).Damaged
	require.Len(t, damaged, 1)
	assert.Equal(t, client.DamagedPoint{ID: all[2].ID, Files: []string{"wp-content/index.php"}}, damaged[0])
	for i, id := range map[int]string{3: all[1].ID, 1: all[3].ID} {
		out, errs, code = s.cli("restore", "orchard-days", "-back", id)
		require.Zero(t, code, out+errs)
		text, err := os.ReadFile(read)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint("<?php // ", i), string(text), "the others are good")
		assert.NoFileExists(t, filepath.Join(folder, "wp-content", fmt.Sprint("fern-", i+1)))
	}
	require.NoError(t, os.WriteFile(read, []byte("<?php // 2"), 0o644))
	point()
	assert.Empty(t, verified(0).Damaged, "it is whole again")
	laid, err := filepath.Glob(filepath.Join(kept, ".laid-*"))
	require.NoError(t, err)
	assert.Empty(t, laid)
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
