package test

import (
	"bytes"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vessik/internal/engine"
)

// floor is the plain script that a benchmark compares with: no records, no journal, no cells, no privacy checks; one database server, one
// nginx and one FPM master with a pool a site, in files of its own. It knows the engines and a prepared WordPress, and nothing else of
// Vessik.
type floor struct {
	b                   *testing.B
	dir                 string
	php, nginx, mariadb string
	tree                string // a prepared WordPress
	image               []byte // of its database
	db                  *sql.DB
	web                 *exec.Cmd
}

const (
	floorPort = 23000 // of the first site
	floorDB   = 22999
	proxyPort = 22998
)

// newFloor has running what the service has running before it is asked: a database server and a web server.
func newFloor(b *testing.B, dir, engines string) *floor {
	f := &floor{b: b, dir: dir, php: engines + "/php-8.4/root", nginx: engines + "/nginx-1.26/root", mariadb: engines + "/mariadb-11.8/root"}
	require.NoError(b, os.MkdirAll(filepath.Join(dir, "data"), 0o755))
	prepared, err := filepath.Glob(filepath.Join(engines, "shelf/wordpress-6.8*"))
	require.NoError(b, err)
	require.NotEmpty(b, prepared)
	f.tree = filepath.Join(prepared[0], "tree")
	f.image, err = os.ReadFile(filepath.Join(prepared[0], "image.sql"))
	require.NoError(b, err)
	f.startDatabase()
	f.write("nginx.conf",
		fmt.Sprintf("daemon off;\n%sworker_processes 2;\npid %[2]s/pid;\nerror_log %[2]s/log;\nevents {}\nhttp {\ninclude "+
			"%[3]s/etc/nginx/mime.types;\naccess_log off;\n%[4]sinclude %[2]s/*.site;\n}\n",
			asRoot("user root root;\n"), dir, f.nginx, tempPaths(dir)))
	f.web = exec.Command(filepath.Join(f.nginx, "usr/sbin/nginx"), "-e", filepath.Join(dir, "log"), "-p", dir, "-c", filepath.Join(dir,
		"nginx.conf"))
	require.NoError(b, f.web.Start())
	b.Cleanup(func() { f.web.Process.Signal(syscall.SIGTERM); f.web.Wait() })
	return f
}

func asRoot(text string) string {
	if os.Geteuid() != 0 {
		return ""
	}
	return text
}

func tempPaths(dir string) string {
	text := ""
	for _, kind := range []string{"client_body", "fastcgi", "proxy", "uwsgi", "scgi"} {
		text += fmt.Sprintf("%s_temp_path %s/%s;\n", kind, dir, kind)
	}
	return text
}

func (f *floor) write(name, text string) {
	must(f.b, os.WriteFile(filepath.Join(f.dir, name), []byte(text), 0o644))
}

func (f *floor) startDatabase() {
	tables, _ := filepath.Glob(filepath.Join(f.mariadb, "usr/share/m*/m*_system_tables.sql")) // of mysql, or of mariadb
	require.NotEmpty(f.b, tables)
	share := filepath.Dir(tables[0])
	flags := []string{"--no-defaults", "--basedir=" + filepath.Join(f.mariadb, "usr"), "--datadir=" + filepath.Join(f.dir, "data"),
		"--lc-messages-dir=" + share, "--character-sets-dir=" + share + "/charsets",
		"--innodb-buffer-pool-size=128M", "--innodb-flush-log-at-trx-commit=2", "--skip-name-resolve", "--tmpdir=" + f.dir,
		"--max-allowed-packet=64M"}
	if os.Geteuid() == 0 {
		flags = append(flags, "--user=root")
	}
	script := []byte("CREATE DATABASE mysql;\nUSE mysql;\n")
	for _, name := range []string{"mariadb_system_tables.sql", "mariadb_system_tables_data.sql"} {
		found, _ := filepath.Glob(filepath.Join(share, strings.Replace(name, "mariadb", "m*", 1)))
		require.NotEmpty(f.b, found, name)
		text, err := os.ReadFile(found[0])
		require.NoError(f.b, err)
		script = append(script, text...)
	}
	program := filepath.Join(f.mariadb, "usr/sbin/mariadbd")
	bootstrap := exec.Command(program, append(slices.Clone(flags), "--bootstrap")...)
	bootstrap.Stdin = bytes.NewReader(script)
	out, err := bootstrap.CombinedOutput()
	require.NoError(f.b, err, string(out))
	socket := filepath.Join(f.dir, "db.sock")
	server := exec.Command(program, append(flags, "--skip-grant-tables", "--socket="+socket, "--bind-address=127.0.0.1",
		"--skip-networking=0", fmt.Sprintf("--port=%d", floorDB))...)
	require.NoError(f.b, server.Start())
	f.b.Cleanup(func() { server.Process.Signal(syscall.SIGTERM); server.Wait() })
	f.db, err = sql.Open("mysql", "root@unix("+socket+")/?multiStatements=true")
	require.NoError(f.b, err)
	f.b.Cleanup(func() { f.db.Close() })
	require.Eventually(f.b, func() bool { return f.db.Ping() == nil }, 20*time.Second, 10*time.Millisecond)
}

const floorSite = `server {
	listen 127.0.0.1:%[1]d;
	server_name 127.0.0.1;
	root %[2]s;
	index index.php index.html;
	location / { try_files $uri $uri/ /index.php?$args; }
	location ~ \.php$ {
		fastcgi_param QUERY_STRING $query_string;
		fastcgi_param REQUEST_METHOD $request_method;
		fastcgi_param CONTENT_TYPE $content_type;
		fastcgi_param CONTENT_LENGTH $content_length;
		fastcgi_param SCRIPT_NAME $fastcgi_script_name;
		fastcgi_param REQUEST_URI $request_uri;
		fastcgi_param DOCUMENT_ROOT $document_root;
		fastcgi_param SERVER_PROTOCOL $server_protocol;
		fastcgi_param REMOTE_ADDR $remote_addr;
		fastcgi_param SERVER_PORT $server_port;
		fastcgi_param SERVER_NAME $server_name;
		fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
		fastcgi_pass unix:%[3]s;
	}
}
`

// run makes sites: a copied tree, a loaded database, a configuration; then FPM, one reload, and each front page, sign-in and dashboard.
func (f *floor) run(count int) {
	var group sync.WaitGroup
	slots := make(chan struct{}, 4)
	for i := range count {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			f.layOut(i)
		})
	}
	group.Wait()
	fpm := f.startFPM(count)
	defer func() { fpm.Process.Signal(syscall.SIGTERM); fpm.Wait() }()
	must(f.b, f.web.Process.Signal(syscall.SIGHUP))
	for i := range count {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			f.visit(fmt.Sprintf("http://127.0.0.1:%d/", floorPort+i))
		})
	}
	group.Wait()
}

func (f *floor) layOut(i int) {
	name, folder := fmt.Sprintf("floor_%d", i), filepath.Join(f.dir, strconv.Itoa(i))
	must(f.b, exec.Command("cp", "-r", f.tree, folder).Run())
	loaded := strings.ReplaceAll(string(f.image), "http://prepared.vessik.invalid", fmt.Sprintf("http://127.0.0.1:%d",
		floorPort+i)) // the script trusts that no length changes
	_, err := f.db.Exec("CREATE DATABASE " + name + "; USE " + name + ";\n" + loaded +
		"UPDATE wp_users SET user_pass=MD5('floor-password') WHERE ID=1")
	must(f.b, err)
	f.write(strconv.Itoa(i)+"/wp-config.php",
		fmt.Sprintf("<?php\ndefine('DB_NAME','%[1]s');define('DB_USER','floor');define('DB_PASSWORD','floor');"+
			"define('DB_HOST','127.0.0.1:%[2]d');define('DB_CHARSET','utf8mb4');"+
			"define('DB_COLLATE','');define('AUTH_KEY','%[3]d');\n$table_prefix='wp_';\nif(!defined('ABSPATH'))define('ABSPATH',__DIR__.'/');\n"+
			"require_once ABSPATH.'wp-settings.php';\n", name, floorDB, i))
	f.write(strconv.Itoa(i)+".site", fmt.Sprintf(floorSite, floorPort+i, folder, folder+".sock"))
}

func (f *floor) startFPM(count int) *exec.Cmd {
	found, _ := filepath.Glob(filepath.Join(f.php, "usr/lib/php/2*/*.so"))
	ini := "extension_dir=" + filepath.Dir(found[0]) +
		"\nzend_extension=opcache\nextension=mysqlnd\nextension=mysqli\nextension=pdo\nextension=xml\nextension=dom\n"
	for _, name := range []string{"curl", "gd", "mbstring", "intl", "zip", "exif", "fileinfo", "iconv", "ctype", "tokenizer", "simplexml",
		"xmlreader", "posix", "phar", "ftp", "sockets"} {
		if slices.ContainsFunc(found, func(path string) bool { return filepath.Base(path) == name+".so" }) {
			ini += "extension=" + name + "\n"
		}
	}
	f.write("php.ini", ini+"memory_limit=256M\nopcache.memory_consumption=128\n")
	pools := fmt.Sprintf("[global]\nerror_log=%s/fpm.log\ndaemonize=no\n", f.dir)
	for i := range count {
		pools += fmt.Sprintf("[s%d]\nlisten=%s/%d.sock\nlisten.mode=0666\n%spm=ondemand\npm.max_children=12\n", i, f.dir, i,
			asRoot("user=root\ngroup=root\n"))
	}
	f.write("fpm.conf", pools)
	fpm := exec.Command(filepath.Join(f.php, "usr/sbin/php-fpm8.4"), "-R", "-c", filepath.Join(f.dir, "php.ini"), "--fpm-config",
		filepath.Join(f.dir, "fpm.conf"))
	fpm.Env = append(os.Environ(), "PHP_INI_SCAN_DIR=")
	must(f.b, fpm.Start())
	return fpm
}

// clear removes what run has made.
func (f *floor) clear(count int) {
	for i := range count {
		os.Remove(filepath.Join(f.dir, strconv.Itoa(i)+".site"))
		os.RemoveAll(filepath.Join(f.dir, strconv.Itoa(i)))
		f.db.Exec(fmt.Sprintf("DROP DATABASE floor_%d", i))
	}
}

func (f *floor) visit(base string) {
	jar, _ := cookiejar.New(nil)
	browser := &http.Client{Jar: jar, Transport: &http.Transport{}}
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
	answer, err := browser.PostForm(base+"wp-login.php", url.Values{"log": {"vessik-administrator"}, "pwd": {"floor-password"},
		"testcookie": {"1"}})
	must(f.b, err)
	text, _ := io.ReadAll(answer.Body)
	answer.Body.Close()
	if !strings.Contains(string(text), "wpadminbar") {
		must(f.b, fmt.Errorf("no dashboard at %s", answer.Request.URL))
	}
}

// proxy starts an nginx that hands requests on to a port, as the gateway does.
func proxy(b *testing.B, engines string, port int) { proxyWith(b, engines, port, "") }

// proxyWith listens with further words, such as those of TLS.
func proxyWith(b *testing.B, engines string, port int, words string) {
	dir := inMemory(b)
	nginx := engines + "/nginx-1.26/root"
	text := fmt.Sprintf("daemon off;\n%sworker_processes 2;\npid %[2]s/pid;\nerror_log %[2]s/log;\nevents {}\nhttp {\naccess_log off;\n"+
		"%[3]supstream site { server 127.0.0.1:%[4]d; keepalive 16; }\n"+
		"server { listen 127.0.0.1:%[5]d%[6]s; location / { proxy_pass http://site; proxy_http_version 1.1; proxy_set_header Connection \"\"; "+
		"proxy_set_header Host $http_host; } }\n}\n", asRoot("user root root;\n"), dir, tempPaths(dir), port, proxyPort, words)
	must(b, os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(text), 0o644))
	web := exec.Command(filepath.Join(nginx, "usr/sbin/nginx"), "-e", filepath.Join(dir, "log"), "-p", dir, "-c", filepath.Join(dir,
		"nginx.conf"))
	require.Empty(b, engine.PortHolder(proxyPort), "the port of the nginx to compare with")
	must(b, web.Start())
	b.Cleanup(func() { web.Process.Signal(syscall.SIGTERM); web.Wait() })
	require.Eventually(b, func() bool { return engine.Listens(proxyPort) }, 10*time.Second, 10*time.Millisecond)
}

// must ends the calling goroutine, whichever it is; what the benchmark has started is still ended in order.
func must(b *testing.B, err error) {
	if err != nil {
		b.Errorf("floor: %v", err)
		runtime.Goexit()
	}
}
