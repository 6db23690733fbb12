package test

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
	"vessik/internal/verify"
)

func TestSitesAnswerOnTheirOwnAndThroughTheGateway(t *testing.T) {
	s := shared(t)
	site := s.site(t, "fernhollow")
	status, page, header := get(t, site.URL)
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "Fernhollow Garden Network")
	assert.Contains(t, header.Get("Server"), "nginx/1.26")
	own := fmt.Sprintf("http://127.0.0.1:%d/", site.Port)
	status, page, _ = get(t, own, "Host", strings.TrimSuffix(strings.TrimPrefix(site.URL, "http://"), "/"))
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "Fernhollow Garden Network")
	status, _, header = get(t, own+"a/page?x=1")
	assert.Equal(t, 302, status, "a foreign host is sent to the site's own address")
	assert.Equal(t, site.URL+"a/page?x=1", header.Get("Location"))
	status, page, _ = get(t, site.URL+"hello-world/")
	assert.Equal(t, 200, status, "readable permalinks")
	assert.Contains(t, page, "Hello world!")
	status, _, _ = get(t, site.URL+"wp-config.php")
	assert.Equal(t, 200, status, "run, not shown")
	for path, want := range map[string]int{".git/config": 404, ".htaccess": 404, "wp-content/uploads/evil.php": 403} {
		status, _, _ = get(t, site.URL+path)
		assert.Equal(t, want, status, path)
	}
	if listener, err := net.Listen("tcp6", "[::1]:0"); err == nil { // browsers try ::1 first
		listener.Close()
		connection, err := net.Dial("tcp", net.JoinHostPort("::1", strconv.Itoa(mustStatus(t, s).GatewayPort)))
		require.NoError(t, err)
		connection.Close()
	}
}

func TestPHPHasRoomForSiteWork(t *testing.T) {
	s := shared(t)
	site := s.site(t, "seed-exchange")
	script := filepath.Join(site.Folder, "room.php")
	require.NoError(t, os.WriteFile(script, []byte(`<?php echo ini_get('memory_limit'), ' ', ini_get('upload_max_filesize'), ' ',
strlen(file_get_contents('php://input')), ' ', implode(',', array_filter(['mysqli', 'pdo_mysql', 'mbstring', 'xml', 'dom', 'simplexml',
'xmlreader', 'xsl', 'curl', 'gd', 'intl', 'zip', 'exif', 'fileinfo', 'Zend OPcache', 'bcmath', 'soap'],
fn($e) => !extension_loaded($e)));`), 0o644))
	defer os.Remove(script)
	response, err := browser.Post(site.URL+"room.php", "application/octet-stream", bytes.NewReader(make([]byte, 30<<20)))
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("256M 256M %d ", 30<<20), string(text), "limits, a large upload through the gateway, and no extension missing")
	require.NoError(t, os.WriteFile(script, []byte("<?php echo 'changed';"), 0o644))
	_, page, _ := get(t, site.URL+"room.php")
	assert.Equal(t, "changed", page, "changed files are seen at once")
}

func TestNoTwoSitesShareASecret(t *testing.T) {
	s := shared(t)
	a, b := s.site(t, "fernhollow"), s.site(t, "seed-exchange")
	assert.NotEqual(t, a.Administrator.Password, b.Administrator.Password)
	assert.NotEqual(t, a.Database.Password, b.Database.Password)
	assert.GreaterOrEqual(t, len(a.Administrator.Password), 24)
	salts := func(site client.Site) string {
		text, err := os.ReadFile(filepath.Join(site.Folder, "wp-config.php"))
		require.NoError(t, err)
		return between(string(text), "AUTH_KEY', '", "'")
	}
	assert.Len(t, salts(a), 64)
	assert.NotEqual(t, salts(a), salts(b))
	links := 0
	filepath.WalkDir(a.Folder, func(path string, entry os.DirEntry, err error) error {
		require.NoError(t, err)
		if entry.Type()&os.ModeSymlink != 0 {
			links++
		}
		return nil
	})
	assert.Zero(t, links, "a site's folder is whole")
}

func TestTheCommandLine(t *testing.T) {
	s := shared(t)
	t.Run("JSON of a site", func(t *testing.T) {
		out, _, code := s.cli("site", "fernhollow", "-json")
		require.Zero(t, code)
		var site map[string]any
		require.NoError(t, json.Unmarshal([]byte(out), &site))
		for _, key := range []string{"name", "title", "state", "url", "domain", "folder", "document_root", "cms", "stack", "port", "database",
			"administrator", "created_at"} {
			assert.Contains(t, site, key)
		}
		assert.Equal(t, map[string]any{"engine": "php-8.4", "version": site["stack"].(map[string]any)["php"].(map[string]any)["version"]},
			site["stack"].(map[string]any)["php"])
		assert.NotContains(t, site["database"], "password")
		assert.NotContains(t, site["administrator"], "password")
		out, _, _ = s.cli("site", "-secrets", "-json", "fernhollow")
		assert.Contains(t, out, `"password"`)
		out, _, _ = s.cli("-json", "sites")
		assert.Empty(t, out)
		out, _, _ = s.cli("sites", "-json")
		assert.True(t, strings.HasPrefix(out, "["))
	})
	t.Run("verify", func(t *testing.T) {
		out, _, code := s.cli("verify", "-json")
		require.Zero(t, code)
		var report client.Report
		require.NoError(t, json.Unmarshal([]byte(out), &report))
		assert.True(t, report.Passed)
		require.GreaterOrEqual(t, len(report.Sites), 2)
		assert.Len(t, report.Sites[0].Checks, len(verify.Checks)-1, "all but that of https, which it has not")
		out, _, code = s.cli("verify", "fernhollow", "-junit")
		require.Zero(t, code)
		assert.NoError(t, xml.Unmarshal([]byte(out), new(struct{ XMLName xml.Name })))
	})
	t.Run("wrong usage", func(t *testing.T) {
		for _, c := range []struct {
			arguments string
			says      string
		}{
			{"sites -colour", "there is no flag -colour"}, {"verify -json -junit", "-json and -junit exclude each other"}, {"site", "name a site"},
			{"site a b", "takes one name"}, {"sites now", "takes flags only"},
			{"stop", "name sites, or give -all"}, {"new a b -title Both", "one site only"}, {"new a b -port 21900", "one site only"},
			{"retire fernhollow", "give -yes"}, {"start nobody", "there is no such site"},
			{"site nobody", "there is no site"}, {"new -port x a", "-port"},
		} {
			_, errs, code := s.cli(strings.Fields(c.arguments)...)
			assert.Equal(t, 2, code, "%s: %s", c.arguments, errs)
			assert.Contains(t, errs, c.says, c.arguments)
		}
		_, errs, code := run(t, "dance")
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, "there is no command")
		_, errs, code = run(t, "sites", "-home", filepath.Join(scratch, "nowhere"))
		assert.Equal(t, 4, code)
		assert.Contains(t, errs, "vessik serve")
	})
	t.Run("every command shows an example", func(t *testing.T) {
		overview, _, code := run(t, "-h")
		require.Zero(t, code)
		for _, name := range []string{"serve", "demo", "status", "new", "sites", "site", "open", "start", "stop", "verify", "retire",
			"operations", "engines", "console", "version"} {
			assert.Contains(t, overview, "  "+name+" ")
			out, _, code := run(t, name, "-h")
			assert.Zero(t, code, name)
			assert.Contains(t, out, "Example\n  vessik "+name)
		}
	})
	t.Run("the rest", func(t *testing.T) {
		out, _, code := s.cli("open", "fernhollow")
		assert.Zero(t, code)
		assert.Equal(t, s.site(t, "fernhollow").URL+"\n", out)
		out, _, _ = s.cli("engines")
		assert.Contains(t, out, "php-8.4")
		out, _, _ = s.cli("operations")
		assert.Contains(t, out, "fernhollow seed-exchange")
		out, _, _ = s.cli("operations", "1")
		assert.Contains(t, out, "load-content")
		out, _, _ = s.cli("status")
		assert.Contains(t, out, "running")
		assert.NotContains(t, out, "as root", "no engine runs as root, and neither does the service")
		out, _, _ = s.cli("version")
		assert.Contains(t, out, "vessik 0")
	})
}

// Whatever is wrong, the answer names the field and the remedy, and nothing is changed.
func TestBadInputChangesNothing(t *testing.T) {
	s := shared(t)
	before, err := s.Sites(context.Background(), false)
	require.NoError(t, err)
	operations, err := s.Operations(context.Background(), 1000)
	require.NoError(t, err)
	full, locked := filepath.Join(filepath.Dir(s.home), "full"), filepath.Join(filepath.Dir(s.home), "locked")
	require.NoError(t, os.MkdirAll(filepath.Join(full, "x"), 0o755))
	require.NoError(t, os.MkdirAll(locked, 0o555))
	if os.Geteuid() != 0 { // else root owns it already
		t.Cleanup(func() { os.Chmod(locked, 0o755) })
	}
	foreign, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer foreign.Close()
	held := strconv.Itoa(foreign.Addr().(*net.TCPAddr).Port)
	for name, c := range map[string]struct{ arguments, field, says string }{
		"name taken":          {"fernhollow", "name", "exists"},
		"upper case":          {"Fernhollow", "name", "write it fernhollow"},
		"folder not empty":    {"a -folder " + full, "-folder", "is not empty"},
		"folder locked":       {"a -folder " + locked + "/a", "-folder", "cannot be written"},
		"folder a file":       {"a -folder /etc/hostname", "-folder", "is a file"},
		"folder inside":       {"a -folder " + s.site(t, "fernhollow").Folder + "/wp-content/a", "-folder", "overlaps"},
		"folder in the home":  {"a -folder " + s.home + "/run/a", "-folder", "overlaps"},
		"port of a stranger":  {"a -port " + held, "-port", "is held by"},
		"port of the gateway": {fmt.Sprintf("a -port %d", s.site(t, "fernhollow").Database.Port), "-port", "used by Vessik"},
		"engine":              {"a -php php-5.2", "-php", "choose one of php-8.4"},
		"twice in one":        {"a a", "name", "exists"},
	} {
		t.Run(name, func(t *testing.T) {
			_, errs, code := s.cli(append([]string{"new"}, strings.Fields(c.arguments)...)...)
			assert.Equal(t, 2, code, errs)
			assert.Contains(t, errs, c.field+": ")
			assert.Contains(t, errs, c.says)
		})
	}
	after, err := s.Sites(context.Background(), false)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	now, err := s.Operations(context.Background(), 1000)
	require.NoError(t, err)
	assert.Len(t, now, len(operations), "nothing was begun")
}

func TestOneOfTwoRequestsForOneNameWins(t *testing.T) {
	s := shared(t)
	var group sync.WaitGroup
	won := make(chan client.Operation, 8)
	refused := make(chan error, 8)
	for range 8 {
		group.Go(func() {
			operation, err := s.New(context.Background(), client.Request{Name: "orchard-days"})
			if err != nil {
				refused <- err
			} else {
				won <- operation
			}
		})
	}
	group.Wait()
	require.Len(t, won, 1)
	require.Len(t, refused, 7)
	var problem *client.ProblemDetails
	require.ErrorAs(t, <-refused, &problem)
	assert.Equal(t, 422, problem.Status)
	operation := <-won
	_, errs, code := s.cli("retire", "orchard-days", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is being worked on by operation")
	requirePassed(t, s.watch(t, operation))
	gone(t, s, s.site(t, "orchard-days"), func() { s.retire(t, "orchard-days") })
}

// gone retires a site and looks for what it leaves.
func gone(t *testing.T, s *service, site client.Site, retire func()) {
	t.Helper()
	retire()
	_, err := s.Site(context.Background(), site.Name, false)
	require.Error(t, err)
	assert.NoDirExists(t, site.Folder)
	assert.NoDirExists(t, filepath.Join(s.home, "run/php", site.Name))
	assert.NoDirExists(t, filepath.Join(s.home, "tmp", site.Name))
	assert.NoDirExists(t, filepath.Join(s.home, "logs/sites", site.Name))
	assert.NoDirExists(t, filepath.Join(s.home, "databases/mariadb-11.8", site.Database.Name))
	assert.NoDirExists(t, filepath.Join(s.home, "run/nginx-1.26", site.Name))
	assert.Empty(t, processesOf(filepath.Join(s.home, "run/php", site.Name)))
	_, err = net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(site.Port))
	assert.Error(t, err, "its port is free")
	status, _, _ := get(t, site.URL)
	assert.Equal(t, 404, status)
}

func TestALifeOfASite(t *testing.T) {
	s := shared(t)
	folder := filepath.Join(filepath.Dir(s.home), "elsewhere")
	require.NoError(t, os.MkdirAll(folder, 0o777))
	require.NoError(t, os.Chmod(folder, 0o777))
	folder = filepath.Join(folder, "moss archive")
	out, errs, code := s.cli("new", "moss-archive", "-title", `Moss & "Fern" <Archive>`, "-folder", folder, "-domain", "old-moss.localhost",
		"-administrator", "tobias", "-mail", "tobias@fernhollow.example",
		"-password", `it's \a $long' "one"`, "-database-name", "Moss_Data", "-database-user", "moss_user", "-database-password",
		`anoth'er \ "$fern`)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "11 of 11 passed")
	site := s.site(t, "moss-archive")
	assert.Equal(t, "Moss_Data", site.Database.Name)
	assert.Equal(t, "tobias", site.Administrator.Name)
	status, page, _ := get(t, site.URL)
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "Fern")

	_, errs, code = s.cli("stop", "moss-archive")
	require.Zero(t, code, errs)
	status, page, _ = get(t, site.URL)
	assert.Equal(t, 503, status)
	assert.Contains(t, page, "vessik start moss-archive")
	out, _, code = s.cli("verify", "moss-archive", "-json")
	assert.Zero(t, code, "a stopped site fails nothing")
	assert.Contains(t, out, `"passed": null`)
	assert.NotContains(t, out, `"verdict": "pass"`)
	assert.Empty(t, processesOf(filepath.Join(s.home, "run/php/moss-archive")))
	requirePassed(t, s.do(t, plan.Start, "moss-archive"))

	t.Run("a changed password is not the site's fault", func(t *testing.T) {
		script := filepath.Join(folder, "change.php")
		require.NoError(t, os.WriteFile(script,
			[]byte("<?php require 'wp-load.php'; wp_set_password('another one entirely', 1); echo 'changed';"), 0o644))
		_, page, _ := get(t, site.URL+"change.php")
		require.Equal(t, "changed", page)
		require.NoError(t, os.Remove(script))
		watched := s.do(t, plan.Verify, "moss-archive")
		assert.True(t, *watched.Sites[0].Report.Passed)
		signIn := watched.Sites[0].Report.Checks[4]
		assert.EqualValues(t, "sign-in", signIn.ID)
		assert.Equal(t, check.Skip, signIn.Verdict)
		assert.Contains(t, signIn.Observed, "password was changed")
	})
	t.Run("a failing site says why", func(t *testing.T) {
		plugin := filepath.Join(folder, "wp-content/mu-plugins")
		require.NoError(t, os.MkdirAll(plugin, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(plugin, "rot.php"), []byte("<?php rot_at_the_root();"), 0o644))
		out, _, code := s.cli("verify", "moss-archive")
		assert.Equal(t, 3, code)
		assert.Contains(t, out, "Call to undefined function rot_at_the_root()")
		require.NoError(t, os.RemoveAll(plugin))
		_, _, code = s.cli("verify", "moss-archive")
		assert.Zero(t, code, "changed files are seen at once")
	})
	out, errs, code = s.cli("retire", "moss-archive", "-yes", "-keep-files")
	require.Zero(t, code, errs)
	assert.FileExists(t, filepath.Join(folder, "wp-config.php"))
	dump := between(out, "database kept in ", "\n")
	text, err := os.ReadFile(dump)
	require.NoError(t, err, out)
	assert.Contains(t, string(text), "Moss &amp; ")
	require.NoError(t, os.RemoveAll(folder))
}

func TestManySitesAtOnce(t *testing.T) {
	s := shared(t)
	longest := strings.Repeat("a-", 31) + "z" // as long as a host label may be
	names := []string{"glass-1", "glass-2", "glass-3", longest}
	watched := s.newSites(t, names...)
	requirePassed(t, watched)
	ports := map[int]bool{}
	for _, part := range watched.Sites {
		ports[s.site(t, part.Site).Port] = true
	}
	assert.Len(t, ports, 4)
	operation, err := s.Do(context.Background(), plan.Retire, wire.Names{Names: names})
	require.NoError(t, err)
	assert.Equal(t, plan.OperationDone, s.watch(t, operation).State)
}

// The attacker has the run of one site's PHP.
func TestABrokenIntoSiteReachesNothingElse(t *testing.T) {
	s := shared(t)
	if !mustStatus(t, s).Confinement.Files {
		t.Skip("this kernel has no Landlock")
	}
	mine, neighbour := s.site(t, "fernhollow"), s.site(t, "seed-exchange")
	sockets, err := filepath.Glob(filepath.Join(s.home, "run/sockets/*/php.sock"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(sockets), 2)
	script := filepath.Join(mine.Folder, "attack.php")
	attack := `<?php
	error_reporting(0); ini_set('display_errors', '0');
	$n = '` + neighbour.Folder + `'; $h = '` + s.home + `';
	foreach ([$n.'/wp-config.php', $h.'/token', $h.'/home.json', '/etc/shadow', '/proc/1/root'.$h.'/token',
$h.'/run/php/seed-exchange/a/prepend.php', $h.'/logs/service.log'] as $f) {
		if (file_get_contents($f) !== false) echo "LEAK read $f\n";
		if (strlen(shell_exec('cat '.escapeshellarg($f).' 2>/dev/null'))) echo "LEAK cat $f\n";
		symlink($f, __DIR__.'/l'); if (file_get_contents(__DIR__.'/l') !== false) echo "LEAK link $f\n"; unlink(__DIR__.'/l');
	}
	if (file_put_contents($n.'/x.php', 'x')) echo "LEAK write\n";
	if (scandir($n)) echo "LEAK list\n";
	foreach (scandir('/proc') as $f) if ((int) $f && strpos((string) file_get_contents("/proc/$f/cmdline"),
'php-fpm') === false && strpos((string) file_get_contents("/proc/$f/cmdline"), 'sh') === false) echo "LEAK process\n";
	foreach (explode(' ', '` + strings.Join(sockets, " ") + `') as $f) if (stream_socket_client('unix://'.$f)) echo "LEAK socket\n";
	if (strpos(shell_exec('perl -MSocket -e \'print "in" if socket(my $s, 16, SOCK_RAW, 0)\''), 'in') !== false) echo "LEAK netlink\n";
	if (posix_kill(` + strconv.Itoa(mustStatus(t, s).PID) + `, 0)) echo "LEAK signal\n";
	$l = $h.'/logs/sites/fernhollow';
	if (unlink($l.'/access.log') || rename($l.'/web.log', $l.'/x') || symlink('/etc/hostname', $l.'/y') || file_put_contents($l.'/access.log',
'x') || file_put_contents($l.'/z', 'x')) echo "LEAK logs\n";
	if (file_put_contents($h.'/run/php/fernhollow/a/prepend.php', '<?php') || file_put_contents($h.'/run/php/fernhollow/start.log',
'x')) echo "LEAK configuration\n";
	echo error_log('noted') ? "logged\n" : "no log\n";
	mysqli_report(MYSQLI_REPORT_OFF);
	$db = mysqli_connect('127.0.0.1:` + strconv.Itoa(mine.Database.Port) + `', '` + mine.Database.User + `', '` + mine.Database.Password + `');
	echo $db ? "connected\n" : "no database\n";
	if ($db->select_db('` + neighbour.Database.Name + `')) echo "LEAK database\n";
	if (mysqli_connect('127.0.0.1:` + strconv.Itoa(mine.Database.Port) + `', 'root', '')) echo "LEAK root\n";
	putenv('VESSIK=1'); echo "done\n";`
	require.NoError(t, os.WriteFile(script, []byte(attack), 0o644))
	defer os.Remove(script)
	status, page, _ := get(t, mine.URL+"attack.php")
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "connected\n")
	assert.Contains(t, page, "logged\n", "its own log is open to it")
	assert.Contains(t, page, "done\n")
	assert.NotContains(t, page, "LEAK")
	require.NoError(t, os.Symlink(filepath.Join(neighbour.Folder, "wp-config.php"), filepath.Join(mine.Folder, "bait.txt")))
	defer os.Remove(filepath.Join(mine.Folder, "bait.txt"))
	_, page, _ = get(t, mine.URL+"bait.txt")
	assert.NotContains(t, page, "DB_PASSWORD")
}

func TestTheAPIIsGuarded(t *testing.T) {
	s := shared(t)
	status := mustStatus(t, s)
	ask := func(method, address, host string, header ...string) *http.Response {
		request, err := http.NewRequest(method, address, strings.NewReader(`{"all":true}`))
		require.NoError(t, err)
		if host != "" {
			request.Host = host
		}
		request.Header.Set("Content-Type", "application/json")
		for i := 0; i+1 < len(header); i += 2 {
			request.Header.Set(header[i], header[i+1])
		}
		response, err := browser.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		return response
	}
	sites := status.API + "/api/v1/sites"
	bearer := "Bearer " + s.Token
	assert.Equal(t, 401, ask("GET", sites, "").StatusCode)
	assert.Equal(t, 401, ask("GET", sites, "", "Authorization", "Bearer wrong").StatusCode)
	assert.Equal(t, 200, ask("GET", sites, "", "Authorization", bearer).StatusCode)
	assert.Equal(t, 421, ask("GET", sites, "evil.example", "Authorization", bearer).StatusCode, "a name made to point here")
	assert.Equal(t, 421, ask("GET", sites, "fernhollow.localhost:20070", "Authorization", bearer).StatusCode)
	link, err := s.Link(context.Background())
	require.NoError(t, err)
	console := strings.TrimSuffix(status.Console, "/")
	_, secret, _ := strings.Cut(link.URL, "#ticket=")
	signIn := func(origin string) (answer wire.SignedIn, code int) {
		request, err := http.NewRequest("POST", console+"/api/v1/session", strings.NewReader(`{"ticket":"`+secret+`"}`))
		require.NoError(t, err)
		request.Header.Set("Origin", origin)
		response, err := browser.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		json.NewDecoder(response.Body).Decode(&answer)
		assert.Empty(t, response.Cookies(), "a cookie would be sent to any port of this host")
		return answer, response.StatusCode
	}
	_, code := signIn("http://fernhollow.localhost")
	assert.Equal(t, 403, code, "a site's page is not the console")
	signedIn, code := signIn(console)
	require.Equal(t, 200, code)
	_, code = signIn(console)
	assert.Equal(t, 401, code, "a link works once")
	session := "Bearer " + signedIn.Secret
	assert.Equal(t, 200, ask("GET", console+"/api/v1/sites", "", "Authorization", session).StatusCode)
	assert.Equal(t, 401, ask("GET", sites, "", "Authorization", session).StatusCode, "a session counts on the console's host only")
	assert.Equal(t, 401, ask("GET", console+"/api/v1/sites", "", "Authorization", session+"x").StatusCode)
	assert.Equal(t, 401, ask("GET", console+"/api/v1/sites", "", "Cookie", "vessik-session="+signedIn.Secret).StatusCode)
	verify := console + "/api/v1/sites/verify"
	assert.Equal(t, 403, ask("POST", verify, "", "Authorization", session).StatusCode)
	assert.Equal(t, 403, ask("POST", verify, "", "Authorization", session, "Origin", "http://fernhollow.localhost").StatusCode,
		"a site's page is not the console")
	assert.Equal(t, 202, ask("POST", verify, "", "Authorization", session, "Origin", console).StatusCode)
	out, errs, exit := s.cli("console", "-end-all")
	assert.Zero(t, exit, errs)
	assert.Regexp(t, `^\d+ browsers? signed out`, out)
	assert.Equal(t, 401, ask("GET", console+"/api/v1/sites", "", "Authorization", session).StatusCode)
	page := ask("GET", console+"/", "")
	assert.Contains(t, page.Header.Get("Content-Security-Policy"), "default-src 'none'")
	assert.Equal(t, 200, ask("GET", status.API+"/api/v1/openapi.json", "", "Authorization", bearer).StatusCode)
	refused := ask("POST", status.API+"/api/v1/sites", "", "Authorization", bearer)
	assert.Equal(t, 422, refused.StatusCode)
	assert.Equal(t, "application/problem+json", refused.Header.Get("Content-Type"))
	for _, secret := range []string{"token", "home.json", "service.json"} {
		info, err := os.Stat(filepath.Join(s.home, secret))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), secret)
	}
}

// A site whose folder was removed says so, also where people look first, until it is back.
func TestARemovedFolderIsTold(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "empty"}))
	defer s.retire(t, "moss-archive")
	folder := s.site(t, "moss-archive").Folder
	require.NoError(t, os.Rename(folder, folder+"-away"))
	out, _, code := s.cli("verify", "moss-archive")
	assert.Equal(t, 3, code)
	assert.Contains(t, out, "public is gone")
	assert.Contains(t, out, "put it back, or retire the site")
	assert.Equal(t, "its folder is gone: put "+folder+" back, or retire the site", s.site(t, "moss-archive").Notice)
	require.NoError(t, os.Rename(folder+"-away", folder))
	requirePassed(t, s.do(t, plan.Verify, "moss-archive"))
	assert.Empty(t, s.site(t, "moss-archive").Notice)
}

func TestCompletionOffersWhatFits(t *testing.T) {
	s := shared(t)
	for asked, want := range map[string]string{"new _-php": "php-8.4", "new _-web": "nginx-1.26", "new _-touch": "no-samples",
		"new _-cms":   "spip",
		"new _-title": "", "verify _verify": "fernhollow", "new _-search-engines": "fernhollow", "fleet _fleet": "compare",
		"restack _-database": "mariadb-11.8"} {
		out, _, code := s.cli(append([]string{"completion", "words"}, strings.Fields(asked)...)...)
		assert.Equal(t, want == "" || strings.HasPrefix(asked, "fleet"), code == 1, "%s: files fit only where they may be named", asked)
		assert.Equal(t, want != "", strings.Contains("\n"+out, "\n"+want+"\n"), asked+": "+out)
		assert.NotContains(t, out, map[bool]string{true: "fernhollow", false: "\x00"}[strings.Contains(asked, "_-") &&
			want != "fernhollow"], asked)
	}
}
