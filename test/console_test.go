package test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
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
	do(chromedp.WaitVisible(chromedp.CSS(`input[placeholder="orchard-days.localhost"]`)), chromedp.WaitVisible(chromedp.CSS(`button[type=submit]:enabled`)), chromedp.Click(chromedp.CSS(`button[type=submit]`)))
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
