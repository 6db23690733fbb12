package test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// A terminal of the console is the site's: it shows what runs there, is not drowned by output, and ends with its session and its page.
func TestATerminalOfTheConsole(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}))
	defer s.retire(t, "orchard-days")
	require.NoError(t, os.WriteFile(filepath.Join(s.site(t, "orchard-days").Folder, "where.txt"), []byte("in the orchard"), 0o644))
	ctx := page(t, s, 1280, 800)
	do := steps(t, ctx)
	shows := func(text string) chromedp.Action[chromedp.Void] {
		return chromedp.WaitVisible(`//*[contains(@class, "xterm-rows")]/div[contains(., "` + text + `")]`)
	}
	typed := func(text string) chromedp.Action[chromedp.Void] { return chromedp.KeyEvent(text) }
	do("a shell", chromedp.Navigate(mustStatus(t, s).Console+"sites/orchard-days/terminal"), shows("$"))
	do("its PHP and its folder", typed(`php -r 'echo PHP_MAJOR_VERSION * 111, ": ", file_get_contents("where.txt"), "\n";'`+"\n"),
		shows("888: in the orchard"))
	do("nothing else", typed("cat "+filepath.Join(s.home, "token")+" || echo un''seen\n"), shows("unseen"))
	do("its database", typed("mariadb -e 'SELECT CONCAT(DATABASE(), 6 * 7)'\n"), shows("orchard_days42"))
	do("a flood of output, broken off", typed("yes the river is high\n"), shows("the river is high"), chromedp.Sleep(3*time.Second),
		chromedp.KeyEvent("c", chromedp.KeyModifiers(chromedp.ModifierCtrl)), typed("clear; echo it is d''ry\n"), shows("it is dry"))

	runs := func() bool {
		found, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, path := range found {
			if text, err := os.ReadFile(path); err == nil && strings.HasPrefix(string(text), "sleep\x0098765") {
				return true
			}
		}
		return false
	}
	do("what lasts", typed("sleep 98765\n"))
	require.Eventually(t, runs, 20*time.Second, 50*time.Millisecond)
	_, errs, code := s.cli("console", "-end-all")
	require.Zero(t, code, errs)
	require.Eventually(t, func() bool { return !runs() }, 20*time.Second, 50*time.Millisecond, "a session that is over has no terminals")

	// Its address is good once, and for the console's own pages.
	request := func() string {
		link, err := s.Terminal(context.Background(), "orchard-days")
		require.NoError(t, err)
		return s.Base + link.URL
	}
	dial := func(address, origin string) error {
		options := &websocket.DialOptions{HTTPHeader: http.Header{"Origin": {origin}}}
		socket, _, err := websocket.Dial(context.Background(), address, options)
		if err == nil {
			socket.CloseNow()
		}
		return err
	}
	address := request()
	assert.NoError(t, dial(address, s.Base))
	assert.Error(t, dial(address, s.Base), "it was used")
	assert.Error(t, dial(request(), "http://orchard-days.localhost"), "a page of a site")
	path, _, _ := strings.Cut(request(), "?")
	assert.Error(t, dial(path, s.Base), "without its ticket")
}
