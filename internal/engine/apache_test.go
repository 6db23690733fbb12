package engine_test

import (
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/proc"
	"vessik/test/ground"
)

func bell(t *testing.T) *engine.Doorbell {
	bell, err := engine.NewDoorbell()
	require.NoError(t, err)
	return bell
}

// rest puts a site's web server to rest if nobody is connected, and tells whether it is.
func rest(w *engine.WebServer, site string) bool {
	w.Rest(time.Now(), func(name string) (bool, time.Duration) { return name == site, 0 })
	return w.PID(site) == 0
}

// onApache is a site's virtual host for Apache, with a folder that holds one page.
func onApache(t *testing.T, name string, port int, lines string) *engine.VirtualHost {
	dir := ground.Folder(t)
	folder, logs := filepath.Join(dir, "site"), filepath.Join(dir, "logs")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	require.NoError(t, os.MkdirAll(logs, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte(name), 0o644))
	s := site.Site{Name: name, Domain: "127.0.0.1", Folder: folder, Port: port,
		Settings: site.Settings{HostLines: map[string]string{"apache": lines}}}
	text := render.Host{Site: s, Socket: filepath.Join(dir, "none.sock"), Logs: logs, BaseURL: "http://127.0.0.1", PublicPort: port,
		UploadLimit: 1 << 20, ReadTimeout: 60}.Apache()
	return &engine.VirtualHost{Text: text, Port: port, Folders: folder, Logs: logs}
}

func TestApacheStartsWithItsFirstVisitorAndRests(t *testing.T) {
	for _, id := range []string{"apache-2.4-bullseye", "apache-2.4-bookworm", "apache-2.4-trixie"} {
		t.Run(id, func(t *testing.T) {
			dir := ground.Folder(t)
			w, err := engine.NewWebServer(ground.Supervisor(), bell(t), ground.Engine(t, id), filepath.Join(dir, "run"))
			require.NoError(t, err)
			defer w.Stop()
			a, b := ground.FreePort(t), ground.FreePort(t)
			foreign, err := net.Listen("tcp4", "127.0.0.1:0")
			require.NoError(t, err)
			defer foreign.Close()
			broken := w.Apply(ctx, map[string]*engine.VirtualHost{"fern": onApache(t, "fern", a, ""),
				"moss":  onApache(t, "moss", b, "NoSuchDirective on"),
				"taken": onApache(t, "taken", foreign.Addr().(*net.TCPAddr).Port, "")}, false)
			assert.ErrorContains(t, broken["moss"], "NoSuchDirective on)", "the line itself")
			assert.ErrorIs(t, broken["taken"], engine.ErrPortTaken)
			assert.Equal(t, []string{"fern"}, w.Sites())
			http.DefaultTransport.(*http.Transport).CloseIdleConnections()
			assert.Eventually(t, func() bool { return rest(w, "fern") }, 10*time.Second, 20*time.Millisecond)
			assert.Equal(t, "fern", answer(a))
			var first []int
			require.Eventually(t, func() bool { // the first answer may be the last one of the server that goes to rest
				http.DefaultTransport.(*http.Transport).CloseIdleConnections()
				first = w.Processes()
				return answer(a) == "fern" && len(first) == 1
			}, 10*time.Second, 20*time.Millisecond)

			require.NoError(t, syscall.Kill(first[0], syscall.SIGKILL))
			require.Eventually(t, func() bool { now := w.Processes(); return len(now) == 1 && now[0] != first[0] }, 10*time.Second,
				5*time.Millisecond)
			http.DefaultTransport.(*http.Transport).CloseIdleConnections() // they died with it
			told := ""
			assert.Eventually(t, func() bool { told = answer(a); return told == "fern" }, 5*time.Second, 20*time.Millisecond, "killed, and back")
			if told != "fern" {
				t.Log(told)
			}

			// Another configuration is taken up without a visitor being turned away.
			http.DefaultTransport.(*http.Transport).CloseIdleConnections()
			visitor := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
			visit := func() (text string, header http.Header) {
				response, err := visitor.Get("http://127.0.0.1:" + strconv.Itoa(a))
				if err != nil {
					return err.Error(), nil
				}
				defer response.Body.Close()
				content, _ := io.ReadAll(response.Body)
				return string(content), response.Header
			}
			var failed, served atomic.Int64
			stop := make(chan struct{})
			var group sync.WaitGroup
			for range 3 {
				group.Go(func() {
					for {
						select {
						case <-stop:
							return
						default:
						}
						if text, _ := visit(); text == "fern" {
							served.Add(1)
						} else {
							failed.Add(1)
							t.Log(text)
						}
					}
				})
			}
			next := onApache(t, "fern", a, "Header set X-Keeper Ines")
			broken = w.Apply(ctx, map[string]*engine.VirtualHost{"fern": next}, false)
			assert.Empty(t, broken)
			_, header := visit()
			assert.Equal(t, "Ines", header.Get("X-Keeper"))
			close(stop)
			group.Wait()
			assert.Zero(t, failed.Load())
			assert.Positive(t, served.Load())
			assert.ErrorContains(t, w.Check(ctx, "fern", *onApache(t, "fern", a, "Garden gate")), "Invalid command 'Garden'")

			http.DefaultTransport.(*http.Transport).CloseIdleConnections()
			w.Rest(time.Now(), func(string) (bool, time.Duration) { return false, 0 })
			assert.NotEmpty(t, w.Processes(), "its PHP is not at rest")
			assert.Eventually(t, func() bool { return rest(w, "fern") }, 10*time.Second, 20*time.Millisecond)
			assert.Equal(t, "fern", answer(a), "woken")
			w.Apply(ctx, map[string]*engine.VirtualHost{"fern": nil}, false)
			http.DefaultTransport.(*http.Transport).CloseIdleConnections() // those end with their last answer
			assert.Eventually(t, func() bool { return strings.Contains(answer(a), "refused") }, 5*time.Second, 10*time.Millisecond,
				"nobody listens once its last process is gone")
		})
	}
}

// fastCGI asks PHP over its socket for one script and returns what it printed (the FastCGI specification, version 1).
func fastCGI(socket, script string) (string, error) {
	connection, err := net.Dial("unix", socket)
	if err != nil {
		return "", err
	}
	defer connection.Close()
	connection.SetDeadline(time.Now().Add(20 * time.Second))
	record := func(kind byte, content string) string {
		return string([]byte{1, kind, 0, 1, byte(len(content) >> 8), byte(len(content)), 0, 0}) + content
	}
	parameters := ""
	for name, value := range map[string]string{"SCRIPT_FILENAME": script, "REQUEST_METHOD": "GET", "DOCUMENT_ROOT": filepath.Dir(script)} {
		parameters += string([]byte{byte(len(name)), byte(len(value))}) + name + value
	}
	if _, err := io.WriteString(connection, record(1, "\x00\x01\x00\x00\x00\x00\x00\x00")+record(4, parameters)+record(4, "")+record(5,
		"")); err != nil {
		return "", err
	}
	out := ""
	for {
		head := make([]byte, 8)
		if _, err := io.ReadFull(connection, head); err != nil {
			return out, err
		}
		content := make([]byte, int(head[4])<<8|int(head[5])+int(head[6]))
		if _, err := io.ReadFull(connection, content); err != nil {
			return out, err
		}
		if head[1] == 6 {
			out += string(content[:len(content)-int(head[6])])
		}
		if head[1] == 3 {
			_, body, _ := strings.Cut(out, "\r\n\r\n")
			return body, nil
		}
	}
}

// PHP-FPM misses a visitor who comes while its last worker is being ended. Here it is held so that it sees nobody.
func TestAVisitorWhomPHPOverlooksIsSeenTo(t *testing.T) {
	dir := ground.Folder(t)
	script := filepath.Join(dir, "site", "index.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(script), 0o755))
	require.NoError(t, os.WriteFile(script, []byte("<?php echo 'fern';"), 0o644))
	probe := filepath.Join(dir, "probe.php")
	require.NoError(t, os.WriteFile(probe, []byte(render.Probe()), 0o600))
	place := engine.PHPPlace{Dir: filepath.Join(dir, "php"), Temp: filepath.Join(dir, "temp"), Logs: filepath.Join(dir, "logs"),
		Mail: filepath.Join(dir, "mail"), Socket: filepath.Join(dir, "s", "php.sock"), Probe: probe}
	master, err := engine.OpenPHP(ground.Supervisor(), bell(t), ground.Engine(t, "php-8.2"),
		site.Site{Name: "fern", Folder: filepath.Dir(script), Probe: "secret"}, place, func(error) {})
	require.NoError(t, err)
	defer master.Stop()
	assert.False(t, master.Knock(), "it is at rest: the first visitor wakes it")
	require.NoError(t, master.Wake(t.Context()))
	assert.False(t, master.Knock(), "nobody waits")
	require.NoError(t, syscall.Kill(master.PID(), syscall.SIGSTOP))
	defer syscall.Kill(master.PID(), syscall.SIGCONT)
	waited := make(chan string)
	go func() { text, _ := fastCGI(place.Socket, script); waited <- text }()
	require.Eventually(t, master.Knock, 10*time.Second, 10*time.Millisecond, "who waits at two looks is knocked for")
	require.NoError(t, syscall.Kill(master.PID(), syscall.SIGCONT))
	assert.Equal(t, "fern", <-waited)
	assert.False(t, master.Knock())
}

func TestPHPWakesRestsAndChangesWithoutLosingARequest(t *testing.T) {
	dir := ground.Folder(t)
	script := filepath.Join(dir, "site", "index.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(script), 0o755))
	require.NoError(t, os.WriteFile(script, []byte("<?php echo PHP_VERSION, ' ', ini_get('memory_limit');"), 0o644))
	probe := filepath.Join(dir, "probe.php")
	require.NoError(t, os.WriteFile(probe, []byte(render.Probe()), 0o600))
	s := site.Site{Name: "fern", Folder: filepath.Dir(script), Probe: "secret"}
	place := engine.PHPPlace{Dir: filepath.Join(dir, "php"), Temp: filepath.Join(dir, "temp"), Logs: filepath.Join(dir, "logs"),
		Mail: filepath.Join(dir, "mail"), Socket: filepath.Join(dir, "s", "php.sock"), Probe: probe}
	given := make(chan error, 1)
	old := ground.Engine(t, "php-7.4")
	master, err := engine.OpenPHP(ground.Supervisor(), bell(t), old, s, place, func(err error) { given <- err })
	require.NoError(t, err)
	defer master.Stop()
	assert.Zero(t, master.PID(), "nobody has asked yet")
	ask := func() string {
		text, err := fastCGI(place.Socket, script)
		require.NoError(t, err)
		return text
	}
	assert.Equal(t, old.Version+" 256M", ask(), "the first connection wakes it")
	require.Eventually(t, func() bool { return master.PID() != 0 }, 10*time.Second, time.Millisecond)
	assert.Positive(t, proc.Memory(master.PID()))
	require.NoError(t, master.Rest())
	assert.Zero(t, master.PID())
	assert.Equal(t, old.Version+" 256M", ask())

	master.Hold()
	waited := make(chan string)
	go func() { text, _ := fastCGI(place.Socket, script); waited <- text }()
	select {
	case <-waited:
		t.Fatal("answered while it is held")
	case <-time.After(300 * time.Millisecond):
	}
	require.NoError(t, master.Release())
	assert.Equal(t, old.Version+" 256M", <-waited, "who came meanwhile was kept")

	stop := make(chan struct{})
	var group sync.WaitGroup
	for range 3 {
		group.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				_, err := fastCGI(place.Socket, script)
				assert.NoError(t, err)
			}
		})
	}
	for _, id := range []string{"php-8.2", "php-8.4", "php-7.4"} {
		s.Settings.PHP = map[string]string{"memory_limit": "300M"}
		e := ground.Engine(t, id)
		require.NoError(t, master.Change(ctx, e, s))
		assert.Equal(t, e.Version+" 300M", ask())
		require.NoError(t, master.Rest(), "while it is asked without pause")
	}
	close(stop)
	group.Wait()

	bad := s
	bad.Settings.Extensions = map[string]bool{"mysqlnd": false} // what mysqli needs
	err = master.Change(ctx, ground.Engine(t, "php-8.2"), bad)
	assert.ErrorContains(t, err, "mysqli", "PHP's own words")
	assert.Equal(t, ground.Engine(t, "php-7.4").Version+" 300M", ask(), "nothing has changed")
	assert.ErrorContains(t, engine.CheckPHP(ctx, ground.Supervisor(), ground.Engine(t, "php-8.2"), bad, place), "mysqli")

	names, err := engine.Directives(ctx, ground.Engine(t, "php-8.4"), ground.Folder(t))
	require.NoError(t, err)
	assert.Contains(t, names, "memory_limit")
	assert.Contains(t, names, "xdebug.mode")
	switchable, err := engine.Switchable(ground.Engine(t, "php-8.4"))
	require.NoError(t, err)
	assert.Contains(t, switchable, "gd")
	assert.NotContains(t, switchable, "pdo", "others build on it")
	assert.True(t, engine.HasXdebug(ground.Engine(t, "php-7.4")))
}

func TestDatabaseServersOfAllGenerations(t *testing.T) {
	for _, id := range []string{"mariadb-10.5", "mariadb-11.8"} {
		e := ground.Engine(t, id)
		dir := ground.Folder(t)
		place := engine.DatabasePlace{Data: filepath.Join(dir, "data"), Run: filepath.Join(dir, "run"), Log: filepath.Join(dir, "log"),
			Port: ground.FreePort(t), Password: "garden-gate-77", BufferMB: 32,
			Variables: map[string]string{"max_connections": "77"}}
		require.NoError(t, engine.CheckVariables(ctx, ground.Supervisor(), e, place))
		d, err := engine.StartDatabase(ctx, ground.Supervisor(), e, place)
		require.NoError(t, err, id)
		var version, collation string
		var connections int
		require.NoError(t, d.Admin().QueryRow("SELECT VERSION(), @@max_connections").Scan(&version, &connections))
		assert.True(t, strings.HasPrefix(version, e.Version), "%s %s", version, e.Version)
		assert.Equal(t, 77, connections)
		require.NoError(t, d.CreateDatabase(ctx, "moss", "moss", "garden-gate-77"))
		pool := d.OpenAs(site.Database{Name: "moss", User: "moss", Password: "garden-gate-77"})
		_, err = pool.Exec("CREATE TABLE t (a VARCHAR(9))")
		require.NoError(t, err)
		require.NoError(t, pool.QueryRow("SELECT TABLE_COLLATION FROM information_schema.TABLES WHERE TABLE_SCHEMA='moss'").Scan(&collation))
		assert.Equal(t, "utf8mb4_unicode_ci", collation, "the same on every server")
		missing, err := d.Missing(ctx, []string{"utf8mb4_unicode_520_ci", "utf8mb4_uca1400_ai_ci", "utf8mb4_moss_ci"})
		require.NoError(t, err)
		assert.Equal(t, map[string][]string{"mariadb-10.5": {"utf8mb4_uca1400_ai_ci", "utf8mb4_moss_ci"},
			"mariadb-11.8": {"utf8mb4_moss_ci"}}[id], missing)
		pool.Close()
		if id == "mariadb-11.8" {
			assert.Equal(t, x509.ECDSA, keyOf(t, d, "moss", "garden-gate-77"), "one that costs nothing to make")
		}
		for _, user := range []string{"root", ""} {
			assert.Error(t, connect(t, d, user, "").Ping())
		}
		d.Stop()
		place.Variables = map[string]string{"no_such_variable": "1"}
		assert.ErrorContains(t, engine.CheckVariables(ctx, ground.Supervisor(), e, place), "no_such_variable", "the server's own words")
	}
}

func TestEnginesShareTheirFilesAndAreDropped(t *testing.T) {
	store := engine.Store{Dir: filepath.Join(ground.Folder(t), "engines")}
	found, err := store.Ensure(ctx, []string{"nginx-1.22", "apache-2.4-bookworm"}, nil)
	require.NoError(t, err)
	inode := func(id, path string) uint64 {
		matches, _ := filepath.Glob(filepath.Join(found[id].Root(), path))
		require.NotEmpty(t, matches, path)
		info, err := os.Stat(matches[0])
		require.NoError(t, err)
		return info.Sys().(*syscall.Stat_t).Ino
	}
	assert.Equal(t, inode("nginx-1.22", "usr/lib/*-linux-gnu/libc.so.6"), inode("apache-2.4-bookworm", "usr/lib/*-linux-gnu/libc.so.6"))
	use := store.DiskUse()["bookworm"]
	assert.Less(t, use, found["nginx-1.22"].SizeBytes+found["apache-2.4-bookworm"].SizeBytes)
	require.NoError(t, store.Drop("apache-2.4-bookworm"))
	assert.Less(t, store.DiskUse()["bookworm"], use)
	_, err = store.Find("apache-2.4-bookworm")
	assert.ErrorIs(t, err, os.ErrNotExist)
	kept, err := filepath.Glob(filepath.Join(store.Dir, ".shared/*/*"))
	require.NoError(t, err)
	for _, path := range kept {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Greater(t, info.Sys().(*syscall.Stat_t).Nlink, uint64(1), "no file that nobody holds")
	}

	// An engine of the user's own, from a folder.
	own, err := store.Inspect(ctx, "nginx-1.22-own", found["nginx-1.22"].Root())
	require.NoError(t, err)
	require.NoError(t, store.Keep(own))
	again, err := store.Find("nginx-1.22-own")
	require.NoError(t, err)
	assert.Equal(t, found["nginx-1.22"].Root(), again.Root())
	assert.Equal(t, found["nginx-1.22"].Version, again.Version)
	assert.Less(t, again.SizeBytes, int64(8<<20), "its programs, not what else is in that folder")
	assert.Contains(t, store.IDs(engine.Web), "nginx-1.22-own")
	for id, path := range map[string]string{"nginx-1.9": own.Adopted, "moss-1": own.Adopted, "php-8.2-own": own.Adopted,
		"nginx-1.22-x": "relative", "nginx-1.22-y": "/nowhere"} {
		_, err := store.Inspect(ctx, id, path)
		assert.Error(t, err, fmt.Sprint(id, path))
	}
	require.NoError(t, store.Drop("nginx-1.22-own"))
	assert.DirExists(t, found["nginx-1.22"].Root(), "what it consists of stays")
}
