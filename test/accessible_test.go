package test

import (
	"context"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// manySites has the page believe that there are two hundred sites like the first.
const manySites = `(() => { const ask = window.fetch; window.fetch = async (at, how) => { const answer = await ask(at, how);
if (!String(at.url ?? at).endsWith("/api/v1/sites")) return answer; const [one] = await answer.json();
return new Response(JSON.stringify(Array.from({ length: 200 }, (_, n) => ({ ...one, name: "garden-" + n, title: "Garden " + n })))) } })()`

// axe has axe-core look at the page that is shown, and returns what is wrong with it; by some rules alone, where they are
// named.
func axe(t *testing.T, ctx context.Context, only ...string) []string {
	t.Helper()
	rules, err := json.Marshal(only)
	require.NoError(t, err)
	there, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`"axe" in window`))
	require.NoError(t, err)
	if !there {
		source, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
		require.NoError(t, err, "run make build")
		require.NoError(t, chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void]("void function () {"+string(source)+"}.call(window)")))
	}
	look := strings.ReplaceAll(`
axe.run({ resultTypes: ["violations"], ...(RULES && { runOnly: RULES }) }).then((r) => JSON.stringify(r.violations.map((v) =>
v.id + ": " + v.help + ": " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(" | "))))`, "RULES", string(rules))
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](look, chromedp.EvalAwaitPromise))
	require.NoError(t, err)
	var found []string
	require.NoError(t, json.Unmarshal([]byte(text), &found))
	return found
}

// consolePages are all pages of the console.
var consolePages = []string{"/", "/cms", "/shelf", "/engines", "/operations", "/machine", "/defaults", "/mail", "/fleet-file", "/hosting",
	"/sites/fernhollow",
	"/sites/fernhollow/settings", "/sites/fernhollow/trial", "/sites/fernhollow/info", "/sites/fernhollow/logs", "/sites/fernhollow/parts",
	"/sites/fernhollow/outgoing", "/sites/fernhollow/guests", "/sites/fernhollow/screens", "/sites/fernhollow/errors",
	"/sites/fernhollow/terminal", "/sites/fernhollow/walk", "/sites/fernhollow/database",
	"/sites/fernhollow/restore"}

// wider are what makes a page scroll sideways: what reaches beyond its right edge, and stands in nothing that scrolls by itself.
func wider(t *testing.T, ctx context.Context) []string {
	t.Helper()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(() => { const root = document.documentElement
if (root.scrollWidth <= root.clientWidth) return "[]"
const held = (e) => e && e !== document.body && (/auto|scroll|hidden/.test(getComputedStyle(e).overflowX) || held(e.parentElement))
const found = [...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > root.clientWidth + 1 && !held(e))
return JSON.stringify(["scrolls to " + root.scrollWidth, ...found.slice(0, 4).map((e) => e.outerHTML.slice(0, 140))]) })()`))
	require.NoError(t, err)
	var found []string
	require.NoError(t, json.Unmarshal([]byte(text), &found))
	return found
}

// Every page can be used by those who do not see it, or not well: nothing that axe-core looks for is wrong, light and dark, with many
// sites, and with the service gone.
func TestTheConsoleIsForEverybody(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "fernhollow"))
	ctx := page(t, s, 1280, 800)
	status, err := s.Status(context.Background())
	require.NoError(t, err)
	console := strings.TrimSuffix(status.Console, "/")
	ready := `//main//*[self::h1 or @role="table"]`
	database, err := s.Database(context.Background(), "fernhollow")
	require.NoError(t, err)
	require.NotEmpty(t, database.Tables)
	for _, path := range append(consolePages, "/sites/fernhollow/database/"+database.Tables[0].Name) {
		require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(console+path), chromedp.WaitVisible(ready)))
		// in both appearances: what differs in the second are colours
		for _, only := range [][]string{nil, {"color-contrast", "link-in-text-block"}} {
			for _, width := range []int64{1280, 768, 390} { // a desk's, a tablet's, and a phone's
				require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(width, 844), chromedp.Sleep(50*time.Millisecond)))
				assert.Empty(t, wider(t, ctx), "%s at %d", path, width)
				if width != 768 { // what differs there is how wide things are
					assert.Empty(t, axe(t, ctx, only...), "%s at %d", path, width)
				}
			}
			require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//button[text()="Dark" or text()="Light"]`)))
		}
	}
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(console+"/"), chromedp.WaitVisible(`[role=table]`),
		chromedp.Click(`//button[text()="New site"]`), chromedp.WaitVisible(`input[name=name]`)))
	assert.Empty(t, axe(t, ctx), "a new site")
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(390, 844), chromedp.Click(`//button[text()="All choices"]`)))
	assert.Empty(t, wider(t, ctx), "a new site on a phone")
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	to := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(`//nav//a[text()="` + name + `"]`)
	}
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(console+"/machine"), chromedp.WaitVisible(ready),
		chromedp.Evaluate[chromedp.Void]("void "+manySites), to("Operations"), chromedp.WaitVisible(ready),
		chromedp.Sleep(1100*time.Millisecond), to("Fleet"), chromedp.WaitVisible(`//*[@data-site="garden-7"]`))) // it is asked for again
	assert.Empty(t, axe(t, ctx), "with two hundred sites")
	s.stop()
	nobodyAt(t, s)
	require.NoError(t, chromedp.Do(ctx, chromedp.WaitVisible(`//*[@role="alert"][contains(., "has not answered since")]`)))
	assert.Empty(t, axe(t, ctx), "with the service gone")
}
