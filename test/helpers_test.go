package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

const signpost = `<?php
/**
 * Plugin Name: Signpost
 */
add_action('wp_footer', static function () { echo '<p>TEXT ' . wp_get_environment_type() . '</p>'; });
`

// A local helper is loaded for the sites that are to have it, from outside their folders, and follows its file.
func TestLocalHelpers(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days"}, client.Request{Name: "moss-archive", CMS: "empty"}))
	defer s.retire(t, "orchard-days", "moss-archive")
	folder := filepath.Join(s.home, "helpers")
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".php"), []byte(text), 0o644))
	}
	says := func(text string) string { return "<p>" + text + " " }
	front := func() string {
		status, text, _ := get(t, s.site(t, "orchard-days").URL)
		require.Equal(t, 200, status)
		return text
	}
	_, errs, code := s.cli("helpers", "orchard-days", "-on", "signpost")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "there is no helper signpost")
	_, errs, code = s.cli("settings", "orchard-days", "helpers=../signpost")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "cannot be a helper")

	write("signpost", strings.ReplaceAll(signpost, "TEXT", "to the river"))
	out, errs, code := s.cli("helpers", "orchard-days", "-on", "signpost", "-on", "local.settings")
	require.Zero(t, code, out+errs)
	assert.Contains(t, front(), says("to the river")+"local")
	out, _, _ = s.cli("helpers", "orchard-days")
	assert.Regexp(t, `signpost +yes +.*/helpers/signpost.php +Signpost\nlocal.settings +yes +its CMS +WordPress knows`, out)
	write("signpost", strings.ReplaceAll(signpost, "TEXT", "to the hill"))
	require.Eventually(t, func() bool { return strings.Contains(front(), says("to the hill")) }, 10*time.Second,
		100*time.Millisecond, "a change of its file counts")
	inside, err := filepath.Glob(filepath.Join(s.site(t, "orchard-days").Folder, "*", "*signpost*"))
	require.NoError(t, err)
	assert.Empty(t, inside)

	// What breaks the site is taken back, and what is gone is left out.
	write("broken", "<?php\nthrow new Exception('no such path');\n")
	out, errs, code = s.cli("helpers", "orchard-days", "-on", "broken")
	assert.NotZero(t, code)
	assert.Contains(t, out+errs, "went back")
	assert.Contains(t, front(), says("to the hill"))
	require.NoError(t, os.Remove(filepath.Join(folder, "signpost.php")))
	require.Eventually(t, func() bool { return !strings.Contains(front(), says("to the hill")) }, 10*time.Second, 100*time.Millisecond)
	out, _, _ = s.cli("helpers", "orchard-days")
	assert.Regexp(t, `signpost +yes +nowhere any more`, out)
	out, errs, code = s.cli("helpers", "orchard-days", "-off", "signpost", "-off", "local.settings")
	require.Zero(t, code, out+errs)
	left := filepath.Join(s.home, "run/php/orchard-days/helpers/*")
	require.Eventually(t, func() bool { found, _ := filepath.Glob(left); return len(found) == 0 }, 10*time.Second, 100*time.Millisecond)

	// Without a CMS that has plugins it is loaded first.
	write("plain", "<?php // Says where it is\nheader('X-Signpost: moss');\n")
	out, errs, code = s.cli("helpers", "moss-archive", "-on", "plain")
	require.Zero(t, code, out+errs)
	_, _, header := get(t, s.site(t, "moss-archive").URL)
	assert.Equal(t, "moss", header.Get("X-Signpost"))
}
