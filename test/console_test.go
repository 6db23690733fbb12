package test

import (
	"context"
	"os/exec"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
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
	ctx, cancel = context.WithTimeout(ctx, 120*time.Second)
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
