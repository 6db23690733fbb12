package test

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"text/tabwriter"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/cell"
	"vessik/internal/core/plan"
	"vessik/internal/home"
)

// onlyCells are attempts that need namespaces to be held; without them they are told, and listed in docs/isolation.md.
var onlyCells = []string{"tell whether it is there", "change a mode", "change a time", "limit the service", "slow the service down",
	"bind the service to a processor", "see others' processes",
	"read through /proc", "start 600 processes", "outlive the site", "see shared memory", "set an attribute",
	"run as a neighbour through .htaccess"} // whose socket has a name that cannot be guessed, which this test knows

// siege is one service under attack, and the table of what was tried.
type siege struct {
	*service
	t       *testing.T
	cells   bool
	program string
	tried   map[string]int
	leaks   map[string][]string
}

// TestAttack has a hostile site try all that is known to us, on both web servers, old and new PHP, in cells and without.
func TestAttack(t *testing.T) {
	for _, mode := range []string{"in cells", "without cells", "started by an ordinary account"} {
		t.Run(mode, func(t *testing.T) {
			home, account := newHome(t), (*syscall.Credential)(nil)
			if mode == "started by an ordinary account" && os.Geteuid() == 0 {
				account = engineers(t)
				require.NoError(t, os.Chown(filepath.Dir(home), int(account.Uid), int(account.Gid)))
			}
			if mode == "without cells" {
				t.Setenv(cell.NoCells, "1")
			}
			t.Setenv("ATTACK_SECRET", "of whoever started the service")
			s := &siege{service: launchAs(t, account, home), t: t, tried: map[string]int{}, leaks: map[string][]string{}}
			t.Cleanup(s.stop)
			if s.cells = mustStatus(t, s.service).Confinement.Cells; !s.cells && mode != "without cells" {
				t.Skip("there are no cells here: ", mustStatus(t, s.service).Confinement.Why)
			}
			requirePassed(t, s.made(t, client.Request{Name: "moss-archive", PHP: "7.4", Web: "apache"}, client.Request{Name: "orchard-days",
				PHP: "8.4", Web: "nginx"}, client.Request{Name: "fernhollow"}))
			s.build()
			for _, name := range []string{"moss-archive", "orchard-days"} {
				s.fromInside(name)
				s.throughTheWebServer(name)
			}
			s.throughTheDatabase()
			s.byLaidLinks()
			s.outlives()
			s.print(mode)
			requirePassed(t, s.do(t, plan.Verify, "fernhollow"))
		})
	}
}

// engineers is the account that has the engine store.
func engineers(t *testing.T) *syscall.Credential {
	home, err := home.Default()
	require.NoError(t, err)
	t.Setenv("VESSIK_ENGINES", home.Engines)
	info, err := os.Stat(home.Engines)
	require.NoError(t, err)
	owner := info.Sys().(*syscall.Stat_t)
	return &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid}
}

// note counts one attempt.
func (s *siege) note(name string, leaked bool, detail string) {
	s.tried[name]++
	if leaked {
		s.leaks[name] = append(s.leaks[name], detail)
	}
}

func (s *siege) build() {
	s.program = filepath.Join(scratch, "attack")
	build := exec.Command("go", "build", "-o", s.program, "./attack")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(s.t, err, string(out))
}

// fromInside runs the program as a child of the site's PHP, and as a command of the site.
func (s *siege) fromInside(name string) {
	mine, victim := s.site(s.t, name), s.site(s.t, "fernhollow")
	status := mustStatus(s.t, s.service)
	sockets, _ := filepath.Glob(filepath.Join(s.home, "run/sockets/*/php.sock"))
	files := []string{filepath.Join(s.home, "token"), filepath.Join(s.home, "home.json"), filepath.Join(s.home, "service.json"),
		filepath.Join(victim.Folder, "wp-config.php"), filepath.Join(s.home, "run/php/fernhollow/a/prepend.php")}
	api, _ := strconv.Atoi(status.API[strings.LastIndexByte(status.API, ':')+1:])
	listen := freePort(s.t)
	targets := map[string]any{"files": files, "folders": []string{victim.Folder, filepath.Join(s.home, "records"), filepath.Join(s.home,
		"databases"), filepath.Join(s.home, "logs")},
		"sockets": append(sockets, filepath.Join(s.home, "run/records/db.sock")), "ports": []int{api,
			victim.Port}, "open": status.GatewayPort, "process": status.PID,
		"own": mine.Folder, "logs": filepath.Join(s.home, "logs/sites", name), "limits": true}
	text, err := json.Marshal(targets)
	require.NoError(s.t, err)
	program := filepath.Join(mine.Folder, "attack-program")
	content, err := os.ReadFile(s.program)
	require.NoError(s.t, err)
	require.NoError(s.t, os.WriteFile(program, content, 0o755))
	defer os.Remove(program)
	out, errs, code := run(s.t, "run", name, "-home", s.home, "--", program, string(text))
	require.Zero(s.t, code, out+errs)
	s.read(out)
	targets["listen"] = listen
	text, _ = json.Marshal(targets)
	script := filepath.Join(mine.Folder, "attack.php")
	require.NoError(s.t, os.WriteFile(script,
		[]byte("<?php set_time_limit(100); passthru('./attack-program '.escapeshellarg(base64_decode('"+base64.StdEncoding.EncodeToString(text)+
			"')).' 2>&1');"), 0o644))
	defer os.Remove(script)
	answered := make(chan string, 1)
	go func() { _, page, _ := get(s.t, mine.URL+"attack.php"); answered <- page }()
	taken := false
	for waiting := true; waiting; {
		select {
		case page := <-answered:
			s.read(page)
			waiting = false
		case <-time.After(100 * time.Millisecond):
			if connection, err := net.DialTimeout("tcp4", fmt.Sprintf("127.0.0.1:%d", listen), 100*time.Millisecond); err == nil {
				taken = true
				connection.Close()
			}
		}
	}
	s.note("hold a port of this machine", taken, fmt.Sprint(listen))
}

func freePort(t testing.TB) int {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}

func (s *siege) read(said string) {
	lines := 0
	for line := range strings.Lines(said) {
		parts := strings.Split(strings.TrimSpace(line), "\t")
		if len(parts) >= 2 && parts[1] != "-" {
			lines++
			s.note(parts[0], parts[1] != "held", strings.Join(parts[2:], " "))
		}
	}
	require.Greater(s.t, lines, 50, said)
}

// throughTheWebServer has the site's own web server asked for what is not its own.
func (s *siege) throughTheWebServer(name string) {
	mine := s.site(s.t, name)
	sockets, _ := filepath.Glob(filepath.Join(s.home, "run/sockets/*/php.sock"))
	link := filepath.Join(mine.Folder, "door")
	require.NoError(s.t, os.Symlink(s.home, link))
	for _, path := range []string{"door/token", "door/home.json"} {
		status, page, _ := get(s.t, mine.URL+path)
		s.note("be served through a link", status == 200 && len(page) > 0 && !strings.Contains(page, "<html"), path)
	}
	os.Remove(link)
	rules := filepath.Join(mine.Folder, "door/.htaccess")
	require.NoError(s.t, os.MkdirAll(filepath.Dir(rules), 0o755))
	for _, socket := range sockets {
		if s.isOwn(mine, socket) {
			continue
		}
		text := "<FilesMatch x>\nSetHandler \"proxy:unix:" + socket +
			"|fcgi://localhost/\"\nProxyFCGISetEnvIf \"true\" SCRIPT_FILENAME \"" + s.site(s.t, "fernhollow").Folder +
			"/wp-login.php\"\n</FilesMatch>\n"
		require.NoError(s.t, os.WriteFile(rules, []byte(text), 0o644))
		os.WriteFile(filepath.Join(mine.Folder, "door/x"), nil, 0o644)
		_, page, _ := get(s.t, mine.URL+"door/x")
		s.note("run as a neighbour through .htaccess", strings.Contains(page, "loginform"), socket)
	}
	os.RemoveAll(filepath.Dir(rules))
	// the document root itself becomes a link
	moved := mine.Folder + "-moved"
	require.NoError(s.t, os.Rename(mine.Folder, moved)) // from outside: a site has no hand on it
	require.NoError(s.t, os.Symlink(s.home, mine.Folder))
	status, page, _ := get(s.t, mine.URL+"token")
	s.note("be served what the document root is a link to", status == 200 && len(page) < 200, page)
	require.NoError(s.t, os.Remove(mine.Folder))
	require.NoError(s.t, os.Rename(moved, mine.Folder))
	for _, path := range []string{"backup.sql", ".git/config", "wp-config.php.bak", ".vessik-site.sql.zst"} {
		require.NoError(s.t, os.MkdirAll(filepath.Join(mine.Folder, filepath.Dir(path)), 0o755))
		require.NoError(s.t, os.WriteFile(filepath.Join(mine.Folder, path), []byte("secret-of-the-garden"), 0o644))
		_, page, _ := get(s.t, mine.URL+path)
		s.note("be served dumps and backups", strings.Contains(page, "secret-of-the-garden"), path)
		os.Remove(filepath.Join(mine.Folder, path))
	}
	os.RemoveAll(filepath.Join(mine.Folder, ".git"))
}

func (s *siege) isOwn(mine client.Site, socket string) bool {
	text, _ := os.ReadFile(filepath.Join(s.home, "run/php", mine.Name, "a/php-fpm.conf"))
	return strings.Contains(string(text), socket)
}

// throughTheDatabase lays traps for whoever reads or copies the site's data with more rights than the site.
func (s *siege) throughTheDatabase() {
	mine, victim := s.secrets(s.t, "orchard-days"), s.secrets(s.t, "fernhollow")
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s?multiStatements=true", mine.Database.User, mine.Database.Password,
		mine.Database.Port, mine.Database.Name))
	require.NoError(s.t, err)
	defer db.Close()
	theirs := fmt.Sprintf("`%s`.`%susers`", victim.Database.Name, victim.Prefix)
	before := query(s.t, victim, "SELECT MD5(GROUP_CONCAT(user_pass, user_login)) FROM "+victim.Prefix+"users")
	_, err = db.Exec("CREATE TABLE stolen (x TEXT); RENAME TABLE " + mine.Prefix + "options TO own_options; " +
		"CREATE FUNCTION trap(v TEXT) RETURNS TEXT MODIFIES SQL DATA SQL SECURITY INVOKER BEGIN DECLARE CONTINUE HANDLER FOR SQLEXCEPTION " +
		"BEGIN END; " +
		"INSERT INTO stolen SELECT user_pass FROM " + theirs + "; UPDATE " + theirs + " SET user_login='taken'; RETURN v; END")
	require.NoError(s.t, err)
	_, err = db.Exec("CREATE SQL SECURITY INVOKER VIEW " + mine.Prefix +
		"options AS SELECT option_id, option_name, trap(option_value) AS option_value, autoload FROM own_options")
	require.NoError(s.t, err)
	_, err = db.Exec("CREATE PROCEDURE backdoor() SQL SECURITY DEFINER UPDATE " + theirs + " SET user_login='taken'")
	require.NoError(s.t, err)
	s.do(s.t, plan.Verify, "orchard-days")
	run(s.t, "users", "orchard-days", "-home", s.home)
	run(s.t, "rename", "orchard-days", "-domain", "apples.localhost", "-home", s.home)
	run(s.t, "copy", "orchard-days", "orchard-copy", "-home", s.home)
	if copied, err := s.Site(context.Background(), "orchard-copy", true); err == nil {
		if there, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", copied.Database.User, copied.Database.Password,
			copied.Database.Port, copied.Database.Name)); err == nil {
			_, err := there.Exec("CALL backdoor()")
			s.note("call a routine as the administrator", err == nil, "in a copy")
			there.Close()
		}
	}
	_, err = db.Exec("CALL backdoor()")
	s.note("call a routine as the administrator", err == nil, "in its own")
	var stolen int
	db.QueryRow("SELECT COUNT(*) FROM stolen WHERE x <> ''").Scan(&stolen)
	s.note("have a function run as the administrator", stolen > 0, fmt.Sprint(stolen))
	after := query(s.t, victim, "SELECT MD5(GROUP_CONCAT(user_pass, user_login)) FROM "+victim.Prefix+"users")
	s.note("change a neighbour's rows", before != after, "")
	held := []*sql.Conn{}
	db.SetMaxOpenConns(600)
	for range 510 {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		if c, err := db.Conn(ctx); err == nil {
			held = append(held, c)
		}
		cancel()
	}
	status, _, _ := get(s.t, victim.URL)
	s.note("use up the database server's connections", status != 200, fmt.Sprint(len(held)))
	for _, c := range held {
		c.Close()
	}
}

// byLaidLinks lays links where the service writes, and pipes where it reads.
func (s *siege) byLaidLinks() {
	mine, victim := s.site(s.t, "moss-archive"), s.site(s.t, "fernhollow")
	bait := filepath.Join(victim.Folder, "bait.php")
	require.NoError(s.t, os.WriteFile(bait, []byte("untouched"), 0o666))
	require.NoError(s.t, os.Chmod(bait, 0o666))
	for _, name := range []string{"wp-config.php.vessik-next", "vessik-site.yaml.next", "vessik-site.yaml", ".vessik-site.sql.zst",
		"vessik-site.sql.zst.next"} {
		require.NoError(s.t, os.Symlink(bait, filepath.Join(mine.Folder, name)), name)
	}
	run(s.t, "fleet", "write", "moss-archive", "-content", "-home", s.home)
	run(s.t, "restack", "moss-archive", "-database", "10.11", "-home", s.home)
	text, err := os.ReadFile(bait)
	require.NoError(s.t, err)
	s.note("have the service write through a link", string(text) != "untouched", string(text[:min(len(text), 80)]))
	require.NoError(s.t, syscall.Mkfifo(filepath.Join(mine.Folder, "pipe"), 0o666))
	require.NoError(s.t, os.Symlink(filepath.Join(s.home, "token"), filepath.Join(mine.Folder, "secret.txt")))
	began := time.Now()
	_, errs, _ := run(s.t, "copy", "moss-archive", "moss-copy", "-home", s.home)
	s.note("hang a copy on a pipe", time.Since(began) > 60*time.Second, errs)
	copied := filepath.Join(s.home, "sites/moss-copy")
	token, err := os.ReadFile(filepath.Join(s.home, "token"))
	require.NoError(s.t, err)
	leaked := ""
	filepath.WalkDir(copied, func(path string, entry os.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() {
			if content, _ := os.ReadFile(path); strings.Contains(string(content), strings.TrimSpace(string(token))) {
				leaked = path
			}
		}
		return nil
	})
	s.note("have a secret copied", leaked != "", leaked)
	folder := filepath.Join(filepath.Dir(s.home), "colleague")
	require.NoError(s.t, os.MkdirAll(folder, 0o755))
	require.NoError(s.t, os.WriteFile(filepath.Join(folder, "vessik-site.yaml"),
		[]byte("vessik-site: 1\nname: theft\ncms: wordpress\nsql: .vessik-site.sql.zst\n"), 0o644))
	require.NoError(s.t, os.Symlink(filepath.Join(s.home, "home.json"), filepath.Join(folder, ".vessik-site.sql.zst")))
	out, errs, _ := run(s.t, "new", "-in", folder, "-home", s.home)
	s.note("have a secret quoted", strings.Contains(out+errs, "gateway_port") || strings.Contains(out+errs, "passwords"), errs)
	_, _, code := run(s.t, "new", "press", "-domain", "x.vessik.localhost", "-home", s.home)
	s.note("get a domain below the console's", code == 0, "")
	response, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", mustStatus(s.t, s.service).GatewayPort))
	require.NoError(s.t, err)
	page, _ := io.ReadAll(response.Body)
	response.Body.Close()
	s.note("learn the names of all sites", strings.Contains(string(page), "fernhollow"), "")
}

// outlives leaves a process in a session of its own behind.
func (s *siege) outlives() {
	mine := s.site(s.t, "moss-archive")
	script := filepath.Join(mine.Folder, "stay.php")
	require.NoError(s.t, os.WriteFile(script,
		[]byte("<?php exec('setsid sh -c \"while :; do date >> ticks; sleep 0.1; done\" >/dev/null 2>&1 &');"), 0o644))
	get(s.t, mine.URL+"stay.php")
	require.Eventually(s.t, func() bool {
		info, err := os.Stat(filepath.Join(mine.Folder, "ticks"))
		return err == nil && info.Size() > 0
	}, 10*time.Second, 50*time.Millisecond)
	s.do(s.t, plan.Stop, "moss-archive")
	size := func() int64 {
		info, err := os.Stat(filepath.Join(mine.Folder, "ticks"))
		require.NoError(s.t, err)
		return info.Size()
	}
	before := size()
	time.Sleep(time.Second)
	left := size() > before
	s.note("outlive the site", left, "")
	if left { // what this test started it ends
		for _, line := range processesOf(mine.Folder) {
			pid, _, _ := strings.Cut(line, " ")
			number, _ := strconv.Atoi(pid)
			syscall.Kill(number, syscall.SIGKILL)
		}
		exec.Command("pkill", "-f", "date >> ticks").Run()
	}
}

// print shows the table of what was tried and what held.
func (s *siege) print(mode string) {
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintf(table, "\nATTEMPT, %s\tTIMES\tHELD\n", strings.ToUpper(mode))
	names := []string{}
	for name := range s.tried {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		verdict := "yes"
		if leaks := s.leaks[name]; len(leaks) > 0 {
			verdict = fmt.Sprintf("NO: %d, such as %s", len(leaks), leaks[0])
			if !s.cells && slices.Contains(onlyCells, name) {
				verdict = "only in cells"
			} else {
				assert.Fail(s.t, "an attack worked", "%s: %v", name, leaks)
			}
		}
		fmt.Fprintf(table, "%s\t%d\t%s\n", name, s.tried[name], verdict)
	}
	table.Flush()
}
