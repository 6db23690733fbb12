// Package render writes the configuration text of the engines: nginx, Apache, PHP-FPM, php.ini, MariaDB, and the PHP that runs before a
// site's own. Text in, text out.
package render

import (
	"cmp"
	"embed"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/template"
	"time"
	"unicode"

	"vessik/internal/core/phperrors"
	"vessik/internal/core/site"
)

//go:embed templates
var files embed.FS

var templates = template.Must(template.New("").Funcs(template.FuncMap{"unserved": func() string { return Unserved }, "quoted": Quoted,
	"php": PHPQuoted, "line": OneLine}).ParseFS(files, "templates/*"))

// Quoted is a text as it stands inside double quotes in the configuration of nginx, Apache, PHP-FPM, php.ini and MariaDB: quotes and
// backslashes are escaped; what none of them can have there, a line's end or the sign of a variable, is left out.
func Quoted(text string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", "").Replace(OneLine(text))
}

// PHPQuoted is a text as it stands inside single quotes in PHP.
func PHPQuoted(text string) string { return strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(text) }

// OneLine is a text for a comment or a bare word: without control characters.
func OneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, text)
}

// Unserved is a pattern of addresses that no web server serves: dumps, backups, and what editors and Vessik itself lay beside files.
const Unserved = `(\.(sql|dump|bak|backup|orig|save|swp|sqlite3?)(\.(gz|bz2|xz|zst|zip))?|~|/vessik-site\.[^/]*|/debug\.log|/error_log)$`

func render(name string, values any) string {
	var out strings.Builder
	if err := templates.ExecuteTemplate(&out, name, values); err != nil {
		panic(err) // a template that does not fit its struct: found by the package's test
	}
	return out.String()
}

// Nginx is the configuration of one nginx that serves one site.
type Nginx struct {
	Types string // the engine's list of media types
	Dir   string // for the pid and temporary files
	Host  string // the file of the virtual host
	Log   string
}

func (n Nginx) String() string { return render("nginx.conf", n) }

// Host is one site's virtual host.
type Host struct {
	Site            site.Site
	Socket          string   // of the site's PHP
	Logs            string   // the site's log folder
	BaseURL         string   // without a trailing slash, for requests that name another host
	PublicPort      int      // the gateway's
	UploadLimit     int64    // bytes
	ReadTimeout     int      // seconds that PHP may take
	FrontController string   // what answers for addresses that are no file, e.g. /index.php?$args
	Fallback        bool     // Apache falls back to the front controller; else the site's .htaccess says so
	NoPHP           []string // address prefixes below which PHP is never run
	Private         []string // address prefixes that are never served
	Shared          string   // pattern of addresses that are the same below every sub-folder of a network; empty for none
	Directories     []string // addresses that want a slash at their end there
	InCell          bool     // there is nothing that a document root could be turned into a link to, so it is not looked at for each request
}

// Nginx is the virtual host as nginx reads it, Apache as Apache does.
func (h Host) Nginx() string  { return render("nginx-site.conf", h) }
func (h Host) Apache() string { return render("apache-site.conf", h) }

// Above is the folder that the document root lies in: links are looked for from there on, so that the root itself is none.
func (h Host) Above() string { return filepath.Dir(h.Site.DocumentRoot()) }

// Front is the front controller with its query, as nginx falls back to; =404 where there is none.
func (h Host) Front() string { return cmp.Or(h.FrontController, "=404") }

// FrontScript is the front controller without its query.
func (h Host) FrontScript() string { path, _, _ := strings.Cut(h.FrontController, "?"); return path }

// DomainPattern is a regular expression of all host names that the site answers for.
func (h Host) DomainPattern() string {
	names := []string{}
	for _, name := range h.Site.Hosts() {
		names = append(names, regexp.QuoteMeta(name))
	}
	if h.Site.Network == site.NetworkDomains {
		names = append(names, `([a-z0-9-]+\.)+`+regexp.QuoteMeta(h.Site.Domain))
	}
	return strings.Join(names, "|")
}

// Names are those host names as nginx lists them.
func (h Host) Names() string {
	names := h.Site.Hosts()
	if h.Site.Network == site.NetworkDomains {
		names = append(names, "*."+h.Site.Domain)
	}
	return strings.Join(names, " ")
}

// Apache is the configuration of one Apache that serves one site.
type Apache struct {
	Modules string // folder of its modules
	Types   string // its list of media types
	Dir     string // for the pid and temporary files
	Port    int    // the site's, which the service holds
	Log     string
	Load    []string // names of the modules to load
	Host    string   // the file of the virtual host
}

func (a Apache) String() string { return render("apache.conf", a) }

// PHP is what one site's FPM master and its php.ini need.
type PHP struct {
	Site         site.Site
	Dir          string // the site's generated files: read only to the site
	Temp         string
	Logs         string
	Socket       string
	ProbeFile    string
	Trusted      string // certificates of the authorities that the site trusts; empty for the machine's
	Ticket       string // the PHP that signs a user in; empty for none
	CMSPHP       string // of the CMS, run before every script
	Helpers      []Helper
	HelperLoad   string            // the CMS's PHP that has $file be loaded as a plugin is
	CMSDebug     map[string]string // constants of the CMS for a site that debugs, with their values in PHP
	Children     int
	OpenBasedir  string // set where the kernel cannot confine
	ExtensionDir string
	Extensions   []string
	Cache        string // folder of compiled scripts; empty for none
	Environment  map[string]string
}

// CMSPrepend is the CMS's PHP, held in a function of its own.
func (p PHP) CMSPrepend() string {
	if p.CMSPHP == "" {
		return ""
	}
	return "(static function () {\n" + strings.TrimSpace(p.CMSPHP) + "\n})();\n"
}

// DebugNames are the constants that a site which debugs has from here, as alternatives of a pattern.
func (p PHP) DebugNames() string { return strings.Join(slices.Sorted(maps.Keys(p.CMSDebug)), "|") }

// Helper is the file of a local helper; First has it loaded before the CMS in any case.
type Helper struct {
	File  string
	First bool
}

// RequestMark begins a line of the log that names a request.
func (p PHP) RequestMark() string { return phperrors.RequestMark }

func (p PHP) Pool() string { return render("php-fpm.conf", p) }
func (p PHP) Ini() string  { return render("php.ini", p) }

// Directive is one line of php.ini.
type Directive struct{ Name, Value string }

// Directives are the usual values, with the site's own in their place.
func (p PHP) Directives() []Directive {
	values := map[string]string{"memory_limit": "256M", "upload_max_filesize": "256M", "post_max_size": "257M", "max_execution_time": "300",
		"max_input_time": "300",
		"max_input_vars": "5000", "display_errors": "Off", "log_errors": "On", "error_reporting": "22527", "expose_php": "On",
		"date.timezone":          "UTC",
		"session.gc_probability": "1", "realpath_cache_ttl": "2", "opcache.enable": "1", "opcache.validate_timestamps": "1",
		"opcache.revalidate_freq":    "0",
		"opcache.optimization_level": "0", // what is seldom compiled twice is compiled quickly: a first page comes a quarter sooner
		"opcache.memory_consumption": "128", "opcache.interned_strings_buffer": "16", "opcache.max_accelerated_files": "10000"}
	if p.Trusted != "" {
		values["openssl.cafile"], values["curl.cainfo"] = p.Trusted, p.Trusted
	}
	if p.Site.Settings.Debug {
		values["display_errors"], values["error_reporting"] = "On", "32767"
	}
	if port := p.Site.Settings.Xdebug; port > 0 {
		maps.Copy(values, map[string]string{"xdebug.mode": "debug", "xdebug.client_host": "127.0.0.1", "xdebug.client_port": strconv.Itoa(port),
			"xdebug.start_with_request": "trigger", "xdebug.log_level": "0"})
	}
	maps.Copy(values, p.Site.Settings.PHP)
	directives := []Directive{}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		directives = append(directives, Directive{name, values[name]})
	}
	return directives
}

// IdleSeconds is for how long a worker without work stays.
func (p PHP) IdleSeconds() int { return int(WorkerIdle(p.Site.Settings.Rest()).Seconds()) }

// LongestRequest is after how many seconds a request is ended that PHP's own limit (which counts its work, not its waiting) did not
// end.
func (p PHP) LongestRequest() int {
	seconds, err := strconv.Atoi(p.Site.Settings.PHP["max_execution_time"])
	if err != nil {
		seconds = 300
	}
	if seconds <= 0 {
		return 0
	}
	return seconds + 10
}

func (p PHP) Prepend() string { return render("prepend.php", p) }

// Probe is the PHP that answers checks, the same for every site.
func Probe() string { return render("probe.php", nil) }

// MariaDB is the configuration of one database server. Port 0 leaves it reachable through its unix socket alone.
type MariaDB struct {
	Base, Share, Plugins string // the engine's own folders
	Data, Dir, Socket    string
	Port                 int
	BufferMB             int
	Certificate          string            // with its key; empty where the server has none, or makes one
	Variables            map[string]string // the user's own, last
}

func (m MariaDB) String() string { return render("mariadb.cnf", m) }

// WorkerIdle is for how long a PHP worker without work stays.
func WorkerIdle(rest time.Duration) time.Duration {
	const usual = 10 * time.Second
	if rest == 0 {
		return usual
	}
	return min(usual, rest)
}

// Kept tells whether an extension is not for a site to switch: others build on it, or sites of one account would share what it gives
// (inter-process shared memory).
func Kept(name string) bool {
	return slices.Contains([]string{"mysqlnd", "pdo", "xml", "dom", "xdebug", "sysvmsg", "sysvsem", "sysvshm", "shmop", "ffi"}, name)
}

// Extensions orders a PHP's shared extensions so that each comes after those it needs, without those that are switched off. Of extras,
// which were fetched besides, only those are among them that a site switches on, with all that each needs.
func Extensions(found []string, settings site.Settings, extras map[string][]string) []string {
	found = slices.Clone(found)
	for _, own := range extras {
		found = slices.DeleteFunc(found, func(name string) bool { return slices.Contains(own, name) })
	}
	for _, name := range slices.Sorted(maps.Keys(extras)) {
		for _, each := range extras[name] {
			if settings.Extensions[name] && !slices.Contains(found, each) {
				found = append(found, each)
			}
		}
	}
	first := []string{"opcache", "mysqlnd", "pdo", "xml", "dom", "igbinary", "msgpack"}
	left := map[string]bool{"sysvmsg": true, "sysvsem": true, "sysvshm": true, "shmop": true, "ffi": true, "xdebug": true}
	for name, on := range settings.Extensions {
		left[name] = left[name] || !on
	}
	ordered := []string{}
	present := map[string]bool{}
	for _, name := range found {
		present[name] = true
	}
	for _, name := range first {
		if present[name] && !left[name] {
			ordered, left[name] = append(ordered, name), true
		}
	}
	for _, name := range found {
		if !left[name] {
			ordered = append(ordered, name)
		}
	}
	if settings.Xdebug > 0 && present["xdebug"] {
		ordered = append(ordered, "xdebug")
	}
	return ordered
}
