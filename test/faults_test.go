package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/engine"
	"vessik/internal/home"
)

func TestEnginesThatAreKilledComeBack(t *testing.T) {
	s := shared(t)
	for _, pattern := range []string{"nginx: master", "php-fpm: master process (" + s.home + "/run/php/fernhollow",
		"run/mariadb-11.8/mariadb.cnf", "run/records/mariadb.cnf"} {
		killed := 0
		for _, line := range processesOf(s.home) {
			if pid, command, _ := strings.Cut(line, " "); strings.Contains(command, pattern) {
				number, _ := strconv.Atoi(pid)
				require.NoError(t, syscall.Kill(number, syscall.SIGKILL))
				require.Eventually(t, func() bool { return syscall.Kill(number, 0) != nil }, 5*time.Second, time.Millisecond)
				killed++
			}
		}
		require.NotZero(t, killed, "%s in %v", pattern, processesOf(s.home))
		_, errs, code := s.cli("label", "fernhollow", "-note", "killed: "+pattern[:3])
		assert.Zero(t, code, "the service works on, or waits for its records: %s", errs)
		for _, name := range []string{"fernhollow", "seed-exchange"} {
			assert.Eventually(t, func() bool { status, _, _ := get(t, s.site(t, name).URL); return status == 200 }, 20*time.Second,
				50*time.Millisecond, "%s after %s", name, pattern)
		}
	}
	requirePassed(t, s.do(t, plan.Verify, "fernhollow", "seed-exchange"))
}

func TestABrokenVirtualHostIsRefusedBeforeItIsLoaded(t *testing.T) {
	s := shared(t)
	lines := filepath.Join(t.TempDir(), "lines")
	require.NoError(t, os.WriteFile(lines, []byte("add_header X-Keeper Ines;\nno_such_directive on;\n"), 0o644))
	_, errs, code := s.cli("settings", "seed-exchange", "-host-lines", lines)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, `unknown directive "no_such_directive"`, "nginx's own words")
	assert.Contains(t, errs, "no_such_directive on;)", "and the line")
	assert.Contains(t, errs, "the site is as it was")
	requirePassed(t, s.do(t, plan.Verify, "seed-exchange", "fernhollow"))
	require.NoError(t, os.WriteFile(lines, []byte("add_header X-Keeper Ines;\n"), 0o644))
	out, errs, code := s.cli("settings", "seed-exchange", "-host-lines", lines)
	require.Equal(t, 0, code, out+errs)
	_, _, header := get(t, s.site(t, "seed-exchange").URL)
	assert.Equal(t, "Ines", header.Get("X-Keeper"))
	_, errs, code = s.cli("settings", "seed-exchange", "-back", "-1")
	require.Equal(t, 0, code, errs)
	_, _, header = get(t, s.site(t, "seed-exchange").URL)
	assert.Empty(t, header.Get("X-Keeper"))
}

func TestASiteWhosePHPCannotStartAnswersWithAnError(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	site := s.site(t, "orchard-days")
	s.do(t, plan.Stop, "orchard-days")
	require.NoError(t, os.Rename(site.Folder, site.Folder+".away"))
	watched := s.do(t, plan.Start, "orchard-days")
	assert.Equal(t, plan.OperationFailed, watched.State)
	assert.Contains(t, watched.Sites[0].Problem, "put it back")
	status, _, _ := get(t, site.URL)
	assert.Equal(t, 502, status)
	require.NoError(t, os.Rename(site.Folder+".away", site.Folder))
	requirePassed(t, s.do(t, plan.Start, "orchard-days"))
	gone(t, s, site, func() { s.retire(t, "orchard-days") })
}

// knocking has a site connect without pause to a port that it may not reach, and returns how often it was let in.
func knocking(t *testing.T, at client.Site) (letIn func() int64) {
	t.Helper()
	var visitors atomic.Int64
	door, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { door.Close() })
	go func() {
		for {
			visitor, err := door.Accept()
			if err != nil {
				return
			}
			visitors.Add(1)
			visitor.Close()
		}
	}()
	begun := filepath.Join(at.Folder, "knocks")
	require.NoError(t, os.WriteFile(filepath.Join(at.Folder, "knock.php"), fmt.Appendf(nil, `<?php
		for (set_time_limit(0); ; $n++) { @fsockopen('127.0.0.1', %d, $a, $b, 1); if ($n === 20) touch(__DIR__ . '/knocks'); }`,
		door.Addr().(*net.TCPAddr).Port), 0o644))
	for range 3 {
		go func() {
			if response, err := browser.Get(at.URL + "knock.php"); err == nil {
				response.Body.Close()
			}
		}()
	}
	require.Eventually(t, func() bool { _, err := os.Stat(begun); return err == nil }, 20*time.Second, 20*time.Millisecond)
	return visitors.Load
}

func TestAServiceThatRestartsFindsEverything(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	s := start(t, home)
	requirePassed(t, s.newSites(t, "fernhollow", "moss-archive"))
	s.do(t, plan.Stop, "moss-archive")
	url, port := s.site(t, "fernhollow").URL, mustStatus(t, s).GatewayPort
	_, errs, code := run(t, "serve", "-home", home)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "in use by another service")
	_, errs, code = run(t, "serve", "-home", home, "-gateway-port", strconv.Itoa(port+1))
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "kept for all its life")
	s.stop()
	assert.Empty(t, processesOf(home), "nothing outlives the service")
	_, _, code = run(t, "sites", "-home", home)
	assert.Equal(t, 4, code)

	s = start(t, home)
	assert.Equal(t, "running", string(s.site(t, "fernhollow").State))
	assert.Equal(t, "stopped", string(s.site(t, "moss-archive").State))
	status, _, _ := get(t, url)
	assert.Equal(t, 200, status)
	operations, err := s.Operations(context.Background(), 100)
	require.NoError(t, err)
	assert.Len(t, operations, 2)
	box := half(t, s)
	letIn := knocking(t, s.site(t, "fernhollow"))
	s.kill()
	require.Eventually(t, func() bool { return len(processesOf(filepath.Join(home, "run/php"))) == 0 }, 10*time.Second, 50*time.Millisecond,
		"sites end with the service that judges their connections")
	assert.Zero(t, letIn(), "no connection escapes meanwhile")
	s = start(t, home) // what the killed one left is ended, not in the way
	left, err := filepath.Glob(filepath.Join(box, "tmp/*"))
	require.NoError(t, err)
	assert.Empty(t, left, "half a message goes")
	assert.Equal(t, "whole", mailOf(t, s, "fernhollow", 1)[0].Subject, "one that was not recorded yet is, and one that is gone is not")
	status, text, _ := get(t, url)
	assert.Equal(t, 200, status, text)
	s.stop()

	listener, err := net.Listen("tcp4", "127.0.0.1:"+strconv.Itoa(port))
	require.NoError(t, err)
	_, errs, code = run(t, "serve", "-home", home)
	listener.Close()
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "held by test.test", "the holder is named, and no other port is chosen silently")
}

func TestATakenAPIPortIsSaid(t *testing.T) {
	if listener, err := net.Listen("tcp4", "127.0.0.1:20070"); err == nil { // otherwise a service of another test has it
		defer listener.Close()
	}
	s := start(t, newHome(t), "-api-port", "0")
	assert.Contains(t, s.out.text(), "port 20070 is taken; the API and the console are on")
	assert.NotContains(t, s.Base, ":20070")
}

// The service is killed without a word at random moments while it makes and retires sites, inside steps too (failpoints_test.go has the
// places around them). Whatever the moment: after a restart each site is whole or gone, and nothing is left that belongs to no site.
func TestCrashesLeaveNothingHalfDone(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	s := launch(t, home)
	requirePassed(t, s.newSites(t, "fernhollow"))
	bounds := []time.Duration{60, 250, 700, 1100}
	for round, bound := range bounds {
		name := fmt.Sprintf("crash-%d", round)
		operation, err := s.New(context.Background(), client.Request{Name: name})
		require.NoError(t, err)
		time.Sleep(time.Duration(rand.Int64N(int64(bound)*int64(time.Millisecond) + 1)))
		retiring := false
		if round%3 == 2 { // a crash while retiring
			s.watch(t, operation)
			_, err := s.Do(context.Background(), plan.Retire, namesOf(name))
			require.NoError(t, err)
			time.Sleep(time.Duration(rand.Int64N(int64(120 * time.Millisecond))))
			retiring = true
		}
		s.kill()
		s = launch(t, home)
		require.Eventually(t, func() bool {
			operations, err := s.Operations(context.Background(), 100)
			require.NoError(t, err)
			return !slices.ContainsFunc(operations, func(o client.Operation) bool { return o.State == plan.OperationRunning })
		}, 60*time.Second, 20*time.Millisecond)
		consistent(t, s)
		if retiring {
			_, err := s.Site(context.Background(), name, false)
			assert.Error(t, err, "a retirement goes on")
		}
	}
	s.stop()
	assert.Empty(t, processesOf(home))
}

// consistent compares what there is with what the records say, from outside.
func consistent(t *testing.T, s *service) {
	t.Helper()
	sites, err := s.Sites(context.Background(), false)
	require.NoError(t, err)
	names, running, hosts, databases := []string{}, []string{}, []string{}, []string{}
	for _, site := range sites {
		names = append(names, site.Name)
		databases = append(databases, site.Stack.Database.Engine+" "+site.Database.Name)
		if site.State == "stopped" {
			continue
		}
		running, hosts = append(running, site.Name), append(hosts, site.Stack.Web.Engine+" "+site.Name)
		status, _, _ := get(t, site.URL)
		assert.Equal(t, 200, status, "%s (%s %s)", site.Name, site.State, site.Reason)
	}
	assert.ElementsMatch(t, names, entries(s.home, "sites"), "folders")
	assert.Subset(t, names, entries(s.home, "run/php"), "PHP configurations")
	for _, folder := range []string{"restore", "pictures", "walks", "tmp", "mail", "logs/sites"} {
		assert.Subset(t, append(names, "browser"), entries(s.home, folder), folder) // that of pictures
	}
	found := []string{}
	for _, engine := range webs {
		for _, name := range entries(s.home, "run/"+engine) {
			if !strings.HasSuffix(name, ".gone") && !strings.HasPrefix(name, ".") {
				found = append(found, engine+" "+name)
			}
		}
	}
	assert.ElementsMatch(t, hosts, found, "virtual hosts")
	found = []string{}
	for _, engine := range mariadbs {
		for _, name := range entries(s.home, "databases/"+engine) {
			if info, err := os.Stat(filepath.Join(s.home, "databases", engine, name)); err == nil && info.IsDir() && name != "mysql" &&
				name != "performance_schema" && name != "sys" {
				found = append(found, engine+" "+strings.ReplaceAll(name, "@002d", "-"))
			}
		}
	}
	assert.ElementsMatch(t, databases, found, "databases")
	masters := 0
	for _, line := range processesOf(s.home) {
		if strings.Contains(line, "php-fpm: master") {
			masters++
		}
	}
	assert.Equal(t, len(running), masters, "PHP masters")
}

// entries lists a folder of a home.
func entries(home, folder string) []string {
	all, _ := os.ReadDir(filepath.Join(home, folder))
	found := []string{}
	for _, entry := range all {
		found = append(found, entry.Name())
	}
	return found
}

func TestCancelTakesBack(t *testing.T) {
	s := shared(t)
	operation, err := s.New(context.Background(), client.Request{Name: "orchard-days"})
	require.NoError(t, err)
	require.NoError(t, s.Cancel(context.Background(), operation.ID))
	watched := s.watch(t, operation)
	if watched.State == plan.OperationDone {
		t.Skip("it was done before the word arrived")
	}
	assert.Equal(t, plan.OperationCancelled, watched.State)
	_, err = s.Site(context.Background(), "orchard-days", false)
	assert.Error(t, err)
	assert.NoDirExists(t, filepath.Join(s.home, "sites/orchard-days"))
	requirePassed(t, s.newSites(t, "orchard-days")) // the name is free again
	s.retire(t, "orchard-days")
}

func TestDemo(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	out, errs, code := run(t, "demo", "-once", "-home", home)
	require.Zero(t, code, errs)
	for _, part := range []string{"fernhollow", "glasshouse-journal", "seed-exchange", "11 of 11 passed", "pushed: 1 files", "shows it now"} {
		assert.Contains(t, out, part)
	}
	assert.Empty(t, processesOf(home), "it leaves no process")
	// What somebody wrote stays for the next time.
	mine := filepath.Join(home, "sites/fernhollow/note.txt")
	require.NoError(t, os.WriteFile(mine, []byte("mine"), 0o644))
	command := exec.Command(program, "demo", "-home", home)
	output := &lockedBuffer{}
	command.Stdout, command.Stderr = output, output
	require.NoError(t, command.Start())
	require.Eventually(t, func() bool { return strings.Contains(output.text(), "Ctrl-C stops everything") }, 60*time.Second,
		50*time.Millisecond, output.text())
	assert.Contains(t, output.text(), "#ticket=")
	s, err := client.ForHome(home)
	require.NoError(t, err)
	site, err := s.Site(context.Background(), "fernhollow", false)
	require.NoError(t, err)
	_, page, _ := get(t, site.URL)
	assert.Contains(t, page, "Winter hours in all gardens")
	_, page, _ = get(t, site.URL+"note.txt")
	assert.Equal(t, "mine", page)
	accounts, err := s.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, accounts, 2)
	assert.Equal(t, "orchard-autumn", accounts[0].Site)
	_, page, _ = get(t, accounts[0].URL)
	assert.Contains(t, page, "Cider night")
	require.NoError(t, command.Process.Signal(syscall.SIGINT))
	require.NoError(t, command.Wait())
	assert.Empty(t, processesOf(home))
}

// A step that fails takes back the finished ones, and never what was not Vessik's.
func TestAFailingStepTakesBackTheRest(t *testing.T) {
	s := shared(t)
	settings, err := home.Home{Dir: s.home}.ReadSettings()
	require.NoError(t, err)
	db, err := sql.Open("mysql", "root:"+settings.Passwords["mariadb-11.8"]+"@unix("+filepath.Join(s.home,
		"run/mariadb-11.8/db.sock")+")/?multiStatements=true")
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE DATABASE orchard_days; CREATE TABLE orchard_days.apples (a INT)")
	require.NoError(t, err)
	parents := filepath.Join(filepath.Dir(s.home), "new")
	require.NoError(t, os.MkdirAll(parents, 0o777))
	require.NoError(t, os.Chmod(parents, 0o777))
	out, errs, code := s.cli("new", "orchard-days", "-folder", filepath.Join(parents, "deep", "er", "orchard"))
	assert.Equal(t, 1, code, out)
	assert.Contains(t, errs, "choose others with -database-name and -database-user")
	assert.Contains(t, errs, "everything was taken back")
	assert.NoDirExists(t, filepath.Join(parents, "deep"), "nor the folders made on the way")
	_, err = s.Site(context.Background(), "orchard-days", false)
	assert.Error(t, err)
	_, err = db.Exec("SELECT * FROM orchard_days.apples")
	assert.NoError(t, err, "what was there stays")
	_, err = db.Exec("DROP DATABASE orchard_days")
	require.NoError(t, err)
	requirePassed(t, s.newSites(t, "orchard-days")) // name, domain and port are free again
	s.retire(t, "orchard-days")
}

// PHP that cannot come back is given up, and visitors are told instead of being left to wait.
func TestPHPThatKeepsDyingIsGivenUpAndSaid(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	site := s.site(t, "orchard-days")
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "run/php/orchard-days/a/php-fpm.conf"), []byte("[global]\ngarden_gate = open\n"),
		0o600))
	for _, line := range processesOf(filepath.Join(s.home, "run/php/orchard-days")) {
		pid, _, _ := strings.Cut(line, " ")
		number, _ := strconv.Atoi(pid)
		require.NoError(t, syscall.Kill(number, syscall.SIGKILL))
	}
	began := time.Now()
	require.Eventually(t, func() bool { return s.site(t, "orchard-days").State == "failed" }, 60*time.Second, 50*time.Millisecond)
	status, page, _ := get(t, site.URL)
	assert.Equal(t, 502, status)
	assert.Contains(t, page, "died", "why, %s after", time.Since(began))
	assert.Contains(t, page, "garden_gate", "in PHP's own words")
	status, _, _ = get(t, s.site(t, "fernhollow").URL)
	assert.Equal(t, 200, status)
	requirePassed(t, s.do(t, plan.Start, "orchard-days"))
	s.retire(t, "orchard-days")
}

func TestAnInterruptedCommandTakesItsSiteBack(t *testing.T) {
	s := shared(t)
	command := exec.Command(program, "new", "orchard-days", "-home", s.home)
	output := &lockedBuffer{}
	command.Stdout, command.Stderr = output, output
	require.NoError(t, command.Start())
	require.Eventually(t, func() bool { return strings.Contains(output.text(), "laying out files") }, 10*time.Second, time.Millisecond)
	require.NoError(t, command.Process.Signal(syscall.SIGINT))
	command.Wait()
	assert.Equal(t, 1, command.ProcessState.ExitCode())
	assert.Contains(t, output.text(), "orchard-days: cancelled; everything was taken back")
	_, err := s.Site(context.Background(), "orchard-days", false)
	assert.Error(t, err)
	assert.NoDirExists(t, filepath.Join(s.home, "sites/orchard-days"))
}

// A disk that is full refuses a site, a change, a trial and an engine in words, and everything stays as it was; what fills up in the
// middle is taken back.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("a small file system is mounted for it, which only root may do")
	}
	disk := filepath.Dir(newHome(t))
	require.NoError(t, syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=1200m,mode=0711"))
	t.Cleanup(func() { syscall.Unmount(disk, syscall.MNT_DETACH) })
	home := filepath.Join(disk, "home")
	points := pointsFolder(t)
	s := launchWith(t, built(t, "-tags", "failpoints"), home, "VESSIK_FAILPOINTS="+points)
	t.Cleanup(s.stop)
	requirePassed(t, s.made(t, client.Request{Name: "fernhollow"}))
	defer s.retire(t, "fernhollow")
	site := s.site(t, "fernhollow")
	before := content(t, site)
	ballast := filepath.Join(disk, "ballast")
	fill := func(path string, leave uint64) {
		free, _ := engine.FreeBytes(disk)
		if file, err := os.Create(path); err == nil {
			syscall.Fallocate(int(file.Fd()), 0, 0, int64(free-leave)&^4095)
			file.Close()
		}
	}
	unchanged := func(what string) {
		t.Helper()
		require.NoError(t, os.RemoveAll(ballast))
		assert.Equal(t, before, content(t, site), what)
		left, err := filepath.Glob(filepath.Join(home, "restore", "*", "*"))
		require.NoError(t, err)
		assert.Empty(t, left, what)
		sites, err := s.Sites(context.Background(), false)
		require.NoError(t, err)
		assert.Len(t, sites, 1, what)
		consistent(t, s)
		requirePassed(t, s.do(t, plan.Verify, "fernhollow"))
	}
	for _, arguments := range [][]string{{"new", "moss-archive"}, {"restack", "fernhollow", "-php", "8.2"},
		{"trial", "fernhollow", "-php", "8.2"}} {
		fill(ballast, 150<<20)
		out, errs, code := s.cli(arguments...)
		assert.NotZero(t, code, "%s", arguments)
		assert.Contains(t, out+errs, "make room on it, then try again", "%s", arguments)
		unchanged(strings.Join(arguments, " "))
	}
	// The room is there when it is looked for, and gone in the middle: what is written does not fit, nor one more file.
	held := filepath.Join(points, "new.moss-archive.lay-out.noted")
	require.NoError(t, os.WriteFile(held, []byte("hold"), 0o644))
	filled := whenThere(held+".held", func() {
		fill(ballast, 10<<20)
		os.Remove(held + ".held")
	})
	_, errs, code := s.cli("new", "moss-archive")
	filled()
	assert.NotZero(t, code)
	assert.Contains(t, errs, "no space left on device")
	unchanged("new")
	files := func(spare uint64) {
		var now syscall.Statfs_t
		require.NoError(t, syscall.Statfs(disk, &now))
		require.NoError(t, syscall.Mount("", disk, "", syscall.MS_REMOUNT, fmt.Sprintf("size=1200m,nr_inodes=%d", now.Files-now.Ffree+spare)))
	}
	files(500) // WordPress alone has 3,000
	_, errs, code = s.cli("restack", "fernhollow", "-database", "10.11")
	files(1 << 20)
	assert.NotZero(t, code)
	assert.Contains(t, strings.ToLower(errs), "no space left on device") // or the database server's words
	unchanged("restack")
}

// whenThere does something as soon as a path is there, until it is told to end.
func whenThere(pattern string, do func()) (end func()) {
	ended, looking := make(chan struct{}), sync.WaitGroup{}
	looking.Go(func() {
		for {
			if found, _ := filepath.Glob(pattern); len(found) > 0 {
				do()
				return
			}
			select {
			case <-ended:
				return
			case <-time.After(time.Millisecond):
			}
		}
	})
	return func() { close(ended); looking.Wait() }
}

// A database server's port that somebody else holds is replaced as long as it is in no site's configuration, and named afterwards.
func TestADatabasePortThatIsTakenBeforeItsFirstUse(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	holder, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer holder.Close()
	taken := holder.Addr().(*net.TCPAddr).Port
	require.NoError(t, os.MkdirAll(home, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, "home.json"),
		fmt.Appendf(nil, `{"dir": %q, "gateway_port": %d, "ports": {"mariadb-11.8": %d}}`, home, freePort(t), taken), 0o600))
	handOver(t, home)
	s := start(t, home)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}))
	chosen := s.site(t, "orchard-days").Database.Port
	assert.NotEqual(t, taken, chosen)
	s.do(t, plan.Stop, "orchard-days")
	var second net.Listener
	require.Eventually(t, func() bool { // once its server has stopped
		second, err = net.Listen("tcp4", fmt.Sprintf("127.0.0.1:%d", chosen))
		return err == nil
	}, 20*time.Second, 100*time.Millisecond)
	_, errs, code := s.cli("start", "orchard-days")
	assert.NotZero(t, code)
	assert.Contains(t, errs, fmt.Sprintf("port %d, which the configuration of every site on mariadb-11.8 names, is held by", chosen))
	second.Close()
	requirePassed(t, s.do(t, plan.Start, "orchard-days"))
}

// half has mail as a service leaves it that is killed in the middle: a message that is not whole, one that is not recorded, and a record of
// one that is gone.
func half(t *testing.T, s *service) (box string) {
	t.Helper()
	at := s.site(t, "fernhollow")
	post(t, at, "", `mail('visitor@real.example', 'gone', 'We open at nine.');`)
	mailOf(t, s, "fernhollow", 1)
	spool := filepath.Join(s.home, "mail/fernhollow/spool/*.eml")
	require.Eventually(t, func() bool { found, _ := filepath.Glob(spool); return len(found) == 0 }, 10*time.Second, 10*time.Millisecond,
		"what is recorded is taken out of the spool a moment later")
	box = filepath.Join(s.home, "mail/fernhollow/Maildir")
	for _, path := range []string{"new", "tmp"} {
		entries, err := os.ReadDir(filepath.Join(box, path))
		require.NoError(t, err)
		for _, each := range entries {
			require.NoError(t, os.Remove(filepath.Join(box, path, each.Name())))
		}
		require.NoError(t, os.WriteFile(filepath.Join(box, path, "1.whole.vessik"), []byte("Subject: whole\n\nx"), 0o644))
	}
	return box
}
