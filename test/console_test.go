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

	"vessik/client"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chromium is a headless browser with one empty page.
func chromium(t testing.TB, width, height int, more ...chromedp.ExecAllocatorOption) context.Context {
	t.Helper()
	path, err := exec.LookPath("chromium")
	require.NoError(t, err, "Debian's chromium is needed: make setup-test")
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(width, height), chromedp.UserDataDir(t.TempDir()), chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("force-prefers-reduced-motion", true))
	options = append(options, more...)
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 10*time.Minute)
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
	do(chromedp.Click(`//button[text()="New site"]`), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "fernhollow"),
		chromedp.WaitVisible(chromedp.CSS(`input[name=name][aria-invalid=true]`)))
	assert.Contains(t, text(`form[aria-label="New site"]`), "exists")
	do(chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:disabled`)))

	// Make a site and watch its strip fill in.
	do(chromedp.Evaluate[chromedp.Void](`void document.querySelector("input[name=name]").select()`), chromedp.KeyEvent("orchard-days"))
	do(chromedp.WaitVisible(chromedp.CSS(`input[placeholder="Orchard Days"]`)),
		chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(chromedp.CSS(`button[type=submit]`)))
	do(chromedp.WaitVisible(chromedp.CSS(row)), chromedp.WaitVisible(chromedp.CSS(row+`[data-state=running]`)),
		chromedp.WaitReady(chromedp.CSS(row+` [data-check=files-private][data-verdict=pass]`)))
	assert.Contains(t, text(row), "Orchard Days")
	assert.Equal(t, "running", string(s.site(t, "orchard-days").State))

	// Read a failing report.
	folder := s.site(t, "orchard-days").Folder
	require.NoError(t, os.WriteFile(filepath.Join(folder, "wp-content/themes/twentytwentyfive/functions.php"),
		[]byte("<?php seeds_missing();"), 0o644))
	do(chromedp.Click(chromedp.CSS(row+` a[href="/sites/orchard-days"]`)),
		chromedp.WaitVisible(`//button[text()="verify again"][not(@disabled)]`),
		chromedp.Click(`//button[text()="verify again"][not(@disabled)]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-check=front-page][data-shown=fail]`)))
	do(chromedp.WaitVisible(chromedp.CSS(`section[aria-label="Front page"]`)))
	evidence := text(`section[aria-label="Front page"]`)
	assert.Contains(t, evidence, "seeds_missing()")
	assert.Contains(t, evidence, "remedy")

	// Retire it, after being asked.
	do(chromedp.WaitVisible(`//button[text()="retire…"][not(@disabled)]`), chromedp.Click(`//button[text()="retire…"]`),
		chromedp.WaitVisible(chromedp.CSS(`[role=alertdialog]`)))
	assert.Contains(t, text(`[role=alertdialog]`), folder)
	do(chromedp.Click(`//button[text()="Retire"]`), chromedp.WaitVisible(chromedp.CSS(`[role=table]`)),
		chromedp.WaitNotPresent(chromedp.CSS(row)))
	_, err := s.Site(context.Background(), "orchard-days", false)
	assert.Error(t, err)

	// By keyboard: filter, and open the new row.
	selected := chromedp.Evaluate[chromedp.Void](`void document.activeElement.select()`) // the protocol sends the slash as a letter, too
	do(chromedp.KeyEvent("/"), chromedp.WaitVisible(chromedp.CSS(`input[type=search]:focus`)), selected, chromedp.KeyEvent("seed"),
		chromedp.WaitNotPresent(chromedp.CSS(`[data-site=fernhollow]`)), chromedp.WaitVisible(chromedp.CSS(`[data-site=seed-exchange]`)))
	do(chromedp.KeyEvent("\x1b"), chromedp.Evaluate[chromedp.Void](`void document.activeElement.blur()`), chromedp.KeyEvent("n"),
		chromedp.WaitVisible(chromedp.CSS(`input[name=name]`)))
}

func TestTheConsoleAsksToSignIn(t *testing.T) {
	s := shared(t)
	ctx := chromium(t, 1280, 800)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(mustStatus(t, s).Console), chromedp.WaitVisible(`//h1[text()="Sign in to Vessik"]`)))
}

// What concerns a site's stack: changed, set, read, followed and tried in the console.
func TestTheConsoleAndAStack(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMSVersion: "6.1"}))
	defer s.retire(t, "orchard-days")
	ctx := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	do := steps(t, ctx)
	text := func(selector string) string {
		t.Helper()
		found, err := chromedp.Run(ctx, chromedp.Text(chromedp.CSS(selector)))
		require.NoError(t, err)
		return found
	}
	do("change the stack", chromedp.Navigate(console+"/sites/orchard-days"), chromedp.WaitVisible(chromedp.CSS(`[data-check=php-version]`)),
		chromedp.Click(chromedp.CSS(`[data-check=php-version]`)),
		chromedp.WaitReady(chromedp.CSS(`select[name=stack-php] option[value="php-7.4"]`)),
		setValue("select[name=stack-php]", "HTMLSelectElement", "php-7.4"),
		chromedp.WaitVisible(`//button[text()="Switch"]`), chromedp.Click(`//button[text()="Switch"]`),
		chromedp.WaitVisible(`//p[contains(., "longest time without an answer")]`))
	assert.Equal(t, "php-7.4", s.site(t, "orchard-days").Stack.PHP.Engine)

	do("a setting that there is none of", chromedp.Click(`//a[text()="Settings"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=memory_limit]`)), setValue("input[name=memory_limit]", "HTMLInputElement", "444M"),
		chromedp.Click(`//button[text()="Apply"]`), chromedp.WaitVisible(`//li[contains(., "memory_limit: 444M")]`))
	do("back", chromedp.WaitVisible(`//button[text()="back to this"][not(@disabled)]`),
		chromedp.Click(`//li[contains(., "as the site was made")]/button`),
		chromedp.WaitVisible(`//li[contains(., "memory_limit: back to usual")]`))

	do("information", chromedp.Navigate(console+"/sites/orchard-days/info"), chromedp.WaitVisible(chromedp.CSS(`tr[data-name=memory_limit]`)),
		setValue("select[name=compare]", "HTMLSelectElement", "fernhollow"),
		chromedp.WaitVisible(`//p[contains(., "differences")]`), chromedp.WaitNotPresent(chromedp.CSS(`tr[data-name=memory_limit]`)),
		chromedp.WaitVisible(chromedp.CSS(`tr[data-name="Zend engine"]`)))

	do("logs", chromedp.Navigate(console+"/sites/orchard-days/logs"), chromedp.WaitVisible(chromedp.CSS(`[role=log] > div`)))
	get(t, s.site(t, "orchard-days").URL+"?a-visitor-now")
	do("a new line", chromedp.WaitVisible(`//span[contains(., "a-visitor-now")]`), chromedp.Click(`//button[text()="Hold still"]`),
		chromedp.WaitVisible(`//button[text()="Go on"]`))
	get(t, s.site(t, "orchard-days").URL+"?another-visitor")
	time.Sleep(time.Second)
	assert.NotContains(t, text(`[role=log]`), "another-visitor", "held still")
	do("go on", chromedp.Click(`//button[text()="Go on"]`), chromedp.WaitVisible(`//span[contains(., "another-visitor")]`))

	do("engines", chromedp.Navigate(console+"/engines"), chromedp.WaitVisible(chromedp.CSS(`[data-engine="php-7.4"]`)))
	assert.Contains(t, text(`[data-engine="php-7.4"]`), "orchard-days")
	do("a server variable", chromedp.Click(`//div[@data-engine="mariadb-11.8"]//button[text()="variables"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=variable]`)),
		setValue("input[name=variable]", "HTMLInputElement", "max_connections"), setValue("input[name=value]", "HTMLInputElement", "277"),
		chromedp.WaitVisible(`//button[text()="Set"][not(@disabled)]`), chromedp.Click(`//button[text()="Set"]`),
		chromedp.WaitVisible(`//li[contains(., "by console") and contains(., "max_connections = 277")]`))
	do("taken back", chromedp.WaitVisible(`//button[text()="take back"][not(@disabled)]`), chromedp.Click(`//button[text()="take back"]`),
		chromedp.WaitVisible(`//p[text()="All as the server has them."]`))

	do("the machine", chromedp.Click(`//a[text()="Machine"]`), chromedp.WaitVisible(chromedp.CSS(`[data-verdict=good]`)))
	assert.Contains(t, text("main"), "sites live in cells of their own")

	do("a trial", chromedp.Navigate(console+"/sites/orchard-days/trial"), chromedp.WaitVisible(`//button[normalize-space(.)="Try 3 stacks"]`),
		chromedp.Click(`//button[normalize-space(.)="Try 3 stacks"]`))
	do("its grid", chromedp.WaitVisible(`//b[normalize-space(.)="3 of 3 passed"]`), chromedp.Click(`//table//td[3]//button`),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label="Report of the cell"]`)))
	assert.Contains(t, text(`section[aria-label="Report of the cell"]`), "deprecated", "what PHP 8.4 says of WordPress 6.1")
	do("its pictures", chromedp.WaitVisible(chromedp.CSS(`figure img`)))
	assert.Eventually(t, func() bool {
		widths, err := chromedp.Run(ctx, chromedp.Evaluate[string](
			`[...document.querySelectorAll("figure img")].map(i => i.naturalWidth).join()`))
		return err == nil && widths == "1280,1280"
	}, 10*time.Second, 50*time.Millisecond, "the site's own and the copy's")
}

// From an idea to a site that is ready: set once, saved as a stencil, drawn from it with other choices, grouped, signed in to.
func TestTheConsoleFromAnIdeaToASite(t *testing.T) {
	s := shared(t)
	ctx := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	do := steps(t, ctx)
	do("a bad default", chromedp.Click(`//a[text()="Defaults"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=administrator]`)),
		setValue("input[name=administrator]", "HTMLInputElement", "admin"), chromedp.Click(`//button[text()="Set"]`),
		chromedp.WaitVisible(`//div[contains(., "what everybody tries first")]`))
	do("a good one", setValue("input[name=administrator]", "HTMLInputElement", "ines"), chromedp.Click(`//button[text()="Set"]`),
		chromedp.WaitVisible(`//label[@data-setting="administrator" and contains(., "vessik.yaml")]`))
	defer s.cli("defaults", "administrator=")

	do("save a stencil", chromedp.Navigate(console+"/sites/fernhollow"), chromedp.WaitVisible(chromedp.CSS(`[data-check=files-private]`)),
		chromedp.Click(chromedp.CSS(`[data-check=files-private]`)),
		chromedp.WaitVisible(`//button[text()="Make a stencil of this site…"][not(@disabled)]`),
		chromedp.Click(`//button[text()="Make a stencil of this site…"]`),
		setValue("input[name=stencil]", "HTMLInputElement", "fern-basics"), chromedp.Click(`//button[text()="save"]`),
		chromedp.WaitVisible(`//button[text()="Make a stencil of this site…"]`),
		chromedp.Navigate(console+"/cms"), chromedp.WaitVisible(chromedp.CSS(`[data-stencil=fern-basics]`)),
		chromedp.WaitVisible(chromedp.CSS(`[data-CMS=wordpress]`)))
	defer s.cli("stencil", "drop", "fern-basics")

	do("draw from it", chromedp.Navigate(console+"/"), chromedp.WaitVisible(`//button[text()="New site"]`),
		chromedp.Click(`//button[text()="New site"]`), chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "orchard-days"),
		chromedp.Click(chromedp.CSS(`input[value=stencil]`)), chromedp.WaitReady(chromedp.CSS(`select[name=stencil] option[value=fern-basics]`)),
		setValue("select[name=stencil]", "HTMLSelectElement", "fern-basics"),
		chromedp.Click(`//button[text()="All choices"]`), chromedp.WaitVisible(chromedp.CSS(`input[placeholder="orchard-days.localhost"]`)),
		chromedp.WaitVisible(chromedp.CSS(`input[placeholder="ines"]`)),
		chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(`//button[normalize-space(.)="Make this site"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-site=orchard-days][data-state=running]`)))
	defer s.retire(t, "orchard-days")
	assert.Equal(t, "ines", s.site(t, "orchard-days").Administrator.Name)

	do("group it", chromedp.Click(chromedp.CSS(`input[aria-label="Choose orchard-days"]`)), chromedp.Click(`//button[text()="group…"]`),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Group]`), "Open days"), chromedp.Click(`//button[text()="set"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-band="Open days"]`)), chromedp.WaitVisible(`//b[text()="In no group"]`))
	assert.Equal(t, "Open days", s.site(t, "orchard-days").Group)
	do("refuse a label that is too long", chromedp.Click(`//button[text()="group…"]`),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label=Group]`), strings.Repeat("long ", 20)), chromedp.Click(`//button[text()="set"]`),
		chromedp.WaitVisible(`//span[@role="alert"][contains(., "shorten it to 60")]`))
	assert.Equal(t, "Open days", s.site(t, "orchard-days").Group)

	do("sign in", chromedp.Navigate(console+"/sites/orchard-days"),
		chromedp.WaitVisible(chromedp.CSS(`[data-check=sign-in][data-shown=pass]`)), chromedp.Click(chromedp.CSS(`[data-check=sign-in]`)),
		chromedp.WaitReady(chromedp.CSS(`select[name=as] option[value=ines]`)),
		chromedp.Evaluate[chromedp.Void](`void (window.open = () => null)`), chromedp.Click(`//button[text()="Sign in"]`),
		chromedp.WaitVisible(chromedp.CSS(`#wpadminbar`)))
}

// What stands beside the facts: the shelf, a network with a value in a touch, another name, a dump, the palette, order, the fleet
// as a file.
func TestTheConsoleBesideTheFacts(t *testing.T) {
	t.Parallel()
	hosts := newHome(t) + "-hosts"
	require.NoError(t, os.WriteFile(hosts, []byte("127.0.0.1 localhost\n"), 0o666))
	require.NoError(t, os.Chmod(hosts, 0o666))
	s := start(t, newHome(t), "-hosts-file", hosts)
	ctx := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	do := steps(t, ctx)
	archive := zipped(t, filepath.Join(t.TempDir(), "garden-menu.1.2.zip"),
		map[string]string{"garden-menu/menu.php": "<?php\n/* Plugin Name: Garden Menu\nVersion: 1.2 */\nadd_action('wp_footer', function () { " +
			"echo '<i id=\"menu\"></i>'; });"})
	do("the shelf", chromedp.Click(`//a[text()="Shelf"]`), chromedp.WaitVisible(`//p[contains(., "Nothing is on the shelf yet")]`),
		chromedp.SetUploadFiles(chromedp.CSS(`input[name=archive]`), []string{archive}),
		chromedp.WaitVisible(chromedp.CSS(`[data-item="garden-menu.1.2.zip"]`)))
	do("no address", setValue("input[name=address]", "HTMLInputElement", "https://127.0.0.1:1/x.zip"),
		chromedp.WaitVisible(`//button[text()="Fetch"][not(@disabled)]`), chromedp.Click(`//button[text()="Fetch"]`),
		chromedp.WaitVisible(`//div[@role="alert"]`))

	do("a network", chromedp.Navigate(console+"/?new"), chromedp.WaitVisible(chromedp.CSS(`input[name=name]`)),
		chromedp.SendKeys(chromedp.CSS(`input[name=name]`), "orchard-days"), chromedp.Click(`//button[text()="All choices"]`),
		chromedp.WaitReady(chromedp.CSS(`select[name=network]`)), setValue("select[name=network]", "HTMLSelectElement", "domains"),
		chromedp.WaitVisible(`//p[contains(., "//north.orchard-days.localhost")]`),
		chromedp.SendKeys(`//label[text()="Sub-sites made at once"]/following-sibling::input`, "north south"),
		chromedp.Click(chromedp.CSS(`input[name=plugin-garden-menu]`)),
		chromedp.Click(chromedp.CSS(`input[name=touch-pages]`)), chromedp.WaitVisible(chromedp.CSS(`input[aria-label^="titles"]`)),
		setValue(`input[aria-label^="titles"]`, "HTMLInputElement", "Opening hours"),
		chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(`//button[normalize-space(.)="Make this site"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-site=orchard-days][data-state=running]`)))
	made := s.secrets(t, "orchard-days")
	assert.Len(t, made.SubSites, 2)
	_, text, _ := get(t, made.URL)
	assert.Contains(t, text, `<i id="menu">`)
	assert.Equal(t, "Opening hours", query(t, made, "SELECT post_title FROM wp_posts WHERE post_type='page' ORDER BY ID DESC LIMIT 1"))

	do("a domain that nobody finds", chromedp.Navigate(console+"/sites/orchard-days"),
		chromedp.WaitVisible(chromedp.CSS(`[data-check=front-page][data-shown=pass]`)),
		chromedp.WaitVisible(`//button[text()="another name or domain…"][not(@disabled)]`),
		chromedp.Click(`//button[text()="another name or domain…"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=new-name]`)))
	do("its name", setValue("input[name=new-domain]", "HTMLInputElement", "apples.test"))
	do("enabled", chromedp.WaitVisible(`//button[text()="Rename"][not(@disabled)]`), chromedp.Click(`//button[text()="Rename"]`))
	do("told", chromedp.WaitVisible(`//p[contains(., "does not lead to this machine")]`))
	_, errs, code := s.cli("hosts", "-allow")
	require.Zero(t, code, errs)
	do("another domain", chromedp.Navigate(console+"/sites/orchard-days"),
		chromedp.WaitVisible(chromedp.CSS(`[data-check=front-page][data-shown=pass]`)),
		chromedp.WaitVisible(`//button[text()="another name or domain…"][not(@disabled)]`),
		chromedp.Click(`//button[text()="another name or domain…"]`), chromedp.WaitVisible(chromedp.CSS(`input[name=new-name]`)),
		setValue("input[name=new-name]", "HTMLInputElement", "apple-days"), setValue("input[name=new-domain]", "HTMLInputElement", "apples.test"),
		chromedp.WaitVisible(`//button[text()="Preview changes"][not(@disabled)]`), chromedp.Click(`//button[text()="Preview changes"]`),
		chromedp.WaitVisible(`//p[contains(., "addresses would change")]`),
		chromedp.Click(`//button[text()="Rename"]`), chromedp.WaitVisible(`//h1[text()="Operations"]`), chromedp.Navigate(console+"/"),
		chromedp.WaitVisible(chromedp.CSS(`[data-site=apple-days][data-state=running]`)))
	assert.Equal(t, "apples.test", s.site(t, "apple-days").Domain)
	do("told to this machine", chromedp.Click(`//a[text()="Machine"]`), chromedp.WaitVisible(`//span[text()="leads to this machine"]`),
		chromedp.Click(`//button[text()="Take the block away"]`), chromedp.WaitVisible(`//span[text()="is not found yet"]`),
		chromedp.Click(`//button[text()="Let the service keep this block"]`), chromedp.WaitVisible(`//button[text()="Take the block away"]`))
	written, err := os.ReadFile(hosts)
	require.NoError(t, err)
	assert.Contains(t, string(written), "127.0.0.1 north.apples.test\n")
	do("a further domain", chromedp.Navigate(console+"/sites/apple-days"),
		chromedp.WaitVisible(chromedp.CSS(`[data-check=front-page][data-shown=pass]`)),
		chromedp.WaitVisible(`//button[text()="a further domain…"]`), chromedp.Click(`//button[text()="a further domain…"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=domains]`)), setValue("input[name=domains]", "HTMLInputElement", "apples.localhost"),
		chromedp.Click(`//button[text()="set"][not(@disabled)]`), chromedp.WaitVisible(`//button[text()="change…"]`),
		chromedp.WaitVisible(`//dd[contains(., "orchard-days.localhost")]`))
	assert.Equal(t, []string{"apples.localhost"}, s.site(t, "apple-days").Domains)
	do("a dump that is none", chromedp.Click(chromedp.CSS(`[data-check=database-private]`)),
		chromedp.WaitVisible(`//button[text()="load an SQL file…"]`), chromedp.Click(`//button[text()="load an SQL file…"]`),
		chromedp.WaitVisible(chromedp.CSS(`input[name=sql]`)),
		setValue("input[name=sql]", "HTMLInputElement", "/no/such.sql"), chromedp.WaitVisible(`//button[text()="Load"][not(@disabled)]`),
		chromedp.Click(`//button[text()="Load"]`), chromedp.WaitVisible(`//p[contains(., "is not there")]`))

	do("the fleet as a file", chromedp.Navigate(console+"/fleet-file"), chromedp.WaitVisible(chromedp.CSS(`textarea[name=fleet]`)),
		chromedp.WaitReady(`//textarea[contains(., "apple-days")]`), chromedp.Click(`//button[text()="Preview changes"]`),
		chromedp.WaitVisible(`//p[contains(., "everything is as the file says")]`),
		setValue("textarea[name=fleet]", "HTMLTextAreaElement", "fleet: 1\nsites:\n  - {name: moss-archive, cms: emptyy}\n"),
		chromedp.Click(`//button[text()="Preview changes"]`),
		chromedp.WaitVisible(`//div[@role="alert"][contains(., "line 3") and contains(., "there is no CMS")]`),
		setValue("textarea[name=fleet]", "HTMLTextAreaElement", "fleet: 1\nsites:\n  - {name: moss-archive, cms: empty, note: damp}\n"),
		chromedp.Click(`//button[text()="Preview changes"]`), chromedp.WaitVisible(`//b[text()="label"]`),
		chromedp.Click(`//button[text()="Apply"]`), chromedp.WaitVisible(`//p[text()="Done."]`))
	assert.Equal(t, "damp", s.site(t, "moss-archive").Note)

	order := func() string {
		names, err := chromedp.Run(ctx, chromedp.Evaluate[string](
			`[...document.querySelectorAll("[data-site]")].map(e => e.dataset.site).join()`))
		require.NoError(t, err)
		return names
	}
	do("order", chromedp.Navigate(console+"/"), chromedp.WaitVisible(chromedp.CSS(`[data-site=moss-archive]`)),
		chromedp.Click(`//button[starts-with(normalize-space(.), "Address")]`), chromedp.WaitVisible(chromedp.CSS(`[aria-sort=ascending]`)))
	assert.Equal(t, "apple-days,moss-archive", order())
	do("the other way", chromedp.Click(`//button[starts-with(normalize-space(.), "Address")]`),
		chromedp.WaitVisible(chromedp.CSS(`[aria-sort=descending]`)))
	assert.Equal(t, "moss-archive,apple-days", order())

	open := chromedp.Evaluate[chromedp.Void](`void dispatchEvent(new KeyboardEvent("keydown", { key: "k", ctrlKey: true }))`)
	do("the palette stops a site", open, chromedp.WaitVisible(chromedp.CSS(`[cmdk-input]`)),
		chromedp.SendKeys(chromedp.CSS(`[cmdk-input]`), "moss\r"), chromedp.WaitVisible(`//div[@cmdk-item][contains(., "Stop it")]`),
		chromedp.SendKeys(chromedp.CSS(`[cmdk-input]`), "stop\r"),
		chromedp.WaitVisible(chromedp.CSS(`[data-site=moss-archive][data-state=stopped]`)))
	do("and leads to a page", open, chromedp.WaitVisible(chromedp.CSS(`[cmdk-input]`)),
		chromedp.SendKeys(chromedp.CSS(`[cmdk-input]`), "defaults\r"), chromedp.WaitVisible(chromedp.CSS(`[data-setting=appearance]`)))
	do("an appearance for all", setValue("input[name=appearance]", "HTMLInputElement", "dark"), chromedp.Click(`//button[text()="Set"]`),
		chromedp.WaitVisible(chromedp.CSS(`html[data-theme=dark]`)))
}

// steps carries out what somebody does in the browser, each within a time.
func steps(t testing.TB, ctx context.Context) func(what string, steps ...chromedp.Action[chromedp.Void]) {
	return func(what string, steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		within, cancel := context.WithTimeout(ctx, 40*time.Second)
		defer cancel()
		if err := chromedp.Do(within, steps...); err != nil {
			look, cancel := context.WithTimeout(ctx, 5*time.Second)
			defer cancel()
			shown, _ := chromedp.Run(look, chromedp.Evaluate[string](`location.href + "\n" + document.body.innerText`))
			require.NoError(t, err, "%s\n%s", what, shown)
		}
	}
}

// setValue fills a field as React hears it.
func setValue(selector, kind, value string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void (() => { const e = document.querySelector(%q);
Object.getOwnPropertyDescriptor(%s.prototype, "value").set.call(e, %q); e.dispatchEvent(new Event(%q, { bubbles: true })) })()`,
		selector, kind, value, map[string]string{"HTMLSelectElement": "change", "HTMLInputElement": "input",
			"HTMLTextAreaElement": "input"}[kind]))
}
