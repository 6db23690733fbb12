package test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// Whoever looks at the console when the service is gone is told so at once, sees what was known, and goes on when it is back.
func TestTheConsoleSaysThatTheServiceIsGone(t *testing.T) {
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "empty"}))
	ctx := page(t, s, 1280, 800)
	do := steps(t, ctx)
	do("the fleet", chromedp.WaitVisible(chromedp.CSS(`[data-site=moss-archive][data-state=running]`)))
	s.kill()
	do("told", chromedp.WaitVisible(`//div[@role="alert"][contains(., "has not answered since")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-known=then] [data-site=moss-archive]`)))
	next := launch(t, s.home)
	t.Cleanup(next.stop)
	do("back", chromedp.WaitNotPresent(`//div[@role="alert"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-known=now] [data-site=moss-archive][data-state=running]`)))
	require.Equal(t, "moss-archive", next.site(t, "moss-archive").Name)
}
