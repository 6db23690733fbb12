// Package render writes the configuration text of the engines: nginx, PHP-FPM, php.ini, MariaDB, and the PHP that runs before a
// site's own. Text in, text out.
package render

import (
	"embed"
	"strings"
	"text/template"

	"vessik/internal/core/site"
)

//go:embed templates
var files embed.FS

var templates = template.Must(template.ParseFS(files, "templates/*"))

func render(name string, values any) string {
	var out strings.Builder
	if err := templates.ExecuteTemplate(&out, name, values); err != nil {
		panic(err) // a template that does not fit its struct: found by the package's test
	}
	return out.String()
}

// Nginx is the configuration of one nginx that serves many sites.
type Nginx struct {
	Root    string // the engine's files
	Dir     string // for the pid and temporary files
	Hosts   string // folder of virtual hosts
	Log     string
	Workers int
}

func (n Nginx) String() string { return render("nginx.conf", n) }

// Host is one site's virtual host.
type Host struct {
	Site            site.Site
	Socket          string   // of the site's PHP
	Logs            string   // the site's log folder
	BaseURL         string   // without a trailing slash, for requests that name another host
	PublicPort      int      // the gateway's
	UploadLimit     string   // e.g. 257m
	FrontController string   // what answers for addresses that are no file, e.g. /index.php?$args
	NoPHP           []string // address prefixes below which PHP is never run
	Extra           string   // lines of the user's own
	ExtraPath       string
}

func (h Host) String() string { return render("nginx-site.conf", h) }

// PHP is what one site's FPM master and its php.ini need.
type PHP struct {
	Site         site.Site
	Dir          string // the site's generated files: read only to the site
	Temp         string
	Logs         string
	Socket       string
	ProbeFile    string
	Children     int
	OpenBasedir  string // set where the kernel cannot confine
	ExtensionDir string
	Extensions   []string
}

func (p PHP) Pool() string    { return render("php-fpm.conf", p) }
func (p PHP) Ini() string     { return render("php.ini", p) }
func (p PHP) Prepend() string { return render("prepend.php", p) }

// Probe is the PHP that answers checks, the same for every site.
func Probe() string { return render("probe.php", nil) }

// MariaDB is the configuration of one database server. Port 0 leaves it reachable through its unix socket alone.
type MariaDB struct {
	Root, Data, Dir, Socket string
	Port                    int
	BufferMB                int
}

func (m MariaDB) String() string { return render("mariadb.cnf", m) }

// Extensions orders a PHP's shared extensions so that each comes after those it needs; inter-process shared memory is left out,
// since sites of one account would share it.
func Extensions(found []string) []string {
	first := []string{"opcache", "mysqlnd", "pdo", "xml", "dom"}
	left := map[string]bool{"sysvmsg": true, "sysvsem": true, "sysvshm": true, "shmop": true, "ffi": true}
	ordered := []string{}
	present := map[string]bool{}
	for _, name := range found {
		present[name] = true
	}
	for _, name := range first {
		if present[name] {
			ordered, left[name] = append(ordered, name), true
		}
	}
	for _, name := range found {
		if !left[name] {
			ordered = append(ordered, name)
		}
	}
	return ordered
}
