package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

// An extension that the engine does not bring is fetched where a site asks for it, and is on in that site alone.
func TestExtensionsBesideThoseOfTheEngine(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "reed", CMS: "empty", PHP: "8.2"}, client.Request{Name: "sedge", CMS: "empty",
		PHP: "8.2"}))
	defer s.retire(t, "reed", "sedge")
	for _, name := range []string{"reed", "sedge"} {
		require.NoError(t, os.WriteFile(filepath.Join(s.site(t, name).Folder, "public/index.php"),
			[]byte("<?php echo extension_loaded('apcu') ? 'with' : 'without', ' apcu';"), 0o644))
	}
	said := func(name string) string {
		_, text, _ := get(t, s.site(t, name).URL)
		return text
	}
	out, errs, code := s.cli("engines", "extensions", "php-8.2", "-json")
	require.Zero(t, code, errs)
	var all []client.Extension
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	packages := map[string]string{}
	for _, each := range all {
		packages[each.Name] = each.Package
	}
	assert.Equal(t, "php8.2-apcu", packages["apcu"])
	assert.Equal(t, "php8.2-imagick", packages["imagick"])
	assert.Equal(t, "php8.2-ldap", packages["ldap"], "also those of PHP's own source")
	for _, name := range []string{"mysql", "fpm", "common", "gd"} {
		assert.NotContains(t, packages, name, "it is there, or no extension")
	}

	out, errs, code = s.cli("settings", "reed", "-extension", "apcu=on")
	require.Zero(t, code, out+errs)
	assert.Equal(t, "with apcu", said("reed"))
	assert.Equal(t, "without apcu", said("sedge"))
	out, _, _ = s.cli("settings", "sedge")
	assert.Regexp(t, `switched off +.*apcu`, out)
	out, _, _ = s.cli("settings", "reed")
	assert.Regexp(t, `extensions +apcu, `, out)
	out, errs, code = run(t, "run", "reed", "-home", s.home, "--", "php", "-m")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "\napcu\n")
	s.do(t, plan.Stop, "sedge")
	requirePassed(t, s.do(t, plan.Start, "sedge"))
	assert.Equal(t, "without apcu", said("sedge"), "nor when it starts again")
	out, errs, code = s.cli("copy", "reed", "rush")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "rush")
	assert.Equal(t, "with apcu", said("rush"), "a copy has it")
	out, errs, code = s.cli("restack", "reed", "-php", "8.4")
	require.Zero(t, code, out+errs)
	assert.Equal(t, "with apcu", said("reed"), "another PHP gets its own")

	// The console shows which are on, and offers what Debian has besides.
	ctx := page(t, s, 1280, 800)
	on := func(name string) bool {
		is, err := chromedp.Run(ctx, chromedp.Evaluate[bool](
			`[...document.querySelectorAll("label")].find((l) => l.textContent.trim() === "`+name+`")?.querySelector("input").checked ?? false`))
		require.NoError(t, err)
		return is
	}
	do := steps(t, ctx)
	do("settings", chromedp.Navigate(mustStatus(t, s).Console+"sites/sedge/settings"),
		chromedp.WaitVisible(`//button[text()="another one, from Debian…"]`))
	assert.True(t, on("curl"))
	assert.False(t, on("apcu"), "fetched, and of another site")
	do("what Debian has", chromedp.Click(`//button[text()="another one, from Debian…"]`),
		chromedp.WaitReady(`//select[@name="extension"]/option[@value="imagick"]`),
		setValue("select[name=extension]", "HTMLSelectElement", "imagick"), chromedp.WaitVisible(`//button[text()="Apply"][not(@disabled)]`))
	assert.True(t, on("imagick"))

	_, errs, code = s.cli("settings", "sedge", "-extension", "fern=on")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `this PHP brings no extension "fern"`)
	assert.Contains(t, errs, "vessik engines extensions lists")
	_, errs, code = s.cli("engines", "extensions", "php-8.2", "fern")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `Debian has no extension "fern" for php-8.2`)
	_, errs, code = s.cli("engines", "extensions", "nginx")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `no PHP fits "nginx"`)
}
