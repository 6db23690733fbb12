package render

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vessik/internal/core/site"
)

func TestExtensionsComeAfterWhatTheyNeed(t *testing.T) {
	got := Extensions([]string{"dom", "mysqli", "mysqlnd", "opcache", "pdo", "pdo_mysql", "shmop", "sysvshm", "xml", "xsl"})
	assert.Equal(t, []string{"opcache", "mysqlnd", "pdo", "xml", "dom", "mysqli", "pdo_mysql", "xsl"}, got)
}

func TestTemplatesFitTheirValues(t *testing.T) {
	s := site.Site{Name: "fernhollow", Domain: "fernhollow.localhost", Folder: "/srv/f", Port: 21000, Probe: "secret"}
	host := Host{Site: s, Socket: "/run/f.sock", Logs: "/logs/f", BaseURL: "http://fernhollow.localhost:20080", PublicPort: 20080, UploadLimit: "257m", FrontController: "/index.php?$args",
		NoPHP: []string{"/wp-content/uploads/"}, Extra: "add_header X-Keeper Ines;", ExtraPath: "/home/hosts/f.conf"}.String()
	for _, part := range []string{"listen 127.0.0.1:21000;", `root "/srv/f";`, "disable_symlinks on from=$document_root;", "return 302 http://fernhollow.localhost:20080$request_uri;", "add_header X-Keeper Ines;", "client_max_body_size 257m;"} {
		assert.Contains(t, host, part)
	}
	php := PHP{Site: s, Dir: "/d", Temp: "/t", Logs: "/l", Socket: "/run/f.sock", ProbeFile: "/p", Children: 4, ExtensionDir: "/e", Extensions: []string{"opcache", "mysqli"}}
	assert.Contains(t, php.Ini(), "zend_extension = opcache\nextension = mysqli")
	assert.Contains(t, php.Pool(), `listen = "/run/f.sock"`)
	assert.NotContains(t, php.Pool(), "open_basedir", "only where the kernel cannot confine")
	assert.Contains(t, php.Prepend(), "hash_equals('secret'")
	assert.Contains(t, MariaDB{Socket: "/s"}.String(), "skip-networking")
	assert.Contains(t, MariaDB{Socket: "/s", Port: 22000}.String(), "bind-address = 127.0.0.1")
	assert.NotEmpty(t, Probe())
	assert.Contains(t, Nginx{Hosts: "/h"}.String(), `include "/h/*.conf";`)
}
