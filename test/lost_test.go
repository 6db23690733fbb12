package test

import (
	"net"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// Whoever looks at the console when the service is gone is told so at once, sees what was known, and goes on when it is back.
func TestTheConsoleSaysThatTheServiceIsGone(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "empty"}))
	ctx := page(t, s, 1280, 800)
	do := steps(t, ctx)
	do("the fleet", chromedp.WaitVisible(chromedp.CSS(`[data-site=moss-archive][data-state=running]`)))
	s.kill()
	back := nobodyAt(t, s)
	do("told", chromedp.WaitVisible(`//div[@role="alert"][contains(., "has not answered since")]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-known=then] [data-site=moss-archive]`)))
	back()
	next := launch(t, s.home)
	t.Cleanup(next.stop)
	do("back", chromedp.WaitNotPresent(`//div[@role="alert"]`),
		chromedp.WaitVisible(chromedp.CSS(`[data-known=now] [data-site=moss-archive][data-state=running]`)))
	require.Equal(t, "moss-archive", next.site(t, "moss-archive").Name)
}

// nobodyAt has nobody answer where a service has been, until it may be back: else the service of another test takes its place.
func nobodyAt(t *testing.T, s *service) (back func()) {
	t.Helper()
	listener, err := net.Listen("tcp4", strings.TrimPrefix(s.Base, "http://"))
	require.NoError(t, err)
	back = sync.OnceFunc(func() { listener.Close() })
	t.Cleanup(back)
	go func() {
		for connection, err := listener.Accept(); err == nil; connection, err = listener.Accept() {
			connection.Close()
		}
	}()
	return back
}
