package test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"html"
	"image"
	"image/png"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/demo"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
)

// cropped is a picture without the empty part at its end.
func cropped(t *testing.T, picture []byte) []byte {
	drawn, err := png.Decode(bytes.NewReader(picture))
	require.NoError(t, err)
	size := drawn.Bounds()
	empty := func(y int) bool {
		for x := size.Min.X; x < size.Max.X; x++ {
			if drawn.At(x, y) != drawn.At(size.Min.X, size.Max.Y-1) {
				return false
			}
		}
		return true
	}
	const margin, least = 28, 200
	end := size.Max.Y
	for end > least && empty(end-1) {
		end--
	}
	var out bytes.Buffer
	part := drawn.(interface {
		SubImage(image.Rectangle) image.Image
	}).SubImage(image.Rect(size.Min.X, size.Min.Y, size.Max.X, min(end+margin, size.Max.Y)))
	require.NoError(t, (&png.Encoder{CompressionLevel: png.BestCompression}).Encode(&out, part))
	return out.Bytes()
}

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
	s := start(t, home, anyGateway...)
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
		height, err := chromedp.Run(ctx, chromedp.Evaluate[int64](`document.documentElement.scrollHeight`))
		require.NoError(t, err)
		require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, min(max(height, 800), 1600)), chromedp.Sleep(200*time.Millisecond)))
		picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".png"), cropped(t, picture), 0o644))
		require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	}
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void (document.documentElement.dataset.theme = %q)", name))
	}
	shoot("fleet", theme("light"))
	post(t, s.site(t, "orchard-days"), "", `require 'wp-load.php'; $from = 'From: Orchard Days <desk@orchard-days.example>';
		file_put_contents('/tmp/Almanapok.txt', str_repeat('Apples, ', 900));
		wp_mail('Tobias <tobias@fernhollow.example>', 'Your place at the apple tasting', 'We open at nine.', $from);
		wp_mail('Réka Kovács <reka@kert.example>', 'Almanapok – a program', '<h1 style="color:#7a2e1d">Orchard Days</h1><p>Dear Réka,</p>'.
		'<p>the programme is attached. <a href="http://orchard-days.localhost/">See you there</a>!</p>', [$from,
		'Content-Type: text/html; charset=UTF-8'], ['/tmp/Almanapok.txt']);`)
	_, err := browser.PostForm(s.site(t, "orchard-days").URL+"wp-login.php?action=lostpassword", url.Values{"user_login": {"head-keeper"}})
	require.NoError(t, err)
	shoot("mail", chromedp.Navigate(console+"/mail"), chromedp.Click(`//button[contains(., "Almanapok")]`),
		chromedp.WaitVisible(`//iframe`), chromedp.Sleep(300*time.Millisecond))
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
	guests(t, s, wide)
	database, err := s.Database(context.Background(), "orchard-days")
	require.NoError(t, err)
	options := slices.IndexFunc(database.Tables, func(t wire.DatabaseTable) bool { return strings.HasSuffix(t.Name, "_options") })
	table := database.Tables[options].Name
	wide("database", "/sites/orchard-days/database/"+table+"?column=option_name&text=cron",
		chromedp.Click(`//section[@aria-label="Rows"]//tbody//button`), chromedp.WaitVisible(`//form[@aria-label="Row"]//textarea`))
	plugin := filepath.Join(s.site(t, "orchard-days").Folder, "wp-content/mu-plugins/opening.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(plugin), 0o755))
	require.NoError(t, os.WriteFile(plugin, []byte("<?php\nadd_action('wp_footer', static function () {\n    echo is_single() ? $hours : '<a "+
		"href=\"/visit/\">Visit us</a> <img src=\"/wp-content/uploads/apple.jpg\" alt=\"\">';\n});\n"), 0o644))
	wide("walk", "/sites/orchard-days/walk", chromedp.Click(`//button[text()="Walk"]`),
		chromedp.WaitVisible(`//p[@role="status"][contains(., "findings")]`))
	wide("engines", "/engines", chromedp.WaitVisible(chromedp.CSS("[data-engine]")))
	_, errs, code := s.cli("stencil", "save", "orchard-days", "orchard-basics", "-about", "Theme, menus and opening hours, for every open day")
	require.Zero(t, code, errs)
	wide("cms", "/cms", chromedp.WaitVisible(chromedp.CSS("[data-stencil]")),
		chromedp.Evaluate[chromedp.Void](`void document.querySelector("[data-stencil]").scrollIntoView({block: "end"})`),
		chromedp.Sleep(time.Second))
	for name, files := range map[string]map[string]string{"garden-menu.1.2.zip": {"garden-menu/menu.php": "<?php\n/* Plugin Name: Garden " +
		"Menu\nVersion: 1.2 */"},
		"opening-hours.2.0.1.zip": {"opening-hours/hours.php": "<?php\n/* Plugin Name: Opening Hours\nVersion: 2.0.1 */"},
		"valley.zip":              {"valley/style.css": "/*\nTheme Name: Valley\nTemplate: twentytwentyfive\nVersion: 0.3\n*/"}} {
		_, errs, code = s.cli("shelf", "add", zipped(t, filepath.Join(t.TempDir(), name), files))
		require.Zero(t, code, errs)
	}
	wide("shelf", "/shelf", chromedp.WaitVisible(chromedp.CSS("[data-item]")))
	_, errs, code = s.cli("parts", "orchard-days", "-add", "garden-menu")
	require.Zero(t, code, errs)
	_, errs, code = s.cli("restore", "orchard-days", "-make", "-note", "before the new theme")
	require.Zero(t, code, errs)
	wide("parts", "/sites/orchard-days/parts", chromedp.WaitVisible(`//button[text()="switch off"]`))
	if os.Getenv("VESSIK_MORE_SCREENSHOTS") != "" {
		post(t, s.site(t, "orchard-days"), "", `@fsockopen('198.51.100.7', 587, $a, $b, 1); @fsockopen('198.51.100.30', 6379, $a, $b, 1);
			@file_get_contents('https://api.fernhollow.example/v1/opening-hours'); @fsockopen('203.0.113.9', 443, $a, $b, 0.2);`)
		wide("outgoing", "/sites/orchard-days/outgoing", chromedp.Click(`//button[text()="Load it"]`),
			chromedp.WaitVisible(`//*[@aria-label="For one page"]`))
		wide("restore", "/sites/orchard-days/restore", chromedp.WaitVisible(`//button[text()="go back"]`),
			chromedp.Click(`//li[last()]//button[text()="Preview changes"]`), chromedp.WaitVisible(`//dt[contains(., "Tables")]`))
		shoot("bring", chromedp.Navigate(console+"/"), chromedp.WaitReady(`input[name=bring]`),
			chromedp.SetUploadFiles(`input[name=bring]`, []string{zipped(t, filepath.Join(t.TempDir(), "snow.zip"),
				map[string]string{"snow/snow.php": "<?php\n/* Plugin Name: Snow\nVersion: 1.2 */"})}),
			chromedp.WaitVisible(`//button[text()="Put it on the shelf"]`))
	}
	_, errs, code = s.cli("defaults", "administrator=head-keeper", "mail=ines@fernhollow.example", "finishing_touches=no-samples,no-comments")
	require.Zero(t, code, errs)
	wide("defaults", "/defaults", chromedp.WaitVisible(chromedp.CSS("[data-setting]")))
	wide("machine", "/machine", chromedp.WaitVisible(chromedp.CSS("[data-verdict]")))
	hosting(t, s, shoot, console)
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
	quietly := func(arguments ...string) string { // without the progress lines
		out, _, _ := s.cli(arguments...)
		return typed(arguments) + "\n" + strings.TrimSpace(out) + "\n"
	}
	terminal("stencils", command("stencil"), quietly("new", "cider-days", "-stencil", "orchard-basics", "-php", "8.2"),
		command("users", "cider-days"), command("label", "cider-days", "-group", "Open to all", "-note", "October only"), command("cms"))
}

// hosting takes a picture of what would be pushed to a host.
func hosting(t *testing.T, s *service, shoot func(name string, steps ...chromedp.Action[chromedp.Void]), console string) {
	h := practiceHost(t, s, outside(t))
	h.account(t, s, "orchard-live", "orchard-days", "sftp")
	_, errs, code := s.cli("pull", "orchard-live", "orchard-next")
	require.Zero(t, code, errs)
	require.Eventually(t, func() bool { return fileIs(filepath.Join(s.home, "hosting/orchard-live/base.json")) }, 20*time.Second,
		20*time.Millisecond)
	written(t, s.site(t, "orchard-next"), "wp-content/themes/hedge/style.css", "/* Theme Name: Hedge */")
	post(t, s.site(t, "orchard-next"), "", `require 'wp-load.php'; wp_insert_post(['post_title' => 'Quinces', 'post_status' => 'publish']);`)
	press := func(words string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(`//button[normalize-space(.)="` + words + `"]`)
	}
	shoot("hosting", chromedp.Navigate(console+"/hosting"), press("Look at the host"),
		chromedp.WaitVisible(`//li[contains(., "the helper is gone")]`), press("Push…"),
		press("What would be pushed?"),
		chromedp.WaitVisible(`//li[contains(., "style.css")]`))
	s.retire(t, "orchard-next")
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

// guests are invited to a site, look at it, and remark something.
func guests(t *testing.T, s *service, wide func(name, path string, steps ...chromedp.Action[chromedp.Void])) {
	t.Helper()
	relayed(t, s)
	i := invited(t, s, "orchard-days", "-label", "orchard-autumn", "-open", "-remarks", "-note", "the choir looks at it")
	by := guest(t, i)
	for _, path := range []string{"", "wp-admin/", "apple-tasting/"} {
		getBy(t, by, i.Address+path)
	}
	text := `{"page":"/","text":"Could this say that the pears are ripe?","who":"Ines Halloway","excerpt":"Orchard Days",` +
		`"width":390,"height":844}`
	request, err := http.NewRequest("POST", i.Address+"vessik-guest/remarks", strings.NewReader(text))
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Origin", origin(i.Address))
	request.Header.Set("User-Agent", "Mozilla/5.0 (Android 16; Mobile)")
	answer, err := by.Do(request)
	require.NoError(t, err)
	require.Equal(t, 200, answer.StatusCode, readAll(t, answer))
	_, errs, code := s.cli("remarks", "orchard-days", "-answer", "1", "-text", "They are. It says so now.")
	require.Zero(t, code, errs)
	wide("guests", "/sites/orchard-days/guests", chromedp.Click(`//button[text()="password and code"]`),
		chromedp.WaitVisible(chromedp.CSS(`img[alt="The address as a QR code"]`)),
		chromedp.WaitVisible(chromedp.CSS(`section[aria-label=Remarks]`)))
	s.cli("invites", "-end", i.ID)
}
