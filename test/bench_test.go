package test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/wire"
)

// BenchmarkFleet compares the time from a request to sites that are proven with the floor: what a plain script needs on the same
// engines to copy a tree, create and load a database, reload once, ask each front page, sign in, and see the dashboard.
func BenchmarkFleet(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.newSites(b, "warm-up"))
	model := s.site(b, "warm-up")
	for _, count := range []int{1, 10, 30} {
		b.Run(fmt.Sprintf("sites=%d", count), func(b *testing.B) {
			for b.Loop() {
				names := []string{}
				for i := range count {
					names = append(names, fmt.Sprintf("garden-%d-%d", count, i))
				}
				began := time.Now()
				watched := s.newSites(b, names...)
				ours := time.Since(began)
				requirePassed(b, watched)
				operation, err := s.Do(context.Background(), plan.Retire, wire.Names{Names: names})
				require.NoError(b, err)
				began = time.Now()
				s.watch(b, operation)
				retired := time.Since(began)
				script := &floor{b: b, service: s, model: model, count: count}
				floor := script.run()
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(ours.Seconds(), "s")
				b.ReportMetric(floor.Seconds(), "floor-s")
				b.ReportMetric(ours.Seconds()/floor.Seconds(), "ratio")
				b.ReportMetric(retired.Seconds(), "retire-s")
			}
		})
	}
}

// floor is the plain script: no records, no journal, no confinement, no privacy checks; one nginx, one FPM master with a pool a site.
type floor struct {
	b       *testing.B
	service *service
	model   client.Site
	count   int
}

func (f *floor) run() time.Duration {
	dir, err := os.MkdirTemp(scratch, "floor")
	require.NoError(f.b, err)
	require.NoError(f.b, os.Chmod(dir, 0o777))
	engines := mustStatus(f.b, f.service).EngineStore
	php, nginx := filepath.Join(engines, "php-8.2/root"), filepath.Join(engines, "nginx-1.22/root")
	// What the service has running before it is asked stands ready here, too: a database server (the service's own), a web server, a
	// prepared image.
	settings, err := os.ReadFile(filepath.Join(f.service.home, "home.json"))
	require.NoError(f.b, err)
	password := between(string(settings), `"mariadb-10.11": "`, `"`)
	socket := filepath.Join(f.service.home, "run/mariadb-10.11/db.sock")
	db, err := sql.Open("mysql", "root:"+password+"@unix("+socket+")/?multiStatements=true")
	require.NoError(f.b, err)
	defer db.Close()
	shelf, err := filepath.Glob(filepath.Join(engines, "shelf/wordpress-*"))
	require.NoError(f.b, err)
	image, err := os.ReadFile(filepath.Join(shelf[0], "image.sql"))
	require.NoError(f.b, err)
	ini, err := os.ReadFile(filepath.Join(f.service.home, "run/php/warm-up/a/php.ini"))
	require.NoError(f.b, err)
	iniText := strings.ReplaceAll(string(ini), filepath.Join(f.service.home, "tmp/warm-up"), dir)
	require.NoError(f.b, os.WriteFile(filepath.Join(dir, "php.ini"), []byte(iniText), 0o644))
	hostText, err := os.ReadFile(filepath.Join(f.service.home, "run/nginx-1.22/hosts/warm-up.conf"))
	require.NoError(f.b, err)
	port := func(i int) int { return 23000 + i }
	main := fmt.Sprintf("daemon off;\nuser root root;\nworker_processes 2;\npid %s/pid;\nerror_log %s/log;\nevents {}\nhttp {\ninclude %s/etc/nginx/mime.types;\nclient_body_temp_path %s/b;\nfastcgi_temp_path %s/f;\nproxy_temp_path %s/p;\nuwsgi_temp_path %s/u;\nscgi_temp_path %s/s;\ninclude %s/*.site;\n}\n", dir, dir, nginx, dir, dir, dir, dir, dir, dir)
	if os.Geteuid() != 0 {
		main = strings.Replace(main, "user root root;\n", "", 1)
	}
	require.NoError(f.b, os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(main), 0o644))
	web := exec.Command(filepath.Join(nginx, "usr/sbin/nginx"), "-e", filepath.Join(dir, "log"), "-p", dir, "-c", filepath.Join(dir, "nginx.conf"))
	require.NoError(f.b, web.Start())
	defer func() { web.Process.Signal(syscall.SIGTERM); web.Wait() }()

	began := time.Now()
	var group sync.WaitGroup
	slots := make(chan struct{}, 4)
	for i := range f.count {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			name, folder := fmt.Sprintf("floor_%d_%d", f.count, i), filepath.Join(dir, strconv.Itoa(i))
			must(f.b, exec.Command("cp", "-r", filepath.Join(shelf[0], "tree"), folder).Run())
			base := fmt.Sprintf("http://127.0.0.1:%d", port(i))
			loaded := strings.ReplaceAll(string(image), "http://prepared.vessik.invalid", base) // the script trusts that no length changes
			_, err := db.Exec("CREATE DATABASE " + name + "; USE " + name + ";\n" + loaded + "UPDATE wp_users SET user_pass=MD5('floor-password') WHERE ID=1")
			must(f.b, err)
			_, err = db.Exec("GRANT ALL ON " + name + ".* TO '" + name + "'@'127.0.0.1' IDENTIFIED BY 'floor'")
			must(f.b, err)
			configuration := fmt.Sprintf("<?php\ndefine('DB_NAME','%s');define('DB_USER','%s');define('DB_PASSWORD','floor');define('DB_HOST','127.0.0.1:%d');define('DB_CHARSET','utf8mb4');define('DB_COLLATE','');define('AUTH_KEY','%d');\n$table_prefix='wp_';\nif(!defined('ABSPATH'))define('ABSPATH',__DIR__.'/');\nrequire_once ABSPATH.'wp-settings.php';\n", name, name, f.model.Database.Port, i)
			must(f.b, os.WriteFile(filepath.Join(folder, "wp-config.php"), []byte(configuration), 0o644))
			host := strings.NewReplacer("127.0.0.1:"+strconv.Itoa(f.model.Port), "127.0.0.1:"+strconv.Itoa(port(i)), f.model.Domain, "127.0.0.1", f.model.Folder, folder,
				socketOf(string(hostText)), filepath.Join(dir, strconv.Itoa(i)+".sock"), filepath.Join(f.service.home, "logs/sites/warm-up"), dir).Replace(string(hostText))
			must(f.b, os.WriteFile(filepath.Join(dir, strconv.Itoa(i)+".site"), []byte(host), 0o644))
		})
	}
	group.Wait()
	pools := fmt.Sprintf("[global]\nerror_log=%s/fpm.log\ndaemonize=no\n", dir)
	for i := range f.count {
		pools += fmt.Sprintf("[s%d]\nlisten=%s/%d.sock\nlisten.mode=0666\nuser=root\ngroup=root\npm=ondemand\npm.max_children=12\n", i, dir, i)
	}
	must(f.b, os.WriteFile(filepath.Join(dir, "fpm.conf"), []byte(pools), 0o644))
	fpm := exec.Command(filepath.Join(php, "usr/sbin/php-fpm8.2"), "-R", "-c", filepath.Join(dir, "php.ini"), "--fpm-config", filepath.Join(dir, "fpm.conf"))
	fpm.Env = append(os.Environ(), "PHP_INI_SCAN_DIR=")
	must(f.b, fpm.Start())
	defer func() { fpm.Process.Signal(syscall.SIGTERM); fpm.Wait() }()
	must(f.b, exec.Command(filepath.Join(nginx, "usr/sbin/nginx"), "-e", filepath.Join(dir, "log"), "-p", dir, "-c", filepath.Join(dir, "nginx.conf"), "-s", "reload").Run())
	for i := range f.count {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			f.visit(fmt.Sprintf("http://127.0.0.1:%d/", port(i)))
		})
	}
	group.Wait()
	took := time.Since(began)
	for i := range f.count {
		name := fmt.Sprintf("floor_%d_%d", f.count, i)
		db.Exec("DROP DATABASE " + name + "; DROP USER '" + name + "'@'127.0.0.1'")
	}
	return took
}

func (f *floor) visit(base string) {
	jar, _ := cookiejar.New(nil)
	browser := &http.Client{Jar: jar}
	var front *http.Response
	var err error
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(3 * time.Millisecond) {
		if front, err = browser.Get(base); err == nil && front.StatusCode != http.StatusBadGateway { // FPM has just been started
			break
		}
	}
	must(f.b, err)
	page, _ := io.ReadAll(front.Body)
	front.Body.Close()
	if front.StatusCode != 200 {
		must(f.b, fmt.Errorf("the front page answers %s: %s", front.Status, page))
	}
	form, err := browser.Get(base + "wp-login.php")
	must(f.b, err)
	form.Body.Close()
	answer, err := browser.PostForm(base+"wp-login.php", url.Values{"log": {"vessik-administrator"}, "pwd": {"floor-password"}, "testcookie": {"1"}})
	must(f.b, err)
	text, _ := io.ReadAll(answer.Body)
	answer.Body.Close()
	if !strings.Contains(string(text), "wpadminbar") {
		must(f.b, fmt.Errorf("no dashboard at %s", answer.Request.URL))
	}
}

// must ends the calling goroutine, whichever it is; what the benchmark has started is still ended in order.
func must(b *testing.B, err error) {
	if err != nil {
		b.Errorf("floor: %v", err)
		runtime.Goexit()
	}
}

func socketOf(host string) string { return between(host, `fastcgi_pass "unix:`, `"`) }

func between(text, before, after string) string {
	_, text, _ = strings.Cut(text, before)
	text, _, _ = strings.Cut(text, after)
	return text
}

// BenchmarkGateway compares a style sheet through the gateway with the same one from the site's own port: requests a second with
// eight connections, and the latency of one.
func BenchmarkGateway(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.newSites(b, "fernhollow"))
	site := s.site(b, "fernhollow")
	const path = "wp-includes/css/buttons.min.css"
	host := strings.TrimSuffix(strings.TrimPrefix(site.URL, "http://"), "/")
	through := fmt.Sprintf("http://127.0.0.1:%d/%s", mustStatus(b, s).GatewayPort, path)
	direct := fmt.Sprintf("http://127.0.0.1:%d/%s", site.Port, path)
	for b.Loop() {
		rateDirect, latencyDirect := load(b, direct, host)
		rateThrough, latencyThrough := load(b, through, host)
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(rateThrough, "gateway-req/s")
		b.ReportMetric(rateDirect, "own-port-req/s")
		b.ReportMetric(rateThrough/rateDirect, "rate-ratio")
		b.ReportMetric(float64((latencyThrough - latencyDirect).Microseconds()), "added-µs")
	}
}

func load(b *testing.B, address, host string) (perSecond float64, latency time.Duration) {
	ask := func(client *http.Client) {
		request, err := http.NewRequest("GET", address, nil)
		must(b, err)
		request.Host = host
		response, err := client.Do(request)
		must(b, err)
		if response.StatusCode != 200 {
			must(b, errors.New(response.Status))
		}
		io.Copy(io.Discard, bufio.NewReader(response.Body))
		response.Body.Close()
	}
	one := &http.Client{Transport: &http.Transport{}}
	ask(one)
	began := time.Now()
	for range 500 {
		ask(one)
	}
	latency = time.Since(began) / 500
	var count atomic.Int64
	var group sync.WaitGroup
	began = time.Now()
	for range 8 {
		group.Go(func() {
			client := &http.Client{Transport: &http.Transport{}}
			for time.Since(began) < 2*time.Second {
				ask(client)
				count.Add(1)
			}
		})
	}
	group.Wait()
	return float64(count.Load()) / time.Since(began).Seconds(), latency
}

// BenchmarkStencil compares a site drawn from a stencil of 500 MB with tar and mariadb doing the same: unpacking the files from a plain
// archive, and loading the dump. The site's time ends when it is proven.
func BenchmarkStencil(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days"}))
	site := s.secrets(b, "orchard-days")
	uploads := filepath.Join(site.Folder, "wp-content/uploads")
	must(b, os.MkdirAll(uploads, 0o755))
	random := rand.New(rand.NewPCG(1, 2))
	picture := make([]byte, 200<<10)
	for i := range 2000 {
		for j := 0; j < len(picture); j += 8 {
			binary.LittleEndian.PutUint64(picture[j:], random.Uint64())
		}
		must(b, os.WriteFile(filepath.Join(uploads, fmt.Sprintf("picture-%d.jpg", i)), picture, 0o644))
	}
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", site.Database.User, site.Database.Password, site.Database.Port, site.Database.Name))
	require.NoError(b, err)
	defer db.Close()
	text := strings.Repeat(`<p>Forty-one sorts on one long table, see <a href="`+site.URL+`apples/">apples</a>.</p>`, 50)
	for range 100 {
		_, err := db.Exec("INSERT INTO " + site.Prefix + "posts (post_title, post_content, post_excerpt, to_ping, pinged, post_content_filtered, post_status) VALUES " +
			strings.TrimSuffix(strings.Repeat("('apple', '"+text+"', '', '', '', '', 'draft'),", 250), ","))
		must(b, err)
	}
	s.watchCLI(b, "stencil", "save", "orchard-days", "orchard-all")
	dir := filepath.Dir(newHome(b))
	must(b, exec.Command("tar", "-cf", filepath.Join(dir, "files.tar"), "-C", site.Folder, ".").Run())
	environment, err := s.Environment(context.Background(), "orchard-days")
	require.NoError(b, err)
	dump := filepath.Join(dir, "dump.sql")
	script := "cd " + site.Folder + ` && php -r '$d = new PDO("mysql:host=127.0.0.1;port=` + strconv.Itoa(site.Database.Port) + `;dbname=` + site.Database.Name + `", "` + site.Database.User + `", "` + site.Database.Password + `");
foreach ($d->query("SHOW TABLES")->fetchAll(PDO::FETCH_COLUMN) as $t) { echo $d->query("SHOW CREATE TABLE \x60$t\x60")->fetch(PDO::FETCH_NUM)[1], ";\n"; foreach (array_chunk($d->query("SELECT * FROM \x60$t\x60")->fetchAll(PDO::FETCH_NUM), 200) as $rows) echo "INSERT INTO \x60$t\x60 VALUES ", implode(",", array_map(fn($r) => "(" . implode(",", array_map(fn($v) => $v === null ? "NULL" : $d->quote($v), $r)) . ")", $rows)), ";\n"; }'`
	out, errs, code := run(b, "run", "orchard-days", "-home", s.home, "--", "sh", "-c", script)
	require.Zero(b, code, errs)
	must(b, os.WriteFile(dump, []byte(out), 0o644))
	b.Run("draw", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			began := time.Now()
			requirePassed(b, s.made(b, client.Request{Name: fmt.Sprintf("drawn-%d", i), Stencil: "orchard-all"}))
			ours := time.Since(began)
			requirePassed(b, s.made(b, client.Request{Name: fmt.Sprintf("floor-%d", i), Kit: "empty"}))
			floor := s.secrets(b, fmt.Sprintf("floor-%d", i))
			began = time.Now()
			must(b, exec.Command("tar", "-xf", filepath.Join(dir, "files.tar"), "-C", dir).Run())
			load := exec.Command(filepath.Join(environment.Path, "mariadb"), "-h127.0.0.1", "-P"+strconv.Itoa(floor.Database.Port), "-u"+floor.Database.User, "-p"+floor.Database.Password, floor.Database.Name)
			file, err := os.Open(dump)
			require.NoError(b, err)
			load.Stdin = file
			text, err := load.CombinedOutput()
			require.NoError(b, err, string(text))
			file.Close()
			script := time.Since(began)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(ours.Seconds(), "s")
			b.ReportMetric(script.Seconds(), "floor-s")
			b.ReportMetric(ours.Seconds()/script.Seconds(), "ratio")
		}
	})
	b.Run("rewrite", func(b *testing.B) { // the same address by sed, which knows nothing of lengths
		for b.Loop() {
			began := time.Now()
			command := exec.Command("sed", "s~"+strings.TrimSuffix(site.URL, "/")+"~http://cider-days.localhost~g", dump)
			to, err := os.Create(filepath.Join(dir, "sed.sql"))
			require.NoError(b, err)
			command.Stdout = to
			must(b, command.Run())
			sed := time.Since(began)
			from, err := os.Open(dump)
			require.NoError(b, err)
			began = time.Now()
			must(b, rewrite.New(strings.TrimSuffix(site.URL, "/"), "http://cider-days.localhost").Dump(bufio.NewWriterSize(to, 1<<20), from))
			ours := time.Since(began)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(len(out))/(1<<20)/ours.Seconds(), "MB/s")
			b.ReportMetric(float64(len(out))/(1<<20)/sed.Seconds(), "sed-MB/s")
			b.ReportMetric(ours.Seconds()/sed.Seconds(), "ratio")
		}
	})
}
