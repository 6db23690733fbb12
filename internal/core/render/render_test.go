package render

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vessik/internal/core/site"
)

func TestExtensionsComeAfterWhatTheyNeed(t *testing.T) {
	got := Extensions([]string{"dom", "mysqli", "mysqlnd", "opcache", "pdo", "pdo_mysql", "shmop", "sysvshm", "xdebug", "xml", "xsl"},
		site.Settings{}, nil)
	assert.Equal(t, []string{"opcache", "mysqlnd", "pdo", "xml", "dom", "mysqli", "pdo_mysql", "xsl"}, got)
	got = Extensions([]string{"gd", "opcache", "xdebug"}, site.Settings{Extensions: map[string]bool{"gd": false}, Xdebug: 9003}, nil)
	assert.Equal(t, []string{"opcache", "xdebug"}, got)
	found, extras := []string{"gd", "igbinary", "memcached", "msgpack", "redis"}, map[string][]string{"redis": {"igbinary", "redis"},
		"memcached": {"igbinary", "memcached", "msgpack"}}
	assert.Equal(t, []string{"gd"}, Extensions(found, site.Settings{}, extras), "what was fetched for another site is off")
	assert.Equal(t, []string{"igbinary", "gd", "redis"}, Extensions(found, site.Settings{Extensions: map[string]bool{"redis": true}}, extras))
	assert.Equal(t, []string{"igbinary", "msgpack", "gd", "memcached", "redis"},
		Extensions(found, site.Settings{Extensions: map[string]bool{"redis": true, "memcached": true}}, extras),
		"each once, and after what it needs")
}

func TestTemplatesFitTheirValues(t *testing.T) {
	s := site.Site{Name: "fernhollow", Domain: "fernhollow.localhost", Folder: "/srv/f", Port: 21000, Probe: "secret",
		Settings: site.Settings{PHP: map[string]string{"memory_limit": "64M", "max_execution_time": "30"},
			HostLines: map[string]string{"nginx": "add_header X-Keeper Ines;", "apache": "Header set X-Keeper Ines"}}}
	host := Host{Site: s, Socket: "/run/f.sock", Logs: "/logs/f", BaseURL: "http://fernhollow.localhost:20080", PublicPort: 20080,
		UploadLimit: 257 << 20, ReadTimeout: 320, FrontController: "/index.php?$args",
		NoPHP: []string{"/wp-content/uploads/"}}
	for _, part := range []string{"listen 127.0.0.1:21000;", `root "/srv/f";`, `disable_symlinks on "from=/srv";`,
		"return 302 http://fernhollow.localhost:20080$request_uri;", "add_header X-Keeper Ines;", "client_max_body_size 269484032;"} {
		assert.Contains(t, host.Nginx(), part)
	}
	for _, part := range []string{"ServerName fernhollow.localhost:20080", `"proxy:unix:/run/f.sock|fcgi://localhost/"`, "AllowOverride All",
		"Header set X-Keeper Ines", `!^(fernhollow\.localhost)(:`} {
		assert.Contains(t, host.Apache(), part)
	}
	host.Site.Domains, host.Site.Network = []string{"ferns.test"}, site.NetworkDomains
	assert.Contains(t, host.Nginx(), "server_name fernhollow.localhost ferns.test *.fernhollow.localhost;")
	assert.Contains(t, host.Nginx(), `"^(fernhollow\.localhost|ferns\.test|([a-z0-9-]+\.)+fernhollow\.localhost)$"`)
	assert.NotContains(t, host.Apache(), "add_header", "each server has its own lines")
	php := PHP{Site: s, Dir: "/d", Temp: "/t", Logs: "/l", Socket: "/run/f.sock", ProbeFile: "/p", Children: 4, ExtensionDir: "/e",
		Extensions: []string{"opcache", "mysqli"}}
	assert.Contains(t, php.Ini(), "zend_extension = opcache\nextension = mysqli")
	assert.Contains(t, php.Ini(), `memory_limit = "64M"`)
	assert.Contains(t, php.Ini(), `display_errors = "Off"`)
	assert.Contains(t, php.Pool(), "request_terminate_timeout = 40s")
	php.Site.Settings.Debug = true
	assert.Contains(t, php.Ini(), `display_errors = "On"`)
	assert.Contains(t, php.Pool(), `listen = "/run/f.sock"`)
	assert.NotContains(t, php.Pool(), "open_basedir", "only where the kernel cannot confine")
	assert.Contains(t, php.Prepend(), "hash_equals('secret'")
	assert.NotContains(t, php.Prepend(), "static function () {\necho")
	php.CMSDebug = map[string]string{"CARE": "true", "LEVEL": "8"}
	assert.Contains(t, php.Prepend(), "\ndefine('CARE', true);\ndefine('LEVEL', 8);\n")
	assert.Contains(t, php.Prepend(), "(CARE|LEVEL) already defined")
	php.Site.Settings.Debug = false
	assert.NotContains(t, php.Prepend(), "CARE")
	php.CMSPHP = "\necho '<&';\n"
	assert.True(t, strings.HasSuffix(php.Prepend(), "(static function () {\necho '<&';\n})();\n"), php.Prepend())
	assert.Contains(t, MariaDB{Socket: "/s"}.String(), "skip-networking")
	assert.Contains(t, MariaDB{Socket: "/s", Port: 22000}.String(), "bind-address = 127.0.0.1")
	assert.NotEmpty(t, Probe())
	assert.Contains(t, Nginx{Host: "/h"}.String(), `include "/h";`)
}

// readQuoted reads what stands inside double quotes, as the engines do; ended tells whether the quotes end with the text.
func readQuoted(text string) (value string, ended bool) {
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			if i++; i == len(text) {
				return value, false
			}
		case '"':
			return value, i == len(text)-1
		}
		value += text[i : i+1]
	}
	return value, false
}

func FuzzQuoted(f *testing.F) {
	for _, seed := range []string{"/srv/f", `a"b`, `a\`, "a\nserver {", "$document_root", "${HOME}", "\x00", `\"`, "é"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		quoted := Quoted(text)
		if value, ended := readQuoted(quoted + `"`); !ended || value != strings.ReplaceAll(OneLine(text), "$", "") {
			t.Fatalf("%q is written as %q, which is read as %q", text, quoted, value)
		}
		if strings.ContainsAny(quoted, "\n\r\x00$") {
			t.Fatalf("%q is written as %q", text, quoted)
		}
		php := PHPQuoted(text)
		for i := 0; i < len(php); i++ {
			if php[i] == '\\' {
				i++
			} else if php[i] == '\'' {
				t.Fatalf("%q ends the quotes in %q", text, php)
			}
		}
	})
}
