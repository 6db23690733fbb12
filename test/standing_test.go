package test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// keeping is a relay that keeps copies, once the service beside it is there.
func keeping(t testing.TB, s *service, flags ...string) (r *relay, host string) {
	t.Helper()
	r = relayed(t, s, append([]string{"-standing"}, flags...)...)
	_, port, _ := strings.Cut(r.at, ":")
	r.waitForCopies(t, s)
	return r, "guests.localhost:" + port
}

func (r *relay) waitForCopies(t testing.TB, s *service) {
	t.Helper()
	require.Eventually(t, func() bool {
		all, err := s.Standing(context.Background(), "", false)
		return err == nil && len(all.Unreached) == 0
	}, 2*time.Minute, 200*time.Millisecond)
}

// stood sends a copy by the command, and tells what came of it.
func stood(t testing.TB, s *service, name, host string, flags ...string) (up client.StoodUp) {
	t.Helper()
	out, errs, code := s.cli(append([]string{"standing", name, "-at", host, "-json"}, flags...)...)
	require.Zero(t, code, errs)
	var watched client.Watched
	require.NoError(t, json.Unmarshal([]byte(out), &watched))
	require.NoError(t, json.Unmarshal(watched.Details, &up))
	require.NotNil(t, up.Copy, out)
	return up
}

// A copy of a site stands at a relay while the service that sent it is away: it is brought up to date by what changed alone, guests leave
// remarks and mail, which come home, and nothing is left when it ends.
func TestACopyStandsWhileItsMakerIsAway(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "wordpress"}))
	r, host := keeping(t, s)
	root := s.site(t, "orchard-days").Folder
	noise := make([]byte, 4<<20)
	random := rand.NewChaCha8([32]byte{7})
	random.Read(noise)
	upload := filepath.Join(root, "wp-content/uploads/pears.bin")
	require.NoError(t, os.MkdirAll(filepath.Dir(upload), 0o755))
	require.NoError(t, os.WriteFile(upload, noise, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "post.php"), []byte(`<?php echo mail('ines@orchard.example', 'Pears', 'Ripe.')
? 'sent' : 'not sent', ' ', $_SERVER['HTTP_HOST'], ' ', is_readable('`+s.home+`/token') ? 'open' : 'shut',
' ', @fsockopen('`+host[:strings.Index(host, ":")]+`', `+host[strings.Index(host, ":")+1:]+`) ? 'asked' : 'alone';`), 0o644))

	first := stood(t, s, "orchard-days", host, "-remarks", "-password", "pear tree")
	assert.Empty(t, first.Copy.Password, "an operation tells no secrets")
	assert.Greater(t, first.Carried, int64(len(noise)))
	address := first.Copy.Address
	i := client.Invitation{Address: address, Password: "pear tree"}
	status, page, head := getBy(t, guest(t, i), address)
	require.Equal(t, 200, status)
	assert.Contains(t, page, "<title>Orchard Days")
	assert.Contains(t, page, strings.TrimSuffix(address, "/")+"/wp-content/")
	assert.NotContains(t, page, "orchard-days.localhost", "nothing of where it was made")
	assert.Contains(t, head.Get("X-Robots-Tag"), "noindex")
	status, page, _ = getBy(t, &http.Client{Transport: guest(t, client.Invitation{}).Transport}, address)
	assert.NotContains(t, page, "wp-content", "%d", status)

	copy(noise[1<<20:], "a word in the middle")
	require.NoError(t, os.WriteFile(upload, noise, 0o644))
	letIn := guest(t, i)
	again := stood(t, s, "orchard-days", host)
	status, page, _ = getBy(t, letIn, address)
	assert.Contains(t, page, "<title>Orchard Days", "%d: a guest who was let in goes on", status)
	assert.Less(t, again.Carried, first.Carried/4, "what did not change is not sent again")
	assert.Equal(t, []any{address, true}, []any{again.Copy.Address, again.Copy.Remarks})
	there, err := client.ForHome(filepath.Join(r.home, "service"))
	require.NoError(t, err)
	copies, err := there.Sites(ctx, false)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	require.Eventually(t, func() bool {
		points, err := there.RestorePoints(ctx, copies[0].Name)
		return err == nil && len(points) == 0
	}, 10*time.Second, 50*time.Millisecond, "nobody goes back at a relay")

	require.NoError(t, os.WriteFile(filepath.Join(root, "late.html"), []byte("Sent last"), 0o644))
	s.sends(t, "orchard-days", host)
	s.stop() // what was sent is put up all the same
	by := guest(t, i)
	require.Eventually(t, func() bool {
		_, page, _ := getBy(t, by, address+"late.html")
		return page == "Sent last"
	}, time.Minute, 200*time.Millisecond)
	_, page, _ = getBy(t, by, address+"post.php")
	assert.Regexp(t, `^sent copy-[0-9a-f]{12}\.localhost:\d+ shut alone$`, page)
	status, said, _ := getBy(t, by, address+"wp-content/uploads/pears.bin")
	assert.Equal(t, 200, status)
	assert.Equal(t, string(noise), said)
	leaveRemark(t, by, address, "The pears look ripe.")

	s = start(t, s.home)
	all, err := s.Standing(context.Background(), "orchard-days", true)
	require.NoError(t, err)
	require.Len(t, all.Copies, 1)
	assert.Equal(t, "pear tree", all.Copies[0].Password)
	assert.Equal(t, []int{1, 1}, []int{all.Copies[0].Remarked, all.Copies[0].Mails})
	out, errs, code := s.cli("standing", "-bring")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "orchard-days")
	mails, err := s.Mails(context.Background(), client.MailAsked{Site: "orchard-days"})
	require.NoError(t, err)
	require.NotEmpty(t, mails)
	assert.Equal(t, "Pears", mails[0].Subject)
	out, errs, code = s.cli("remarks", "orchard-days", "-copy")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "The pears look ripe.")
	remarked, err := s.CopyRemarks(context.Background(), "orchard-days", "")
	require.NoError(t, err)
	_, errs, code = s.cli("remarks", "orchard-days", "-copy", "-answer", strconv.FormatInt(remarked[0].ID, 10), "-text", "They are.")
	require.Zero(t, code, errs)
	_, page, _ = getBy(t, by, origin(address)+"/vessik-guest/remarks?page=/")
	assert.Contains(t, page, "They are.", "the guest sees the answer")

	s.diesWhilePuttingUp(t, r, host, address, by)

	_, errs, code = s.cli("standing", "orchard-days", "-end")
	require.Zero(t, code, errs)
	out, _, _ = s.cli("remarks", "orchard-days")
	assert.Contains(t, out, "They are.", "what guests said came home")
	status, _, _ = getBy(t, by, address)
	assert.Equal(t, 404, status)
	left, err := there.Sites(context.Background(), false)
	require.NoError(t, err)
	assert.Empty(t, left)
	files, err := filepath.Glob(filepath.Join(r.home, "service/copies/*"))
	require.NoError(t, err)
	assert.Empty(t, files)
}

// sends begins to bring a copy up to date, and waits until the relay puts it up.
func (s *service) sends(t *testing.T, name, host string) client.Operation {
	t.Helper()
	operation, err := s.Stand(context.Background(), name, client.Stand{Relay: host})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		all, err := s.Standing(context.Background(), name, false)
		return err == nil && len(all.Copies) == 1 && all.Copies[0].State == "making"
	}, time.Minute, 20*time.Millisecond)
	return operation
}

func leaveRemark(t testing.TB, by *http.Client, address, text string) {
	t.Helper()
	body, err := json.Marshal(map[string]any{"page": "/", "text": text, "who": "Ines", "width": 1280, "height": 800})
	require.NoError(t, err)
	q, err := http.NewRequest("POST", origin(address)+"/vessik-guest/remarks", strings.NewReader(string(body)))
	require.NoError(t, err)
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set("Origin", origin(address))
	answer, err := by.Do(q)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
}

// diesWhilePuttingUp has the relay's machine die while a copy is brought up to date: it is, once the relay runs again.
func (s *service) diesWhilePuttingUp(t *testing.T, r *relay, host, address string, by *http.Client) {
	t.Helper()
	about := filepath.Join(s.site(t, "orchard-days").Folder, "about.html")
	require.NoError(t, os.WriteFile(about, []byte("About the orchard"), 0o644))
	operation := s.sends(t, "orchard-days", host)
	ended, err := client.ForHome(filepath.Join(r.home, "service"))
	require.NoError(t, err)
	r.command.Process.Signal(syscall.SIGKILL)
	r.command.Wait()
	s.watch(t, operation)
	require.Eventually(t, func() bool { _, err := ended.Status(context.Background()); return err != nil }, time.Minute, 50*time.Millisecond,
		"the service beside it ends with it")
	r.start(t)
	require.Eventually(t, func() bool {
		all, err := s.Standing(context.Background(), "", false)
		return err == nil && len(all.Copies) == 1 && all.Copies[0].State == "stands"
	}, 2*time.Minute, 200*time.Millisecond)
	require.Eventually(t, func() bool {
		status, _, _ := getBy(t, by, address)
		return status == http.StatusUnauthorized
	}, time.Minute, 100*time.Millisecond, "its password is asked for again")
	*by = *guest(t, client.Invitation{Address: address, Password: "pear tree"})
	_, page, _ := getBy(t, by, address+"about.html")
	assert.Contains(t, page, "About the orchard")
}

// A relay keeps so many copies of an account, and shows them to nobody else.
func TestCopiesOfAnAccountAreBounded(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "roses", CMS: "empty"}, client.Request{Name: "moss", CMS: "empty"}))
	assert.NotEqual(t, s.site(t, "roses").CreatedAt, s.site(t, "moss").CreatedAt, "by which they are told from each other")
	r, host := keeping(t, s, "-copies", "1", "-copies-room", "64")
	up := stood(t, s, "roses", host, "-open")
	status, page, _ := getBy(t, guest(t, client.Invitation{}), up.Copy.Address)
	assert.Equal(t, 200, status, page)
	for want, arguments := range map[string][]string{"1 copies of an account": {"moss", "-at", host},
		"account at":           {"moss", "-at", "elsewhere.example"},
		"no copy of":           {"moss", "-end"},
		"name the site":        {"-end"},
		"for 30 days":          {"roses", "-at", host, "-for", "2000h"},
		"say one of them":      {"roses", "-at", host, "-open", "-password", "pear tree"},
		"begin with a slash":   {"roses", "-at", host, "-only", "shop"},
		"is not in the site's": {"roses", "-at", host, "-without", "nowhere"}} {
		_, errs, code := s.cli(append([]string{"standing"}, arguments...)...)
		assert.NotZero(t, code)
		assert.Contains(t, errs, want)
	}
	big := filepath.Join(s.site(t, "roses").Folder, "big.bin")
	require.NoError(t, os.WriteFile(big, make([]byte, 80<<20), 0o644))
	_, errs, code := s.cli("standing", "roses", "-at", host)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "64 MB of an account")
	require.NoError(t, os.Remove(big))
	status, _, _ = getBy(t, guest(t, client.Invitation{}), up.Copy.Address)
	assert.Equal(t, 200, status, "what stood before still does")

	fills := `<?php $file = fopen(sys_get_temp_dir() . "/fills", "w"); for ($i = 0; $i < 150; $i++) fwrite($file, str_repeat("x", 1 << 20));`
	require.NoError(t, os.WriteFile(filepath.Join(s.site(t, "roses").Folder, "public", "fills.php"), []byte(fills), 0o644))
	up = stood(t, s, "roses", host, "-open")
	status, _, _ = getBy(t, guest(t, client.Invitation{}), up.Copy.Address+"/fills.php")
	assert.Equal(t, 200, status)
	require.Eventually(t, func() bool {
		out, _, _ := s.cli("standing")
		return strings.Contains(out, " over ") && strings.Contains(out, "copies may take 128 MB in all")
	}, time.Minute, 100*time.Millisecond, "what is written at the relay counts")
	require.Eventually(t, func() bool {
		status, _, _ := getBy(t, guest(t, client.Invitation{}), up.Copy.Address)
		return status == 404
	}, time.Minute, 50*time.Millisecond, "it is ended a moment after that is told")
	_, errs, code = s.cli("standing", "roses", "-at", host)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "end it before you send it again")
	_, errs, code = s.cli("standing", "roses", "-end")
	require.Zero(t, code, errs)
	require.NoError(t, os.Remove(filepath.Join(s.site(t, "roses").Folder, "public", "fills.php")))
	up = stood(t, s, "roses", host, "-open")

	token, errs, code := run(t, "relay", "token", "add", "tomas", "-home", r.home)
	require.Zero(t, code, errs)
	asTomas := func(method, path, token string) (int, string) {
		q, err := http.NewRequest(method, fmt.Sprintf("https://%s/standing/%s", host, path), nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+strings.TrimSpace(token))
		return sent(t, guest(t, client.Invitation{}), q)
	}
	status, page = asTomas("GET", "", token)
	assert.Equal(t, []any{200, "[]\n"}, []any{status, page})
	for _, each := range [][2]string{{"GET", up.Copy.Key}, {"DELETE", up.Copy.Key}, {"GET", up.Copy.Key + "/mail"},
		{"GET", up.Copy.Key + "/remarks"}, {"GET", "../ines/" + up.Copy.Key}, {"GET", "%2e%2e%2fines"}} {
		status, page = asTomas(each[0], each[1], token)
		assert.Contains(t, []int{301, 307, 404}, status, "%v %s", each, page)
	}
	status, _ = asTomas("GET", "", "guessed")
	assert.Equal(t, 401, status)

	_, errs, code = run(t, "relay", "token", "drop", "ines", "-home", r.home)
	require.Zero(t, code, errs)
	there, err := client.ForHome(filepath.Join(r.home, "service"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		left, err := there.Sites(context.Background(), false)
		return err == nil && len(left) == 0
	}, time.Minute, 200*time.Millisecond, "copies go with their account")
}

func sent(t testing.TB, by *http.Client, q *http.Request) (int, string) {
	t.Helper()
	answer, err := by.Do(q)
	require.NoError(t, err)
	return answer.StatusCode, readAll(t, answer)
}
