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
	requirePassed(t, s.made(t, append(requests, client.Request{Name: "volunteer-desk"})...))
	for _, each := range fleet.Sites {
		require.NoError(t, demo.Fill(context.Background(), each, s.site(t, each.Name)))
	}
	s.do(t, plan.Stop, "volunteer-desk")
	ctx := page(t, s, 1280, 800)
	shoot := func(name string, steps ...chromedp.Action[chromedp.Void]) {
		require.NoError(t, chromedp.Do(ctx, append(steps, chromedp.Sleep(500*time.Millisecond))...))
		picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".png"), picture, 0o644))
	}
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void (document.documentElement.dataset.theme = %q)", name))
	}
	shoot("fleet", theme("light"))
	shoot("fleet-dark", theme("dark"))
	shoot("new-site", theme("light"), chromedp.Click(`//button[text()="New site"]`), chromedp.WaitVisible(`input[name=name]`), chromedp.SendKeys(`input[name=name]`, "Moss"), chromedp.Sleep(300*time.Millisecond),
		chromedp.SendKeys(`input[name=name]`, "\b\b\b\borchard-days"))
	shoot("site", chromedp.Navigate(console+"/sites/fernhollow"), chromedp.WaitVisible(`[data-check=sign-in]`), chromedp.Click(`[data-check=sign-in]`))
	shoot("operations", chromedp.Navigate(console+"/operations"), chromedp.WaitVisible(chromedp.CSS("details")), chromedp.Click(chromedp.CSS("summary")))
	folderOf := s.site(t, "glasshouse-journal").Folder
	require.NoError(t, os.WriteFile(filepath.Join(folderOf, "wp-content/themes/twentytwentythree/functions.php"), []byte("<?php\nseeds_missing();\n"), 0o644))
	s.do(t, plan.Verify, "glasshouse-journal")
	shoot("failing-site", chromedp.Navigate(console+"/sites/glasshouse-journal"), chromedp.WaitVisible(`[data-shown=fail]`))

	ctx = chromium(t, 1280, 800)
	shoot("stopped", chromedp.Navigate(s.site(t, "volunteer-desk").URL), chromedp.WaitVisible(chromedp.CSS("h1")))

	terminal := func(name string, lines ...string) {
		text := `<body style="margin:0;background:#15191b;color:#e9e5da;font:15px/1.5 'DejaVu Sans Mono',monospace"><pre style="margin:28px 32px;white-space:pre-wrap">` + html.EscapeString(strings.Join(lines, "\n")) + "</pre>"
		shoot(name, chromedp.Navigate("data:text/html;charset=utf-8;base64,"+base64.StdEncoding.EncodeToString([]byte(text))))
	}
	command := func(arguments ...string) string {
		out, errs, _ := s.cli(arguments...)
		return "$ vessik " + strings.Join(arguments, " ") + "\n" + strings.TrimSpace(errs+out) + "\n"
	}
	terminal("commands", command("sites"), command("site", "fernhollow"), command("engines"))
	terminal("verify", command("verify", "fernhollow", "glasshouse-journal"))
	terminal("refusals", command("new", "Orchard_Days", "-port", "80", "-admin", "admin", "-admin-password", "secret"), command("new", "fernhollow"), command("stop"), command("new", "a", "b", "-title", "Both"))
}

func mustStatus(t testing.TB, s *service) client.Status {
	t.Helper()
	status, err := s.Status(context.Background())
	require.NoError(t, err)
	return status
}
