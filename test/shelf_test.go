package test

import (
	"archive/zip"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// zipped writes a zip archive.
func zipped(t testing.TB, path string, files map[string]string) string {
	t.Helper()
	file, err := os.Create(path)
	require.NoError(t, err)
	archive := zip.NewWriter(file)
	for name, text := range files {
		entry, err := archive.Create(name)
		require.NoError(t, err)
		_, err = entry.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	require.NoError(t, file.Close())
	return path
}

func TestPluginsAndThemesOfTheShelfAreActiveFromTheStart(t *testing.T) {
	s := shared(t)
	dir := t.TempDir()
	menu := func(version string) map[string]string {
		return map[string]string{"garden-menu/menu.php": "<?php\n/*\nPlugin Name: Garden Menu\nVersion: " + version +
			"\n*/\nadd_action('wp_footer', function () { echo '<p>Menu " + version +
			"</p>'; });\nregister_activation_hook(__FILE__, function () { update_option('garden_menu', 'planted'); });"}
	}
	defer func() {
		page, err := s.Shelf(t.Context())
		require.NoError(t, err)
		for _, item := range page.Items {
			require.NoError(t, s.DropFromShelf(t.Context(), item.File))
		}
	}()
	archives := []string{}
	for name, files := range map[string]map[string]string{"garden-menu.1.2.zip": menu("1.2"), "garden-menu.1.10.zip": menu("1.10"),
		"broken.zip": {"broken/broken.php": "<?php\n/* Plugin Name: Broken\nVersion: 1 */\nregister_activation_hook(__FILE__, function () { " +
			"throw new Exception('the soil is dry'); });"}} {
		archives = append(archives, zipped(t, filepath.Join(dir, name), files))
	}
	out, errs, code := s.cli(append([]string{"shelf", "add"}, archives...)...) // as a shell writes *.zip
	require.Zero(t, code, out+errs)
	_, errs, code = s.cli("shelf", "add", zipped(t, filepath.Join(dir, "notes.zip"), map[string]string{"notes.txt": "x"}))
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "no release, plugin or theme that a CMS knows")
	elsewhere := httptest.NewServer(http.FileServer(http.Dir(dir)))
	defer elsewhere.Close()
	zipped(t, filepath.Join(dir, "valley.zip"), map[string]string{"valley/style.css": "/*\nTheme Name: Valley\nTemplate: " +
		"twentytwentythree\nVersion: 0.3\n*/"})
	out, errs, code = s.cli("shelf", "fetch", elsewhere.URL+"/valley.zip")
	require.Zero(t, code, errs)
	assert.Regexp(t, `valley +theme +0.3 +wordpress +Valley +valley.zip +[0-9a-f]{12}…`, out)

	_, errs, code = s.cli("new", "orchard-days", "-plugin", "garden-menu@2,moss")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `there is no plugin "moss" for wordpress on the shelf; choose from broken, garden-menu`)
	_, errs, code = s.cli("new", "orchard-days", "-plugin", "broken")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "the soil is dry")
	out, errs, code = s.cli("new", "orchard-days", "-cms-version", "6.1", "-plugin", "garden-menu", "-theme", "valley")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "orchard-days")
	made := s.secrets(t, "orchard-days")
	_, text, _ := get(t, made.URL)
	assert.Contains(t, text, "<p>Menu 1.10</p>", "the newest, by its number")
	assert.Equal(t, "planted", query(t, made, "SELECT option_value FROM wp_options WHERE option_name='garden_menu'"))
	assert.Equal(t, "valley", query(t, made, "SELECT option_value FROM wp_options WHERE option_name='stylesheet'"))

	// A stencil that wants the newest CMS brings content and plugins along, and its database is brought up to it.
	_, errs, code = s.cli("stencil", "save", "orchard-days", "modern", "-newest-cms")
	require.Zero(t, code, errs)
	defer s.cli("stencil", "drop", "modern")
	requirePassed(t, s.made(t, client.Request{Name: "modern-days", Stencil: "modern"}))
	defer s.retire(t, "modern-days")
	modern := s.secrets(t, "modern-days")
	assert.Equal(t, "6.8", modern.CMS.Version)
	_, text, _ = get(t, modern.URL)
	assert.Contains(t, text, "<p>Menu 1.10</p>")
	assert.Greater(t, query(t, modern, "SELECT option_value FROM wp_options WHERE option_name='db_version'"),
		query(t, made, "SELECT option_value FROM wp_options WHERE option_name='db_version'"))

	// What lies on the shelf is what was put there.
	file := filepath.Join(s.home, "shelf", "garden-menu.1.10.zip")
	require.NoError(t, os.Chmod(file, 0o600))
	zipped(t, file, menu("6.6"))
	out, _, _ = s.cli("shelf")
	assert.Contains(t, out, "its checksum is another one")
	derived, err := s.PreviewSites(t.Context(), client.Request{Name: "moss-days", Plugins: []string{"garden-menu@6.6"}})
	require.NoError(t, err)
	assert.NotEmpty(t, derived.Problems)
}

func TestReleasesOfTheShelf(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	folder := filepath.Join(s.home, "cms", "moss")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "cms.yaml"), []byte(`cms: moss
title: Moss Pages
recognise: {file: version.txt, version: 'Moss (\S+)'}
configuration: {file: config.php, text: "<?php return 1;"}
untitled: true
`), 0o644))
	for _, version := range []string{"2.9", "2.10"} {
		out, errs, code := s.cli("shelf", "add", zipped(t, filepath.Join(t.TempDir(), "moss-"+version+".zip"),
			map[string]string{"moss-" + version + "/version.txt": "Moss " + version,
				"moss-" + version + "/index.php": "<?php echo 'moss ', trim(file_get_contents('version.txt'));"}))
		require.Zero(t, code, out+errs)
	}
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "moss", CMSVersion: "2.9"},
		client.Request{Name: "moss-days", CMS: "moss", CMSVersion: "newest"}))
	for name, words := range map[string]string{"moss-archive": "moss Moss 2.9", "moss-days": "moss Moss 2.10"} {
		_, text, _ := get(t, s.site(t, name).URL)
		assert.Equal(t, words, text)
	}
}
