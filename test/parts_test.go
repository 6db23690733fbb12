package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

func partsOf(t *testing.T, s *service, name string) map[string]client.Part {
	t.Helper()
	out, errs, code := s.cli("parts", name, "-json")
	require.Zero(t, code, errs)
	var all []struct{ Parts []client.Part }
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	found := map[string]client.Part{}
	for _, p := range all[0].Parts {
		found[p.Name] = p
	}
	return found
}

// ice is a plugin whose versions are good, bad in the middle of a page, and bad from the start.
func ice(t *testing.T, version, code string) string {
	return zipped(t, filepath.Join(t.TempDir(), "ice."+version+".zip"), map[string]string{"ice/ice.php": "<?php\n/* Plugin Name: Ice &amp; " +
		"Snow\nVersion: " + version + " */\n" + code})
}

func TestPluginsAndThemesOfSitesAreChanged(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days"}, client.Request{Name: "moss-archive", CMSVersion: "5.7"},
		client.Request{Name: "empty-days", CMS: "empty"}))
	defer s.retire(t, "orchard-days", "moss-archive", "empty-days")
	defer func() {
		for _, file := range []string{"ice.1.2.zip", "ice.1.3.zip", "valley.zip"} {
			s.cli("shelf", "drop", file)
		}
	}()
	assert.Equal(t, client.Part{Kind: "theme", Name: "twentytwentyfive", Title: "Twenty Twenty-Five",
		Version: partsOf(t, s, "orchard-days")["twentytwentyfive"].Version, On: true}, partsOf(t, s, "orchard-days")["twentytwentyfive"])
	good := ice(t, "1.2", "add_action('wp_footer', function () { echo '<p>it snows</p>'; });")
	valley := zipped(t, filepath.Join(t.TempDir(), "valley.zip"), map[string]string{"valley/style.css": "/*\nTheme Name: Valley\nTemplate: " +
		"twentytwentyfive\nVersion: 0.3\n*/"})

	// Into two sites at once, from the archive.
	out, errs, code := s.cli("parts", "orchard-days", "moss-archive", "-add", good)
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "\n2 of 2 sites changed\n")
	for _, name := range []string{"orchard-days", "moss-archive"} {
		assert.Equal(t, client.Part{Kind: "plugin", Name: "ice", Title: "Ice & Snow", Version: "1.2", On: true}, partsOf(t, s, name)["ice"])
		_, page, _ := get(t, s.site(t, name).URL)
		assert.Contains(t, page, "it snows")
	}
	out, errs, code = s.cli("parts", "orchard-days", "-add", valley, "-on", "valley", "-drop", "akismet")
	require.Zero(t, code, out+errs)
	now := partsOf(t, s, "orchard-days")
	assert.True(t, now["valley"].On && now["twentytwentyfive"].On, "a theme and the one that it is built on")
	assert.NotContains(t, now, "akismet")
	assert.NoDirExists(t, filepath.Join(s.site(t, "orchard-days").Folder, "wp-content/plugins/akismet"))
	assert.Contains(t, pointsOf(t, s, "orchard-days")[0].Note, "drop akismet")

	// A version that breaks the pages in the middle, where their status says nothing of it, goes again by itself.
	folder := s.site(t, "orchard-days").Folder
	out, errs, code = s.cli("parts", "orchard-days", "moss-archive", "-add",
		ice(t, "1.3", "add_action('wp_footer', function () { thaw_is_missing(); });"))
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(t, out, "\n0 of 2 sites changed\nleft as it was: orchard-days, moss-archive\n")
	assert.Contains(t, out, "the page breaks off in the middle")
	assert.Contains(t, errs, "its changed plugins and themes (add ice@1.3)")
	assert.Equal(t, "1.2", partsOf(t, s, "orchard-days")["ice"].Version)
	assert.Equal(t, []string{"ice.php"}, fileNames(t, filepath.Join(folder, "wp-content/plugins/ice")))

	// One that keeps WordPress from loading is listed, and switched off, all the same.
	require.NoError(t, os.WriteFile(filepath.Join(folder, "wp-content/plugins/ice/ice.php"),
		[]byte("<?php\n/* Plugin Name: Ice */\nthaw_is_missing();"), 0o644))
	status, _, _ := get(t, s.site(t, "orchard-days").URL)
	require.Equal(t, 500, status)
	assert.True(t, partsOf(t, s, "orchard-days")["ice"].On)
	out, errs, code = s.cli("parts", "orchard-days", "-off", "ice")
	require.Zero(t, code, out+errs)
	assert.False(t, partsOf(t, s, "orchard-days")["ice"].On)
	status, _, _ = get(t, s.site(t, "orchard-days").URL)
	assert.Equal(t, 200, status)
	s.do(t, plan.Stop, "orchard-days")
	assert.False(t, partsOf(t, s, "orchard-days")["ice"].On, "also of a site that does not run")
	s.do(t, plan.Start, "orchard-days")

	for arguments, says := range map[string][]string{
		"-drop valley": {"-drop: the site uses the theme valley", "switch another one on first"},
		"-on fern":     {`-on: the site has no plugin or theme "fern"`, "choose one of ice, twentytwentyfive, valley"},
		"-add fern":    {`-add: no plugin or theme "fern" for wordpress is on the shelf`, "the shelf has ice"},
	} {
		flag, value, _ := strings.Cut(arguments, " ")
		_, errs, code = s.cli("parts", "orchard-days", flag, value)
		assert.Equal(t, 2, code, errs)
		for _, part := range says {
			assert.Contains(t, errs, part)
		}
	}
	out, errs, code = s.cli("parts", "orchard-days", "empty-days", "-off", "akismet")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "empty-days: name: nothing is known", "why")
	assert.Contains(t, out, "0 of 2 sites changed\nrefused: orchard-days, empty-days\n")
	_, errs, code = s.cli("parts", "empty-days")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing is known of the plugins and themes of Empty PHP site")
}

// What a site lays where plugins belong leads nothing out of its folder.
func TestAPartIsPutIntoTheSitesFolderOnly(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	defer s.cli("shelf", "drop", "ice.1.2.zip")
	plugins := filepath.Join(s.site(t, "orchard-days").Folder, "wp-content/plugins")
	require.NoError(t, syscall.Mkfifo(filepath.Join(plugins, "pipe.php"), 0o666)) // nobody waits for who writes into it
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(plugins, "passwd.php")))
	assert.Contains(t, partsOf(t, s, "orchard-days"), "akismet")
	outside := filepath.Join(s.home, "shelf")
	require.NoError(t, os.RemoveAll(plugins))
	require.NoError(t, os.Symlink(outside, plugins))
	_, errs, code := s.cli("parts", "orchard-days", "-add", ice(t, "1.2", ""))
	assert.NotZero(t, code)
	assert.Contains(t, errs, "plugins: not a directory")
	assert.NotContains(t, fileNames(t, outside), "ice")
	require.NoError(t, os.Remove(plugins))
}

func fileNames(t *testing.T, folder string) (names []string) {
	t.Helper()
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	for _, entry := range entries {
		names = append(names, entry.Name())
	}
	return names
}
