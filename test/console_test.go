package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chromium is a headless browser with one empty page.
func chromium(t testing.TB, width, height int) context.Context {
	t.Helper()
	path, err := exec.LookPath("chromium")
	require.NoError(t, err, "Debian's chromium is needed: make setup-test")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(width, height), chromedp.UserDataDir(t.TempDir()), chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 240*time.Second)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height))))
	return ctx
}

// page is a browser that is signed in to a service's console.
func page(t testing.TB, s *service, width, height int) context.Context {
	t.Helper()
	ctx := chromium(t, width, height)
	link, err := s.Link(context.Background())
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(link.URL), chromedp.WaitVisible(`[role=table]`)))
	return ctx
}

func TestTheConsole(t *testing.T) {
	s := shared(t)
	ctx := page(t, s, 1280, 800)
	do := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		require.NoError(t, chromedp.Do(ctx, steps...))
	}
	text := func(selector string) string {
		t.Helper()
		found, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(selector)))
		require.NoError(t, err)
		return found
	}
	row := `[data-site="orchard-days"]`

	// A problem is told beside its field before anything is made.
	do(chromedp.Click(`//button[text()="New site"]`), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "fernhollow"), chromedp.WaitVisible(chromedp.CSS(`input[name=name][aria-invalid=true]`)))
	assert.Contains(t, text(`form[aria-label="New site"]`), "exists")
	do(chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:disabled`)))

	// Make a site and watch its strip fill in.
	do(chromedp.Evaluate[chromedp.Void](`void document.querySelector("input[name=name]").select()`), chromedp.KeyEvent("orchard-days"))
	do(chromedp.WaitVisible(chromedp.CSS(`input[placeholder="Orchard Days"]`)), chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(chromedp.CSS(`button[type=submit]`)))
	do(chromedp.WaitVisible(chromedp.CSS(row)), chromedp.WaitVisible(chromedp.CSS(row+`[data-state=running]`)), chromedp.WaitReady(chromedp.CSS(row+` [data-check=files-private][data-verdict=pass]`)))
	assert.Contains(t, text(row), "Orchard Days")
	assert.Equal(t, "running", string(s.site(t, "orchard-days").State))

	// Read a failing report.
	folder := s.site(t, "orchard-days").Folder
	require.NoError(t, os.WriteFile(filepath.Join(folder, "wp-content/themes/twentytwentythree/functions.php"), []byte("<?php seeds_missing();"), 0o644))
	do(chromedp.Click(chromedp.CSS(row+` a[href="/sites/orchard-days"]`)), chromedp.WaitVisible(`//button[text()="verify again"][not(@disabled)]`), chromedp.Click(`//button[text()="verify again"][not(@disabled)]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-check=front-page][data-shown=fail]`)))
	do(chromedp.WaitVisible(chromedp.CSS(`section[aria-label="Front page"]`)))
	evidence := text(`section[aria-label="Front page"]`)
	assert.Contains(t, evidence, "seeds_missing()")
	assert.Contains(t, evidence, "remedy")

	// Retire it, after being asked.
	do(chromedp.WaitVisible(`//button[text()="retire…"][not(@disabled)]`), chromedp.Click(`//button[text()="retire…"]`), chromedp.WaitVisible(chromedp.CSS(`[role=alertdialog]`)))
	assert.Contains(t, text(`[role=alertdialog]`), folder)
	do(chromedp.Click(`//button[text()="Retire"]`), chromedp.WaitVisible(chromedp.CSS(`[role=table]`)), chromedp.WaitNotPresent(chromedp.CSS(row)))
	_, err := s.Site(context.Background(), "orchard-days", false)
	assert.Error(t, err)

	// By keyboard: filter, and open the new row.
	selected := chromedp.Evaluate[chromedp.Void](`void document.activeElement.select()`) // the protocol sends the slash as a letter, too
	do(chromedp.KeyEvent("/"), chromedp.WaitVisible(chromedp.CSS(`input[type=search]:focus`)), selected, chromedp.KeyEvent("seed"), chromedp.WaitNotPresent(chromedp.CSS(`[data-site=fernhollow]`)), chromedp.WaitVisible(chromedp.CSS(`[data-site=seed-exchange]`)))
	do(chromedp.KeyEvent("\x1b"), chromedp.Evaluate[chromedp.Void](`void document.activeElement.blur()`), chromedp.KeyEvent("n"), chromedp.WaitVisible(chromedp.CSS(`input[name=name]`)))
}

func TestTheConsoleAsksToSignIn(t *testing.T) {
	s := shared(t)
	ctx := chromium(t, 1280, 800)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(mustStatus(t, s).Console), chromedp.WaitVisible(`//h1[text()="Sign in to Vessik"]`)))
}

// What concerns a site's stack: changed, set, read, followed and tried in the console.
func TestTheConsoleAndAStack(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	ctx := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	do := func(what string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		within, cancel := context.WithTimeout(ctx, 40*time.Second)
		defer cancel()
		require.NoError(t, chromedp.Do(within, steps...), what)
	}
	text := func(selector string) string {
		t.Helper()
		found, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(selector)))
		require.NoError(t, err)
		return found
	}
	set := func(selector, kind, value string) chromedp.Action[chromedp.Void] { // as a hand would, so that React hears it
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void (() => { const e = document.querySelector(%q); Object.getOwnPropertyDescriptor(%s.prototype, "value").set.call(e, %q); e.dispatchEvent(new Event(%q, { bubbles: true })) })()`,
			selector, kind, value, map[string]string{"HTMLSelectElement": "change", "HTMLInputElement": "input"}[kind]))
	}

	do("change the stack", chromedp.Navigate(console+"/sites/orchard-days"), chromedp.WaitVisible(chromedp.CSS(`[data-check=php-version]`)), chromedp.Click(chromedp.CSS(`[data-check=php-version]`)),
		chromedp.WaitReady(chromedp.CSS(`select[name=stack-php] option[value="php-7.4"]`)), set("select[name=stack-php]", "HTMLSelectElement", "php-7.4"),
		chromedp.WaitVisible(`//button[text()="Switch"]`), chromedp.Click(`//button[text()="Switch"]`), chromedp.WaitVisible(`//p[contains(., "longest time without an answer")]`))
	assert.Equal(t, "php-7.4", s.site(t, "orchard-days").Stack.PHP.Engine)

	do("a setting that there is none of", chromedp.Click(`//a[text()="Settings"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=memory_limit]`)), set("input[name=memory_limit]", "HTMLInputElement", "444M"),
		chromedp.Click(`//button[text()="Apply"]`), chromedp.WaitVisible(`//li[contains(., "memory_limit: 444M")]`))
	do("back", chromedp.WaitVisible(`//button[text()="back to this"][not(@disabled)]`), chromedp.Click(`//li[contains(., "as the site was made")]/button`), chromedp.WaitVisible(`//li[contains(., "memory_limit: back to usual")]`))

	do("information", chromedp.Navigate(console+"/sites/orchard-days/info"), chromedp.WaitVisible(chromedp.CSS(`tr[data-name=memory_limit]`)), set("select[name=compare]", "HTMLSelectElement", "fernhollow"),
		chromedp.WaitVisible(`//p[contains(., "differences")]`), chromedp.WaitNotPresent(chromedp.CSS(`tr[data-name=memory_limit]`)), chromedp.WaitVisible(chromedp.CSS(`tr[data-name="Zend engine"]`)))

	do("logs", chromedp.Navigate(console+"/sites/orchard-days/logs"), chromedp.WaitVisible(chromedp.CSS(`[role=log] > div`)))
	get(t, s.site(t, "orchard-days").URL+"?a-visitor-now")
	do("a new line", chromedp.WaitVisible(`//span[contains(., "a-visitor-now")]`), chromedp.Click(`//button[text()="Hold still"]`), chromedp.WaitVisible(`//button[text()="Go on"]`))
	get(t, s.site(t, "orchard-days").URL+"?another-visitor")
	time.Sleep(time.Second)
	assert.NotContains(t, text(`[role=log]`), "another-visitor", "held still")
	do("go on", chromedp.Click(`//button[text()="Go on"]`), chromedp.WaitVisible(`//span[contains(., "another-visitor")]`))

	do("engines", chromedp.Navigate(console+"/engines"), chromedp.WaitVisible(chromedp.CSS(`[data-engine="php-7.4"]`)))
	assert.Contains(t, text(`[data-engine="php-7.4"]`), "orchard-days")
	do("a server variable", chromedp.Click(`//div[@data-engine="mariadb-10.11"]//button[text()="variables"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=variable]`)),
		set("input[name=variable]", "HTMLInputElement", "max_connections"), set("input[name=value]", "HTMLInputElement", "277"), chromedp.WaitVisible(`//button[text()="Set"][not(@disabled)]`), chromedp.Click(`//button[text()="Set"]`),
		chromedp.WaitVisible(`//li[contains(., "by console") and contains(., "max_connections = 277")]`))
	do("taken back", chromedp.WaitVisible(`//button[text()="take back"][not(@disabled)]`), chromedp.Click(`//button[text()="take back"]`), chromedp.WaitVisible(`//p[text()="All as the server has them."]`))

	do("the machine", chromedp.Click(`//a[text()="Machine"]`), chromedp.WaitVisible(chromedp.CSS(`[data-verdict=good]`)))
	assert.Contains(t, text("main"), "the PHP of a site is held to the site")

	do("a trial", chromedp.Navigate(console+"/sites/orchard-days/trial"), chromedp.WaitVisible(`//button[normalize-space(.)="Try 3 stacks"]`), chromedp.Click(`//button[normalize-space(.)="Try 3 stacks"]`))
	do("its grid", chromedp.WaitVisible(`//b[normalize-space(.)="3 of 3 passed"]`), chromedp.Click(`//table//td[3]//button`), chromedp.WaitVisible(chromedp.CSS(`section[aria-label="Report of the cell"]`)))
	assert.Contains(t, text(`section[aria-label="Report of the cell"]`), "deprecated", "what PHP 8.4 says of WordPress 6.1")
	do("its pictures", chromedp.WaitVisible(chromedp.CSS(`figure img`)))
	assert.Eventually(t, func() bool {
		widths, err := chromedp.Run(ctx, chromedp.Evaluate[string](`[...document.querySelectorAll("figure img")].map(i => i.naturalWidth).join()`))
		return err == nil && widths == "1280,1280"
	}, 10*time.Second, 50*time.Millisecond, "the site's own and the copy's")
}

// From an idea to a site that is ready: set once, saved as a stencil, drawn from it with other choices, grouped, signed in to.
func TestTheConsoleFromAnIdeaToASite(t *testing.T) {
	s := shared(t)
	ctx := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	do := func(what string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		within, cancel := context.WithTimeout(ctx, 40*time.Second)
		defer cancel()
		require.NoError(t, chromedp.Do(within, steps...), what)
	}
	set := func(selector, kind, value string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void (() => { const e = document.querySelector(%q); Object.getOwnPropertyDescriptor(%s.prototype, "value").set.call(e, %q); e.dispatchEvent(new Event(%q, { bubbles: true })) })()`,
			selector, kind, value, map[string]string{"HTMLSelectElement": "change", "HTMLInputElement": "input"}[kind]))
	}
	do("a bad default", chromedp.Click(`//a[text()="Set once"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=admin]`)), set("input[name=admin]", "HTMLInputElement", "admin"), chromedp.Click(`//button[text()="Set"]`),
		chromedp.WaitVisible(`//div[contains(., "what everybody tries first")]`))
	do("a good one", set("input[name=admin]", "HTMLInputElement", "ines"), chromedp.Click(`//button[text()="Set"]`), chromedp.WaitVisible(`//label[@data-setting="admin" and contains(., "vessik.yaml")]`))
	defer s.cli("defaults", "admin=")

	do("save a stencil", chromedp.Navigate(console+"/sites/fernhollow"), chromedp.WaitVisible(chromedp.CSS(`[data-check=files-private]`)), chromedp.Click(chromedp.CSS(`[data-check=files-private]`)),
		chromedp.WaitVisible(`//button[text()="save as a stencil…"][not(@disabled)]`), chromedp.Click(`//button[text()="save as a stencil…"]`), set("input[name=stencil]", "HTMLInputElement", "fern-basics"), chromedp.Click(`//button[text()="save"]`),
		chromedp.Navigate(console+"/kits"), chromedp.WaitVisible(chromedp.CSS(`[data-stencil=fern-basics]`)), chromedp.WaitVisible(chromedp.CSS(`[data-kit=wordpress]`)))
	defer s.cli("stencil", "drop", "fern-basics")

	do("draw from it", chromedp.Navigate(console+"/"), chromedp.WaitVisible(`//button[text()="New site"]`), chromedp.Click(`//button[text()="New site"]`), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "orchard-days"),
		chromedp.Click(chromedp.CSS(`input[value=stencil]`)), chromedp.WaitReady(chromedp.CSS(`select[name=stencil] option[value=fern-basics]`)), set("select[name=stencil]", "HTMLSelectElement", "fern-basics"),
		chromedp.Click(`//button[text()="All choices"]`), chromedp.WaitVisible(chromedp.CSS(`input[placeholder="orchard-days.localhost"]`)), chromedp.WaitVisible(chromedp.CSS(`input[placeholder="ines"]`)),
		chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(`//button[normalize-space(.)="Make this site"]`), chromedp.WaitVisible(chromedp.CSS(`[data-site=orchard-days][data-state=running]`)))
	defer s.retire(t, "orchard-days")
	assert.Equal(t, "ines", s.site(t, "orchard-days").Admin.User)

	do("group it", chromedp.Click(chromedp.CSS(`input[aria-label="Choose orchard-days"]`)), chromedp.Click(`//button[text()="group…"]`), chromedp.SendKeys(chromedp.CSS(`input[aria-label=Group]`), "Open days"), chromedp.Click(`//button[text()="set"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-band="Open days"]`)), chromedp.WaitVisible(`//b[text()="In no group"]`))
	assert.Equal(t, "Open days", s.site(t, "orchard-days").Group)

	do("sign in", chromedp.Navigate(console+"/sites/orchard-days"), chromedp.WaitVisible(chromedp.CSS(`[data-check=sign-in][data-shown=pass]`)), chromedp.Click(chromedp.CSS(`[data-check=sign-in]`)),
		chromedp.WaitReady(chromedp.CSS(`select[name=as] option[value=ines]`)), chromedp.Evaluate[chromedp.Void](`void (window.open = () => null)`), chromedp.Click(`//button[text()="Sign in"]`), chromedp.WaitVisible(chromedp.CSS(`#wpadminbar`)))
}
