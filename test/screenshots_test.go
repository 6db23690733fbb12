package test

import (
	"context"
	"encoding/base64"
	"fmt"
	"html"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/demo"
	"vessik/internal/core/plan"
)

// TestScreenshots draws the pages and outputs that the README shows: make screenshots.
func TestScreenshots(t *testing.T) {
	folder := os.Getenv("VESSIK_SCREENSHOTS")
	if folder == "" {
		t.Skip("only with VESSIK_SCREENSHOTS, by make screenshots")
	}
	require.NoError(t, os.MkdirAll(folder, 0o755))
	const home = "/var/tmp/fernhollow" // stands in the pictures
	require.NoDirExists(t, home)
	t.Cleanup(func() { os.RemoveAll(home) })
	s := start(t, home)
	fleet := demo.Load()
	requests := []client.Request{}
	for _, each := range fleet.Sites {
		requests = append(requests, fleet.Request(each))
	}
	requirePassed(t, s.made(t, requests...))
	for _, each := range fleet.Sites {
		require.NoError(t, demo.Fill(context.Background(), each, s.site(t, each.Name)))
	}
	s.do(t, plan.Stop, "volunteer-desk")
	ctx := page(t, s, 1280, 800)
	shoot := func(name string, steps ...chromedp.Action[chromedp.Void]) {
		within, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		err := chromedp.Do(within, append(steps, chromedp.Sleep(500*time.Millisecond))...)
		assert.NoError(t, err, name) // the picture shows where it stopped
		picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".png"), picture, 0o644))
	}
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void (document.documentElement.dataset.theme = %q)", name))
	}
	shoot("fleet", theme("light"))
	shoot("palette", theme("dark"), chromedp.Evaluate[chromedp.Void](`void dispatchEvent(new KeyboardEvent("keydown", { key: "k",
ctrlKey: true }))`), chromedp.WaitVisible(chromedp.CSS("[cmdk-input]")),
		chromedp.SendKeys(chromedp.CSS("[cmdk-input]"), "orchard\r"), chromedp.Sleep(300*time.Millisecond))
	shoot("new-site", theme("light"), chromedp.Navigate(console+"/"), chromedp.WaitVisible(`[role=table]`),
		chromedp.Click(`//button[text()="New site"]`), chromedp.WaitVisible(`input[name=name]`), chromedp.SendKeys(`input[name=name]`, "Moss"),
		chromedp.Sleep(300*time.Millisecond),
		chromedp.SendKeys(`input[name=name]`, "\b\b\b\bfern-nursery"), chromedp.Sleep(300*time.Millisecond),
		chromedp.Click(`//button[text()="All choices"]`))
	shoot("site", chromedp.Navigate(console+"/sites/moss-archive"), chromedp.WaitVisible(`[data-check=sign-in]`),
		chromedp.Click(`[data-check=sign-in]`))
	wide := func(name, path string, steps ...chromedp.Action[chromedp.Void]) {
		shoot(name, append([]chromedp.Action[chromedp.Void]{chromedp.Navigate(console + path)}, steps...)...)
		require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(390, 844), chromedp.Sleep(200*time.Millisecond)))
		assert.Empty(t, wider(t, ctx), name+" on a phone")
		require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	}
	_, _, code := s.cli("settings", "orchard-days", "memory_limit=512M", "upload_max_filesize=64M")
	require.Zero(t, code)
	_, _, code = s.cli("settings", "orchard-days", "-extension", "soap=off", "-rest", "30m")
	require.Zero(t, code)
	wide("settings", "/sites/orchard-days/settings", chromedp.WaitVisible(chromedp.CSS("input[name=memory_limit]")))
	wide("logs", "/sites/orchard-days/logs", chromedp.WaitVisible(chromedp.CSS("[role=log] > div")))
	wide("engines", "/engines", chromedp.WaitVisible(chromedp.CSS("[data-engine]")))
	_, errs, code := s.cli("stencil", "save", "orchard-days", "orchard-basics", "-about", "Theme, menus and opening hours, for every open day")
	require.Zero(t, code, errs)
	wide("cms", "/cms", chromedp.WaitVisible(chromedp.CSS("[data-stencil]")),
		chromedp.Evaluate[chromedp.Void](`void document.querySelector("[data-stencil]").scrollIntoView({block: "end"})`),
		chromedp.Sleep(time.Second))
	for name, files := range map[string]map[string]string{"garden-menu.1.2.zip": {"garden-menu/menu.php": "<?php\n/* Plugin Name: Garden " +
		"Menu\nVersion: 1.2 */"},
		"opening-hours.2.0.1.zip": {"opening-hours/hours.php": "<?php\n/* Plugin Name: Opening Hours\nVersion: 2.0.1 */"},
		"valley.zip":              {"valley/style.css": "/*\nTheme Name: Valley\nTemplate: twentytwentythree\nVersion: 0.3\n*/"}} {
		_, errs, code = s.cli("shelf", "add", zipped(t, filepath.Join(t.TempDir(), name), files))
		require.Zero(t, code, errs)
	}
	wide("shelf", "/shelf", chromedp.WaitVisible(chromedp.CSS("[data-item]")))
	_, errs, code = s.cli("defaults", "administrator=head-keeper", "mail=ines@fernhollow.example", "finishing_touches=no-samples,no-comments")
	require.Zero(t, code, errs)
	wide("defaults", "/defaults", chromedp.WaitVisible(chromedp.CSS("[data-setting]")))
	wide("machine", "/machine", chromedp.WaitVisible(chromedp.CSS("[data-verdict]")))
	trial, err := s.Try(context.Background(), "fernhollow", client.Trial{PHP: "all", Web: "nginx,apache", Visit: []string{"/winter-hours/"}})
	require.NoError(t, err)
	s.watch(t, trial)
	wide("trial", "/sites/fernhollow/trial", chromedp.WaitVisible(chromedp.CSS("button[data-verdict]")),
		chromedp.Click(`//button[contains(., "PHP said")][1]`))
	folderOf := s.site(t, "glasshouse-journal").Folder
	require.NoError(t, os.WriteFile(filepath.Join(folderOf, "wp-content/themes/twentytwentyfive/functions.php"),
		[]byte("<?php\nseeds_missing();\n"), 0o644))
	s.do(t, plan.Verify, "glasshouse-journal")
	shoot("failing-site", chromedp.Navigate(console+"/sites/glasshouse-journal"), chromedp.WaitVisible(`[data-shown=fail]`))

	ctx = chromium(t, 1280, 800)
	terminal := func(name string, lines ...string) {
		text := `<body style="margin:0;background:#15191b;color:#e9e5da;font:15px/1.5 'DejaVu Sans Mono',monospace">` +
			`<pre style="margin:28px 32px;white-space:pre-wrap">` +
			html.EscapeString(strings.Join(lines, "\n")) + "</pre>"
		shoot(name, chromedp.Navigate("data:text/html;charset=utf-8;base64,"+base64.StdEncoding.EncodeToString([]byte(text))))
	}
	command := func(arguments ...string) string {
		out, errs, _ := s.cli(arguments...)
		return typed(arguments) + "\n" + strings.TrimSpace(errs+out) + "\n"
	}
	terminal("commands", command("sites"), command("site", "moss-archive"), command("engines"))
	restack := func(arguments ...string) string { // without the progress lines
		out, _, _ := s.cli(arguments...)
		return typed(arguments) + "\n" + strings.TrimSpace(out) + "\n"
	}
	terminal("restack", restack("restack", "seed-exchange", "-php", "8.4", "-web", "apache"),
		restack("restack", "seed-exchange", "-database", "11.8"), restack("settings", "orchard-days", "-history"))
	terminal("verify", command("verify", "fernhollow", "glasshouse-journal"))
	terminal("stencils", command("stencil"), restack("new", "cider-days", "-stencil", "orchard-basics", "-php", "8.2"),
		command("users", "cider-days"), command("label", "cider-days", "-group", "Open to all", "-note", "October only"), command("cms"))
	terminal("addresses", command("rename", "seed-exchange", "seed-swap", "-dry-run"), restack("rename", "seed-exchange", "seed-swap"),
		command("domains", "seed-swap", "-add", "seeds.localhost"), command("shelf"))
	terminal("refusals", command("new", "Orchard_Days", "-port", "80", "-administrator", "admin", "-password", "secret"),
		command("new", "fernhollow"), command("stop"), command("new", "a", "b", "-title", "Both"))
}

func mustStatus(t testing.TB, s *service) client.Status {
	t.Helper()
	status, err := s.Status(context.Background())
	require.NoError(t, err)
	return status
}

// typed is a command as one types it.
func typed(arguments []string) string {
	line := "$ vessik"
	for _, argument := range arguments {
		if strings.Contains(argument, " ") {
			argument = `"` + argument + `"`
		}
		line += " " + argument
	}
	return line
}
