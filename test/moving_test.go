package test

import (
	"context"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/practice"
)

// hosted is a practice host that serves sites of a service, and where its customers come in.
type hosted struct {
	*practice.Host
	doors practice.Doors
	end   func()
}

// practiceHost lets customers in until the test ends.
func practiceHost(t testing.TB, s *service, dir string) *hosted {
	t.Helper()
	host, err := practice.Open(dir, s.Client, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	doors, err := practice.OpenDoors(0, 0, 0)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- host.Serve(ctx, doors) }()
	h := &hosted{Host: host, doors: doors, end: func() {
		cancel()
		assert.NoError(t, <-ended)
		ended <- nil
	}}
	t.Cleanup(h.end)
	return h
}

// account adds a site of the host as a hosting account.
func (h *hosted) account(t testing.TB, s *service, account, name, scheme string) practice.Environment {
	t.Helper()
	e, err := h.Rent(s.site(t, name), "orchard", "live")
	require.NoError(t, err)
	door := map[string]string{"sftp": h.doors.SSH.Addr().String(), "ftps": h.doors.FTP.Addr().String()}[scheme]
	_, err = s.AddAccount(ctx, client.AddAccount{Name: account, At: scheme + "://" + e.User + "@" + door + "/",
		URL:      strings.TrimSuffix(e.URL, "/"),
		Password: e.Password})
	require.NoError(t, err)
	return e
}

// noHelper looks for what Vessik lays at a host.
func noHelper(t testing.TB, folder string) {
	t.Helper()
	left, err := filepath.Glob(filepath.Join(folder, "move-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing of ours stays at the host")
}

// sameFiles compares what a site has with what the host has, but for its configuration and what runs write.
func sameFiles(t testing.TB, there, here string) {
	t.Helper()
	read := func(folder string) map[string]string {
		all := map[string]string{}
		require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() || d.Name() == "wp-config.php" {
				return err
			}
			text, err := os.ReadFile(path)
			name, _ := filepath.Rel(folder, path)
			all[name] = string(text)
			return err
		}))
		return all
	}
	want, got := read(there), read(here)
	for name, text := range want {
		if got[name] != text {
			t.Errorf("%s is %d bytes here, and %d at the host", name, len(got[name]), len(text))
		}
		delete(got, name)
	}
	for name := range got {
		t.Errorf("%s is here, and not at the host", name)
	}
}

// A site comes from a host: new, and again with what differs alone; with its content under the new address, and no secret of the host's.
func TestASiteIsPulledFromAHost(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "orchard-live"))
	defer s.retire(t, "orchard-live")
	live := s.secrets(t, "orchard-live")
	inPHP := inPHP(t, s)
	inPHP("orchard-live", `wp_insert_post(['post_title' => 'Apple week', 'post_status' => 'publish',
			'post_content' => '<a href="'.home_url('/press/').'">press</a>']);
		wp_create_user('ines', 'the-gate-is-open-9', 'ines@fernhollow.example'); update_option('fernhollow', ['at' => home_url('/hedge/')]);
		$wpdb->query("CREATE TABLE {$wpdb->prefix}raw (id INT PRIMARY KEY, bytes VARBINARY(20), twice INT AS (id*2))");
		$wpdb->query("INSERT INTO {$wpdb->prefix}raw (id, bytes) VALUES (4, X'00FF27'), (5, NULL)");`)
	h := practiceHost(t, s, outside(t))
	h.account(t, s, "orchard", "orchard-live", "sftp")

	out, errs, code := s.cli("hosting", "check", "orchard")
	require.Zero(t, code, out+errs)
	for _, says := range []string{"pinned now", "the user may run commands", "WordPress 6.8", "13 tables", "the helper is gone"} {
		assert.Contains(t, out, says)
	}
	out, errs, code = s.cli("pull", "orchard", "orchard-days", "-dry-run")
	require.Zero(t, code, errs)
	assert.Regexp(t, `files that differ here: \d+ new, 0 changed, 0 gone`, out)
	assert.Contains(t, out, "Nothing was carried.")
	out, errs, code = s.cli("pull", "orchard", "orchard-days")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "orchard-days")
	noHelper(t, live.Folder)
	here := s.site(t, "orchard-days")
	assert.Equal(t, "Orchard Live", here.Title)
	assert.Equal(t, here.URL+"press/", inPHP("orchard-days", `
		preg_match('~href="([^"]+)"~', get_posts(['title' => 'Apple week'])[0]->post_content, $m);
		echo $m[1];`))
	assert.Equal(t, here.URL+"hedge/ 00FF27 8 ines@fernhollow.example", inPHP("orchard-days",
		`$o = get_option('fernhollow'); echo $o['at'], ' ',
		$wpdb->get_var("SELECT CONCAT(HEX(bytes), ' ', twice) FROM {$wpdb->prefix}raw WHERE id=4"), ' ',
		get_user_by('login', 'ines')->user_email;`))
	sameFiles(t, live.Folder, here.Folder)
	assert.Empty(t, holding(t, filepath.Join(s.home, "hosting"), live.Database.Password), "the host's password stays there")

	// What differs alone is carried; what was done here stays in a restore point.
	require.NoError(t, os.WriteFile(filepath.Join(live.Folder, "wp-content/apple.txt"), []byte("an apple"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(live.Folder, "readme.html")))
	require.NoError(t, os.Chtimes(filepath.Join(live.Folder, "index.php"), time.Now(), time.Now())) // and is the same
	inPHP("orchard-days", `update_option('blogdescription', 'done here');`)
	written(t, s.site(t, "orchard-days"), "wp-content/pear.txt", "a pear")
	out, errs, code = s.cli("pull", "orchard", "orchard-days", "-dry-run")
	require.Zero(t, code, out+errs)
	assert.Regexp(t, `and not at the host, whose take their place: wp-content/pear.txt, 1 rows of \w+options`, out)
	before := h.Carried()
	out, errs, code = s.cli("pull", "orchard", "orchard-days", "-mask", "people")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "wp-content/pear.txt")
	assert.Contains(t, out, "1 new, 0 changed, 1 gone")
	assert.Less(t, h.Carried()-before, int64(2<<20), "next to nothing went over the line")
	sameFiles(t, live.Folder, here.Folder)
	assert.NotContains(t, inPHP("orchard-days", `echo get_option('blogdescription'), get_user_by('login', 'ines')->user_email;`), "ines@")
	assert.NotContains(t, inPHP("orchard-days", `echo get_option('blogdescription');`), "done here")
	out, errs, code = s.cli("restore", "orchard-days", "-back", pointsOf(t, s, "orchard-days")[0].ID)
	require.Zero(t, code, out+errs)
	assert.Equal(t, "done here", inPHP("orchard-days", `echo get_option('blogdescription');`))
}

// Uploads stay at the host, and come when somebody asks for them here; or those alone that came to the host since.
func TestUploadsThatStayAtTheHost(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	h, live, here, _ := pulled(t, s, "sftp")
	old := "wp-content/uploads/2026/caf\u00e9 1.jpg"
	for name, text := range map[string]string{old: "an old one", "wp-content/uploads/2026/run.php": "<?php echo 'run';",
		"wp-content/uploads/2026/run.phtml": "run", "wp-content/uploads/.htaccess": "Require all denied", "wp-content/other.jpg": "other"} {
		written(t, live, name, text)
	}
	require.NoError(t, s.DropAccount(ctx, "orchard"))
	h.account(t, s, "orchard", "orchard-live", "sftp")
	before := time.Now()
	out, errs, code := s.cli("pull", "orchard", "orchard-days", "-uploads-by-need")
	require.Zero(t, code, out+errs)
	assert.NoFileExists(t, filepath.Join(here.Folder, old))
	assert.FileExists(t, filepath.Join(here.Folder, "wp-content/other.jpg"))
	at := here.URL + "wp-content/uploads/2026/"
	require.Eventually(t, func() bool {
		status, text, _ := get(t, at+"caf%C3%A9%201.jpg")
		return status == 200 && text == "an old one"
	},
		20*time.Second, 50*time.Millisecond)
	assert.FileExists(t, filepath.Join(here.Folder, old), "it is here from now on")
	for _, name := range []string{"2026/run.php", "2026/run.phtml", "none.jpg", ".htaccess"} {
		status, _, _ := get(t, here.URL+"wp-content/uploads/"+name)
		assert.Contains(t, []int{403, 404}, status, name)
		assert.NoFileExists(t, filepath.Join(here.Folder, "wp-content/uploads", name))
	}
	require.NoError(t, os.Remove(filepath.Join(here.Folder, old)))
	require.NoError(t, os.Chtimes(filepath.Join(live.Folder, old), before.Add(-time.Hour), before.Add(-time.Hour)))
	written(t, live, "wp-content/uploads/2026/new.jpg", "a new one")
	require.NoError(t, os.Chtimes(filepath.Join(live.Folder, "wp-content/uploads/2026/new.jpg"), time.Now(), time.Now().Add(time.Minute)))
	out, errs, code = s.cli("pull", "orchard", "orchard-days", "-newer-uploads-at-host")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "1 newer uploads came")
	assert.FileExists(t, filepath.Join(here.Folder, "wp-content/uploads/2026/new.jpg"))
	require.Eventually(t, func() bool { return !fileIs(filepath.Join(s.home, "hosting/orchard/by-need.json")) }, 20*time.Second,
		50*time.Millisecond)
	status, _, _ := get(t, at+"caf%C3%A9%201.jpg")
	assert.Equal(t, 404, status, "nothing is fetched by need any more")
	assert.NoFileExists(t, filepath.Join(here.Folder, old))
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-dry-run")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "Nothing was changed here", "and what stayed there is not taken for removed")
}

// holding lists the files in a folder that have a text in them.
func holding(t testing.TB, folder, text string) (found []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		content, err := os.ReadFile(path)
		if strings.Contains(string(content), text) {
			found = append(found, path)
		}
		return err
	}))
	return found
}

// A host's line is cut again and again, and what has come is not carried again; by FTP with TLS as by SFTP. The service is killed in the
// middle: its helper is gone from the host soon after the next start, and the rest comes then.
func TestALineToAHostIsCut(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "orchard-live"))
	live := s.site(t, "orchard-live")
	h := practiceHost(t, s, outside(t))
	h.account(t, s, "orchard", "orchard-live", "sftp")
	h.account(t, s, "orchard-ftp", "orchard-live", "ftps")
	written(t, live, "wp-content/uploads/long.bin", strings.Repeat("fern ", 2<<20)) // longer than the line ever lasts
	h.Fail(practice.Faults{CutAfter: 3 << 20, Cuts: 40})
	out, errs, code := s.cli("pull", "orchard", "orchard-days")
	require.Zero(t, code, out+errs)
	assert.Contains(t, errs, "the line was cut")
	sameFiles(t, live.Folder, s.site(t, "orchard-days").Folder)
	noHelper(t, live.Folder)

	h.Fail(practice.Faults{CutAfter: 8 << 20, Cuts: 4})
	out, errs, code = s.cli("pull", "orchard-ftp", "orchard-days")
	require.Zero(t, code, out+errs)
	sameFiles(t, live.Folder, s.site(t, "orchard-days").Folder)
	noHelper(t, live.Folder)

	// Killed while it fetches.
	h.Fail(practice.Faults{BytesPerSecond: 4 << 20})
	require.NoError(t, s.DropAccount(ctx, "orchard-ftp"))
	require.NoError(t, s.DropAccount(ctx, "orchard"))
	h.account(t, s, "orchard", "orchard-live", "sftp")
	operation, err := s.FetchAccount(ctx, "orchard", client.Fetch{})
	require.NoError(t, err)
	come := func() int {
		found, _ := filepath.Glob(filepath.Join(s.home, "hosting/orchard/incoming/wp-admin/*.php"))
		return len(found)
	}
	require.Eventually(t, func() bool { return come() > 5 }, 30*time.Second, 10*time.Millisecond)
	s.kill()
	left, err := filepath.Glob(filepath.Join(live.Folder, "move-*.php"))
	require.NoError(t, err)
	require.NotEmpty(t, left, "so that there is something to be removed")
	h.end()
	again := launch(t, s.home)
	defer again.stop()
	practiceHostAt(t, again, h)
	require.Eventually(t, func() bool {
		all, err := again.Accounts(ctx)
		return err == nil && len(all) == 1 && all[0].Leftover == ""
	}, 60*time.Second, 200*time.Millisecond)
	noHelper(t, live.Folder)
	told := again.watch(t, operation)
	assert.Contains(t, told.Sites[0].Problem, "fetch it again")
	assert.Positive(t, come(), "what has come is kept")
	out, errs, code = again.cli("pull", "orchard", "orchard-days")
	require.Zero(t, code, out+errs)
	sameFiles(t, live.Folder, again.site(t, "orchard-days").Folder)
}

// practiceHostAt opens a host anew at the doors it had.
func practiceHostAt(t testing.TB, s *service, h *hosted) *hosted {
	t.Helper()
	host, err := practice.Open(h.Dir, s.Client, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	doors, err := practice.OpenDoors(portOf(t, h.doors.SSH.Addr().String()), portOf(t, h.doors.FTP.Addr().String()),
		portOf(t, h.doors.Page.Addr().String()))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- host.Serve(ctx, doors) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, <-ended)
	})
	return &hosted{Host: host, doors: doors}
}

// What is amiss at a host is told one by one, with what to do; a host that is another one than before is not spoken to.
func TestWhatIsAmissAtAHostIsTold(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-live", CMS: "empty"}))
	defer s.retire(t, "moss-live")
	live, dir := s.site(t, "moss-live"), outside(t)
	h := practiceHost(t, s, dir)
	e := h.account(t, s, "moss", "moss-live", "sftp")
	at := "sftp://moss-live@" + h.doors.SSH.Addr().String() + "/"
	for name, added := range map[string]client.AddAccount{
		"wrong-password": {At: at, URL: strings.TrimSuffix(e.URL, "/"), Password: "guessed-it-9"},
		"wrong-address":  {At: at, URL: "http://127.0.0.1:1", Password: e.Password},
		"nobody-there":   {At: "sftp://moss-live@127.0.0.1:1/", URL: strings.TrimSuffix(e.URL, "/"), Password: e.Password},
		"wrong-folder":   {At: at + "nowhere", URL: strings.TrimSuffix(e.URL, "/"), Password: e.Password}} {
		added.Name = name
		_, err := s.AddAccount(ctx, added)
		require.NoError(t, err)
	}
	for name, says := range map[string]string{"wrong-password": `fail\s+the user is let in`,
		"wrong-address": `fail\s+the address shows the folder`,
		"nobody-there":  `fail\s+the host is reached`, "wrong-folder": `fail\s+the folder is there`} {
		out, _, code := s.cli("hosting", "check", name)
		assert.Equal(t, 3, code, out)
		assert.Regexp(t, says, out)
		assert.Contains(t, out, "→")
		assert.NotContains(t, out, e.Password)
		_, errs, code := s.cli("pull", name, "moss")
		assert.Equal(t, 1, code)
		assert.NotContains(t, errs, e.Password)
	}
	noHelper(t, live.Folder)
	// PHP of another user, who may not write there: a site is pulled all the same.
	for _, folder := range []string{live.Folder, filepath.Join(live.Folder, "public")} {
		require.NoError(t, os.Chown(folder, 0, 0))
	}
	out, errs, code := s.cli("pull", "moss", "moss-days")
	require.Zero(t, code, out+errs)
	_, errs, code = s.cli("push", "moss-days", "moss", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "PHP may not write into the account's folder")
	noHelper(t, filepath.Join(live.Folder, "public"))
	for _, folder := range []string{live.Folder, filepath.Join(live.Folder, "public")} {
		uid, gid := ownerOf(fileInfo(t, filepath.Join(live.Folder, "settings.php")))
		require.NoError(t, os.Chown(folder, uid, gid))
	}
	h.Fail(practice.Faults{ReadOnly: true, NoShell: true})
	out, _, code = s.cli("hosting", "check", "moss")
	assert.Equal(t, 3, code)
	assert.Regexp(t, `fail\s+the folder can be written`, out)
	assert.Contains(t, out, "none, and none is needed")
	h.Fail(practice.Faults{})

	// Another host at the same place.
	h.end()
	require.NoError(t, os.Remove(filepath.Join(dir, "host.key")))
	practiceHostAt(t, s, h)
	out, _, code = s.cli("hosting", "check", "moss")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "shows another key than before")
	_, errs, code = s.cli("pull", "moss", "moss")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "vessik hosting unpin moss")
	out, errs, code = s.cli("hosting", "unpin", "moss")
	require.Zero(t, code, out+errs)
	out, _, code = s.cli("hosting", "check", "moss")
	assert.Zero(t, code, out)
	for arguments, says := range map[string]string{
		"hosting add Moss -at x -url y": "-at: \"x\" is not sftp://",
		"hosting check nobody":          "there is no hosting account",
		"hosting add moss-two -at sftp://a@b/ -url https://b.example -like nobody": "there is no account \"nobody\"",
		"pull moss moss -mask all":                   "-mask: \"all\" is not people",
		"pull moss moss-none -newer-uploads-at-host": "is for a site that is there",
	} {
		out, errs, code := s.cli(strings.Fields(arguments)...)
		assert.NotZero(t, code, out)
		assert.Contains(t, errs, says)
	}
	out, errs, code = s.cli("hosting", "drop", "moss")
	require.Zero(t, code, out+errs)
	assert.NoDirExists(t, filepath.Join(s.home, "hosting/moss"))
}

func portOf(t testing.TB, address string) int {
	t.Helper()
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	number, err := strconv.Atoi(port)
	require.NoError(t, err)
	return number
}

// Old engines, five seconds and 64 MB a request, a network by folders, and another CMS: all of them come, on the engines nearest to the
// host's.
func TestSitesOfAllKindsArePulled(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-live", CMSVersion: "5.7", PHP: "7.4", Web: "apache-2.4-bullseye", Database: "10.5",
		Network: "folders", SubSites: []string{"north"}}, client.Request{Name: "letters-live", CMS: "spip", PHP: "8.4", Web: "apache"}))
	defer s.retire(t, "moss-live", "letters-live")
	tight, err := s.Adjust(ctx, "moss-live", client.Settings{PHP: map[string]string{"max_execution_time": "5", "memory_limit": "64M"}}, false)
	require.NoError(t, err)
	require.Equal(t, plan.OperationDone, s.watch(t, tight).State)
	live := s.secrets(t, "moss-live")
	_, err = pool(t, live).Exec("CREATE TABLE " + live.Prefix + "beds (id INT PRIMARY KEY AUTO_INCREMENT, said LONGTEXT)")
	require.NoError(t, err)
	for range 12 { // more than one request can take
		_, err = pool(t, live).Exec("INSERT INTO "+live.Prefix+"beds (said) VALUES (?)", strings.Repeat(live.URL+"fern/ ", 100_000))
		require.NoError(t, err)
	}
	h := practiceHost(t, s, outside(t))
	h.Fail(practice.Faults{NoShell: true})
	h.account(t, s, "moss", "moss-live", "sftp")
	h.account(t, s, "letters", "letters-live", "sftp")
	for account, name := range map[string]string{"moss": "moss-archive", "letters": "letters"} {
		out, errs, code := s.cli("pull", account, name)
		require.Zero(t, code, out+errs)
		noHelper(t, s.site(t, account+"-live").Folder)
		defer s.retire(t, name)
	}
	moss := s.secrets(t, "moss-archive")
	assert.Equal(t, "php-7.4", moss.Stack.PHP.Engine)
	assert.Equal(t, "mariadb-10.5", moss.Stack.Database.Engine)
	assert.Equal(t, "folders", moss.Network)
	status, body, _ := get(t, moss.URL+"north/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, moss.URL)
	assert.NotContains(t, body, live.URL)
	assert.Equal(t, strconv.Itoa(12*100_000*len(moss.URL+"fern/ ")), query(t, moss, "SELECT SUM(LENGTH(said)) FROM "+moss.Prefix+"beds"))
	assert.Equal(t, "spip", s.site(t, "letters").CMS.Name)

	// What is changed in them goes back to where they came from, and nothing a second time; it comes back, too.
	inPHP, letters, lettersLive := inPHP(t, s), s.secrets(t, "letters"), s.secrets(t, "letters-live")
	inPHP("moss-archive", `switch_to_blog(2); wp_insert_post(['post_title' => 'Quinces', 'post_status' => 'publish',
		'post_content' => home_url('/quince/')]);`)
	_, err = pool(t, letters).Exec("INSERT INTO " + letters.Prefix + "rubriques (titre, statut, descriptif, texte) VALUES ('Quinces', " +
		"'publie', '', '" +
		letters.URL + "quince')")
	require.NoError(t, err)
	written(t, letters, "IMG/quince.txt", "a quince")
	get(t, live.URL)
	get(t, lettersLive.URL)
	for account, name := range map[string]string{"moss": "moss-archive", "letters": "letters"} {
		out, errs, code := s.cli("push", name, account, "-yes")
		require.Zero(t, code, out+errs)
		noStage(t, s.secrets(t, account+"-live"))
		out, errs, code = s.cli("push", name, account, "-dry-run")
		require.Zero(t, code, out+errs)
		assert.Contains(t, out, "Nothing was changed here that the host does not have.", name)
	}
	said := func(of client.Site, statement string) string { return query(t, of, statement) }
	quince := "SELECT GROUP_CONCAT(texte) FROM " + lettersLive.Prefix + "rubriques WHERE titre='Quinces'"
	assert.Equal(t, lettersLive.URL+"quince", said(lettersLive, quince))
	assert.FileExists(t, filepath.Join(lettersLive.Folder, "IMG/quince.txt"))
	assert.Equal(t, live.URL+"north/quince/", said(live, "SELECT post_content FROM "+live.Prefix+"2_posts WHERE post_title='Quinces'"))
	for _, account := range []string{"moss", "letters"} {
		out, errs, code := s.cli("push", account, "-back")
		require.Zero(t, code, out+errs)
	}
	assert.Equal(t, "0", said(live, "SELECT COUNT(*) FROM "+live.Prefix+"2_posts WHERE post_title='Quinces'"))
	assert.Equal(t, "0", said(lettersLive, "SELECT COUNT(*) FROM "+lettersLive.Prefix+"rubriques WHERE titre='Quinces'"))
	assert.NoFileExists(t, filepath.Join(lettersLive.Folder, "IMG/quince.txt"))
}

// On the console an account is added, looked at, pulled, and pushed to.
func TestTheConsolePullsASite(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "orchard-live"))
	h := practiceHost(t, s, outside(t))
	e, err := h.Rent(s.site(t, "orchard-live"), "orchard", "live")
	require.NoError(t, err)
	page := page(t, s, 1280, 800)
	console := strings.TrimSuffix(mustStatus(t, s).Console, "/")
	type step = chromedp.Action[chromedp.Void]
	field := func(name, value string) step { return chromedp.SendKeys("input[name="+name+"]", value) }
	press := func(words string) step { return chromedp.Click(`//button[normalize-space(.)="` + words + `"]`) }
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(console+"/hosting"), chromedp.WaitVisible(`input[name=account-name]`),
		field("account-name", "orchard"), field("account-url", strings.TrimSuffix(e.URL, "/")),
		field("account-at", "sftp://"+e.User+"@"+h.doors.SSH.Addr().String()+"/"), field("account-password", e.Password),
		press("Add the account"), chromedp.WaitVisible(`[data-account=orchard]`), press("Look at the host"),
		chromedp.WaitVisible(`//li[contains(., "the helper is gone")]`), press("Pull…"), field("pull-site", "orchard-days"),
		press("What differs?"), chromedp.WaitVisible(`//p[contains(., "to carry")]`), press("Make orchard-days of it"),
		chromedp.WaitVisible(`//p[starts-with(., "It is orchard-days")]`)))
	assert.Empty(t, axe(t, page))
	assert.Empty(t, wider(t, page))
	settled(t, s)
	requirePassed(t, s.do(t, plan.Verify, "orchard-days"))
	require.Eventually(t, func() bool { return fileIs(filepath.Join(s.home, "hosting/orchard/base.json")) }, 20*time.Second,
		20*time.Millisecond)
	written(t, s.site(t, "orchard-days"), "wp-content/apple.txt", "an apple")
	require.NoError(t, chromedp.Do(page, press("Push…"), chromedp.WaitVisible(`//input[@name="push-site" and @value="orchard-days"]`),
		press("What would be pushed?"),
		chromedp.WaitVisible(`//li[contains(., "wp-content/apple.txt")]`),
		chromedp.Click(`//button[starts-with(normalize-space(.), "Push 1 file ")]`),
		chromedp.WaitVisible(`//p[contains(., "It is pushed")]`)))
	assert.Empty(t, axe(t, page))
	assert.FileExists(t, filepath.Join(s.site(t, "orchard-live").Folder, "wp-content/apple.txt"))
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(console+"/sites/orchard-days"),
		chromedp.WaitVisible(`//section[contains(., "Where else it lives")]//a[text()="orchard"]`),
		chromedp.WaitVisible(`//li[contains(., "push-account")]`)))
	require.NoError(t, chromedp.Do(page, press("Compare pictures"),
		chromedp.WaitVisible(`//p[contains(., "They differ in ")]`),
		chromedp.WaitVisible(`//img[@alt="Front page at orchard"]`), chromedp.WaitVisible(`//img[@alt="Front page of orchard-days here"]`)))
	require.Eventually(t, func() bool {
		drawn, err := chromedp.Run(page, chromedp.Evaluate[bool](`[...document.querySelectorAll("img")].every((i) => i.naturalWidth === 1280)`))
		return err == nil && drawn
	}, 10*time.Second, 50*time.Millisecond, "both are drawn")
	assert.Empty(t, axe(t, page))
	for do, differs := range map[string]string{`update_option('blogname', 'Orchard Days');`: " 0.0 %",
		`update_option('blogname', str_repeat('Fern ', 40));`: ""} {
		inPHP(t, s)("orchard-live", do)
		inPHP(t, s)("orchard-days", `update_option('blogname', 'Orchard Days');`)
		out, errs, code := s.cli("hosting", "pictures", "orchard", "-o", t.TempDir())
		require.Zero(t, code, out+errs)
		assert.Regexp(t, `orchard-there.jpg`, out)
		if assert.Contains(t, out, differs); differs == "" {
			assert.NotContains(t, out, " 0.0 %")
		}
	}
	require.NoError(t, chromedp.Do(page, chromedp.Navigate(console+"/hosting"), press("Forget it…"),
		press("forget it, the host keeps its site"),
		chromedp.WaitVisible(`//p[contains(., "There is no hosting account yet")]`)))
	settled(t, s)
}

func fileInfo(t testing.TB, path string) os.FileInfo {
	t.Helper()
	info, err := os.Stat(path)
	require.NoError(t, err)
	return info
}
