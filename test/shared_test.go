package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// A plugin that several sites share is a folder of its owner's, which stands in each at its place: on both web servers, in PHP and in
// commands, told by stencils, and gone from a site without a trace.
func TestAFolderThatSitesShare(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	if !mustStatus(t, s).Confinement.Cells {
		t.Skip("there are no cells here")
	}
	own := filepath.Join(filepath.Dir(s.home), "garden-beds")
	for name, text := range map[string]string{"style.css": "body { color: green }",
		"garden-beds.php": "<?php\n/* Plugin Name: Garden Beds */\n" +
			"add_action('wp_head', function () { wp_enqueue_style('beds', plugins_url('style.css', __FILE__)); }, 1);\n"} {
		require.NoError(t, os.MkdirAll(own, 0o777))
		require.NoError(t, os.Chmod(own, 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(own, name), []byte(text), 0o644))
	}
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days"}, client.Request{Name: "moss-archive", Web: "apache"}))
	const place = "wp-content/plugins/garden-beds"
	for _, name := range []string{"orchard-days", "moss-archive"} {
		out, errs, code := s.cli("settings", name, "-allow", own+"="+place)
		require.Zero(t, code, out+errs)
		status, _, answer := get(t, s.site(t, name).URL+place+"/style.css")
		assert.Equal(t, 200, status, name)
		assert.Contains(t, answer.Get("Content-Type"), "text/css", name)
		out, errs, code = run(t, "run", name, "-home", s.home, "--", "sh", "-c", "ls "+place+" && echo from "+name+" >> "+place+"/notes.txt")
		assert.Zero(t, code, errs)
		assert.Contains(t, out, "garden-beds.php")
		made := s.secrets(t, name)
		_, err := pool(t, made).Exec("UPDATE "+made.Prefix+"options SET option_value=? WHERE option_name='active_plugins'",
			`a:1:{i:0;s:27:"garden-beds/garden-beds.php";}`)
		require.NoError(t, err)
		_, text, _ := get(t, s.site(t, name).URL)
		assert.Contains(t, text, s.site(t, name).URL+place+"/style.css", name)
	}
	notes, err := os.ReadFile(filepath.Join(own, "notes.txt"))
	require.NoError(t, err)
	assert.Equal(t, "from orchard-days\nfrom moss-archive\n", string(notes), "it is one folder")
	s.cli("stop", "orchard-days")
	_, errs, code := s.cli("start", "orchard-days")
	require.Zero(t, code, errs)
	out, errs, code := s.cli("stencil", "save", "orchard-days", "beds")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "beds is without "+place)
	out, errs, code = s.cli("new", "apple-days", "-stencil", "beds")
	require.Zero(t, code, out+errs)
	assert.Contains(t, s.site(t, "apple-days").Notice, "-allow FOLDER="+place)
	out, errs, code = s.cli("copy", "orchard-days", "pear-days")
	require.Zero(t, code, out+errs)
	status, _, _ := get(t, s.site(t, "pear-days").URL+place+"/style.css")
	assert.Equal(t, 200, status, "a copy has it as well")
	refusals := map[string]string{own + "=../beside": "cannot be used", own + "=wp-content": "something at wp-content already",
		own + "=wp-config.php": "something at wp-config.php already", own + "=" + place + "/below": "two folders would stand at",
		filepath.Join(own, "none") + "=" + "wp-content/none": "not a folder that the service's account can reach"}
	for asked, words := range refusals {
		_, errs, code = s.cli("settings", "orchard-days", "-allow", asked)
		assert.Equal(t, 2, code, asked)
		assert.Contains(t, errs, words, asked)
	}
	link := filepath.Join(filepath.Dir(own), "link")
	require.NoError(t, os.Symlink(own, link))
	_, errs, code = s.cli("settings", "orchard-days", "-allow", link+"=wp-content/link")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "name the folder itself: "+own+"=wp-content/link")

	// A folder inside a shared one, which a site exchanges for a link to the service's home: nobody's cell gets what it leads to.
	below := filepath.Join(own, "below")
	require.NoError(t, os.Mkdir(below, 0o755))
	s.cli("stop", "moss-archive")
	_, errs, code = s.cli("settings", "moss-archive", "-allow", below+"=wp-content/below")
	require.Zero(t, code, errs)
	out, errs, code = run(t, "run", "moss-archive", "-home", s.home, "--", "ls", "-d", "wp-content/below")
	assert.Zero(t, code, "of a stopped site as well: %s%s", out, errs)
	require.NoError(t, os.Remove(below))
	require.NoError(t, os.Symlink(s.home, below))
	out, _, code = run(t, "run", "moss-archive", "-home", s.home, "--", "ls", "wp-content/below")
	assert.NotZero(t, code)
	assert.NotContains(t, out, "home.json")
	_, errs, code = s.cli("start", "moss-archive")
	assert.NotZero(t, code)
	assert.Contains(t, errs, "take "+below)
	_, errs, code = s.cli("settings", "moss-archive", "-drop", below)
	require.Zero(t, code, errs)
	_, errs, code = s.cli("start", "moss-archive")
	require.Zero(t, code, errs)
	for _, name := range []string{"orchard-days", "moss-archive"} {
		out, errs, code = s.cli("settings", name, "-drop", own)
		require.Zero(t, code, out+errs)
		assert.NoDirExists(t, filepath.Join(s.site(t, name).Folder, place))
	}
	_, errs, code = s.cli("retire", "pear-days", "-yes")
	require.Zero(t, code, errs)
	assert.FileExists(t, filepath.Join(own, "garden-beds.php"), "it is its owner's")
}
