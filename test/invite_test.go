package test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// relay is one that the command runs, at which a service has an account.
type relay struct {
	home, at string
	flags    []string
	command  *exec.Cmd
}

func (r *relay) start(t testing.TB) {
	t.Helper()
	r.command = exec.Command(program, append([]string{"relay", "-home", r.home, "-domain",
		"guests.localhost", "-listen", r.at}, r.flags...)...)
	require.NoError(t, r.command.Start())
	require.Eventually(t, func() bool {
		connection, err := tls.Dial("tcp", r.at, &tls.Config{InsecureSkipVerify: true})
		if err == nil {
			connection.Close()
		}
		return err == nil
	}, time.Minute, 50*time.Millisecond)
}

func (r *relay) stop() {
	r.command.Process.Signal(syscall.SIGTERM)
	r.command.Wait()
}

// relayed is a relay that a service joined.
func relayed(t testing.TB, s *service, flags ...string) *relay {
	t.Helper()
	r := &relay{flags: flags, home: filepath.Join(outside(t), "relay"), at: "127.0.0.1:" + strconv.Itoa(freePort(t))}
	r.start(t)
	t.Cleanup(func() { r.stop() })
	token, errs, code := run(t, "relay", "token", "add", "ines", "-home", r.home)
	require.Zero(t, code, errs)
	_, port, _ := strings.Cut(r.at, ":")
	out, errs, code := s.cli("relays", "join", "guests.localhost:"+port, "-token", strings.TrimSpace(token))
	require.Zero(t, code, errs)
	require.Contains(t, out, "stands")
	return r
}

// invited invites to a site by the command.
func invited(t testing.TB, s *service, name string, flags ...string) (i client.Invitation) {
	t.Helper()
	out, errs, code := s.cli(append([]string{"invite", name, "-json"}, flags...)...)
	require.Zero(t, code, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &i))
	return i
}

// guest is a browser without a window that says the password of an invitation.
func guest(t testing.TB, i client.Invitation) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	by := &http.Client{Timeout: 30 * time.Second, Jar: jar, Transport: &http.Transport{DialContext: client.DialLoopback,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	if i.Password != "" {
		answer, err := by.PostForm(origin(i.Address)+"/vessik-guest/", url.Values{"password": {i.Password},
			"to": {strings.TrimPrefix(i.Address, origin(i.Address))}})
		require.NoError(t, err)
		answer.Body.Close()
		require.Equal(t, 200, answer.StatusCode)
	}
	return by
}

func origin(address string) string {
	u, _ := url.Parse(address)
	return u.Scheme + "://" + u.Host
}

// A guest works in WordPress at another address, and what is made there has its right address on both sides.
func TestAGuestWorksAtAnotherAddress(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "wordpress"}))
	defer s.retire(t, "orchard-days")
	relayed(t, s)
	i := invited(t, s, "orchard-days", "-note", "for Ines", "-for", "2h")
	local := s.secrets(t, "orchard-days")

	ctx := chromium(t, 390, 844, chromedp.Flag("ignore-certificate-errors", true))
	do := steps(t, ctx)
	do("the password", chromedp.Navigate(i.Address), chromedp.WaitVisible(chromedp.CSS(`#password`)),
		chromedp.SendKeys(chromedp.CSS(`#password`), i.Password+"\r"),
		chromedp.WaitVisible(chromedp.CSS(`.wp-site-blocks`)))
	base := strings.TrimSuffix(i.Address, "/")
	do("signing in", chromedp.Navigate(base+"/wp-login.php"), chromedp.WaitVisible(chromedp.CSS(`#user_login`)),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`void (user_login.value = %q, user_pass.value = %q, loginform.submit())`,
			local.Administrator.Name, local.Administrator.Password)),
		chromedp.WaitReady(chromedp.CSS(`#wpadminbar`)))
	do("the editor", chromedp.Navigate(base+"/wp-admin/post-new.php"),
		chromedp.WaitReady(chromedp.CSS(`.editor-visual-editor, .edit-post-visual-editor`)))
	made, err := chromedp.Run(ctx, chromedp.Evaluate[struct{ Link, Image string }](`(async () => {
  const canvas = document.createElement("canvas"); canvas.width = canvas.height = 40;
  const blob = await new Promise((done) => canvas.toBlob(done, "image/png"));
  const image = await new Promise((done, fail) => wp.mediaUtils.uploadMedia({ filesList: [new File([blob], "pear.png",
	{ type: "image/png" })],
    onFileChange: ([one]) => one && one.id && done(one.url), onError: fail }));
  wp.data.dispatch("core/editor").editPost({ title: "Pears are ripe", status: "publish",
    content: '<!-- wp:image --><figure class="wp-block-image"><img src="' + image + '" alt="A pear"/></figure><!-- /wp:image -->' });
  await wp.data.dispatch("core/editor").savePost();
  return { Link: wp.data.select("core/editor").getPermalink(), Image: image };
})()`, chromedp.EvalAwaitPromise))
	require.NoError(t, err, "a post with a picture")
	assert.True(t, strings.HasPrefix(made.Link, base+"/"), made.Link)
	assert.True(t, strings.HasPrefix(made.Image, base+"/wp-content/uploads/"), made.Image)
	do("the post", chromedp.Navigate(made.Link), chromedp.WaitVisible(chromedp.CSS(`.wp-block-image img`)))
	drawn, err := chromedp.Run(ctx, chromedp.Evaluate[bool](
		`document.title.includes("Pears are ripe") && document.querySelector(".wp-block-image img").naturalWidth === 40`))
	require.NoError(t, err)
	assert.True(t, drawn)

	here := strings.Replace(made.Link, base, strings.TrimSuffix(local.URL, "/"), 1)
	status, page, _ := get(t, here)
	assert.Equal(t, 200, status)
	assert.Contains(t, page, strings.Replace(made.Image, base, strings.TrimSuffix(local.URL, "/"), 1))
	assert.NotContains(t, page, "guests.localhost")
	assert.Equal(t, "0", strings.TrimSpace(query(t, local, "SELECT COUNT(*) FROM "+local.Prefix+"posts WHERE CONCAT(post_content,guid) "+
		"LIKE '%guests%'")),
		"nothing of the other address is kept")
	asked, err := s.Guested(context.Background(), "orchard-days", 1000)
	require.NoError(t, err)
	assert.Greater(t, len(asked), 20)
	assert.Equal(t, "127.0.0.1", asked[0].Guest)
}

// An invitation shows what it is for, for as long as it is for, and says so.
func TestInvitations(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "wordpress"}, client.Request{Name: "roses", CMS: "empty"}))
	_, errs, code := s.cli("invite", "orchard-days")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "relays join")
	_, errs, code = s.cli("relays", "join", "guests.localhost:1", "-token", "a")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "not reached")
	r := relayed(t, s)
	_, errs, code = s.cli("relays", "join", "guests.localhost:"+strings.Split(r.at, ":")[1], "-token", "guessed")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "does not know it")
	out, _, _ := s.cli("relays")
	assert.Contains(t, out, "stands", "what stood stays")
	for flags, want := range map[string]string{"-password short": "6 characters", "-open -password long-enough": "without a password",
		"-only shop": "begin with a slash", "-label A!": "small letters", "-relay other.example": "no account", "-lan nosuch0": "no address",
		"-for 1s": "1m"} {
		_, errs, code := s.cli(append([]string{"invite", "orchard-days"}, strings.Fields(flags)...)...)
		assert.NotZero(t, code, flags)
		assert.Contains(t, errs, want, flags)
	}

	i := invited(t, s, "orchard-days", "-label", "orchard", "-open", "-read-only")
	assert.Contains(t, i.Address, "https://orchard.guests.localhost:")
	by := guest(t, i)
	status, text, answer := getBy(t, by, i.Address)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, origin(i.Address)+"/wp-content/")
	assert.NotContains(t, text, "orchard-days.localhost")
	assert.Contains(t, answer.Get("X-Robots-Tag"), "noindex")
	status, _, _ = getBy(t, by, origin(i.Address)+"/wp-login.php")
	assert.Equal(t, 403, status)
	_, errs, code = s.cli("invite", "roses", "-label", "orchard")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "stands already")

	only := invited(t, s, "orchard-days", "-only", "/?page_id=2")
	assert.Equal(t, "/?page_id=2", strings.TrimPrefix(only.Address, origin(only.Address)))
	_, errs, code = s.cli("invites", "-end", only.ID)
	require.Zero(t, code, errs)
	only = invited(t, s, "orchard-days", "-only", "/sample-page/")
	by = guest(t, only)
	status, text, _ = getBy(t, by, only.Address)
	assert.Equal(t, 200, status)
	style := between(text, `href='`+origin(only.Address), `'`)
	for address, want := range map[string]int{style: 200, "/": 403, "/hello-world/": 403, "/sample-page/?p=1": 403,
		"/sample-page/%2e%2e/hello-world/": 403} {
		status, _, _ := getBy(t, by, origin(only.Address)+address)
		assert.Equal(t, want, status, address)
	}
	out, _, _ = s.cli("invites")
	assert.Contains(t, out, "see /sample-page/")
	out, _, _ = s.cli("invites", "orchard-days", "-asked")
	assert.Contains(t, out, "one part of the site only")

	r.stop()
	r.start(t)
	require.Eventually(t, func() bool { status, _, _ := getBy(t, by, only.Address); return status == 200 }, 30*time.Second,
		100*time.Millisecond,
		"a relay that starts again lends the same address")
	status, body, _ := getBy(t, by, fmt.Sprintf("https://vessik.localhost:%s/", strings.Split(r.at, ":")[1]))
	assert.Equal(t, 421, status, body)

	_, errs, code = s.cli("invites", "-end", only.ID)
	require.Zero(t, code, errs)
	status, _, _ = getBy(t, by, only.Address)
	assert.Equal(t, 404, status)
	last := invited(t, s, "roses", "-open")
	s.retire(t, "roses")
	require.Eventually(t, func() bool { status, _, _ := getBy(t, by, last.Address); return status == 404 }, 10*time.Second,
		50*time.Millisecond,
		"it ends with its site")

	ctx := page(t, s, 1280, 800)
	do := steps(t, ctx)
	do("invite on the console", chromedp.Navigate(mustStatus(t, s).Console+"sites/orchard-days/guests"),
		chromedp.WaitVisible(chromedp.CSS(`form[aria-label=Invite]`)),
		chromedp.Click(`//button[text()="Lend it an address"]`), chromedp.WaitVisible(chromedp.CSS(`img[alt="The address as a QR code"]`)))
	assert.Empty(t, axe(t, ctx))
	standing, err := s.Invitations(context.Background(), "orchard-days")
	require.NoError(t, err)
	require.Len(t, standing, 2)
	assert.True(t, standing[0].Asks)

	near := invited(t, s, "orchard-days", "-lan", "127.0.0.1")
	by = guest(t, near)
	status, text, _ = getBy(t, by, near.Address)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, near.Address+"wp-content/")
	assert.Len(t, near.Fingerprint, 64)
	port := strings.Split(origin(near.Address), ":")[2]
	_, _, code = s.cli("relays", "leave", "guests.localhost:"+strings.Split(r.at, ":")[1])
	assert.Zero(t, code)
	s.stop()
	_, err = tls.Dial("tcp", "127.0.0.1:"+port, &tls.Config{InsecureSkipVerify: true})
	require.Error(t, err, "all ends with the service")
}

// Another CMS, another web server, and a network whose sub-sites have domains of their own are seen by guests as by everybody.
func TestGuestsOfOtherSites(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "seed-press", CMS: "spip", PHP: "8.4", Web: "apache"},
		client.Request{Name: "moss-archive", CMS: "wordpress", Network: "domains", SubSites: []string{"north"}}))
	defer s.retire(t, "seed-press", "moss-archive")
	relayed(t, s)
	press, moss := invited(t, s, "seed-press"), invited(t, s, "moss-archive", "-open")

	ctx := chromium(t, 1280, 800, chromedp.Flag("ignore-certificate-errors", true))
	do := steps(t, ctx)
	keeper := s.secrets(t, "seed-press").Administrator
	do("SPIP", chromedp.Navigate(press.Address), chromedp.WaitVisible(chromedp.CSS(`#password`)),
		chromedp.SendKeys(chromedp.CSS(`#password`), press.Password+"\r"), chromedp.WaitVisible(chromedp.CSS(`body.page_sommaire, #page`)),
		chromedp.Navigate(press.Address+"spip.php?page=login&url=ecrire%2F"), chromedp.WaitVisible(chromedp.CSS(`#var_login`)),
		chromedp.SendKeys(chromedp.CSS(`#var_login`), keeper.Name), chromedp.SendKeys(chromedp.CSS(`input[type=password][name=password]`),
			keeper.Password+"\r"), chromedp.WaitReady(chromedp.CSS(`#bando_navigation`)))
	at, err := chromedp.Run(ctx, chromedp.Evaluate[string]("location.href"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(at, press.Address+"ecrire/"), at)

	north := moss.Others["north.moss-archive.localhost"]
	require.NotEmpty(t, north)
	by := guest(t, moss)
	for _, address := range []string{moss.Address, north} {
		status, text, _ := getBy(t, by, address)
		assert.Equal(t, 200, status)
		assert.Contains(t, text, address+"wp-content/")
		assert.NotContains(t, text, "moss-archive.localhost")
	}
	_, text, _ := getBy(t, by, north)
	assert.Contains(t, text, "<title>North")
}
