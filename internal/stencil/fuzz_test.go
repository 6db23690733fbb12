package stencil

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"vessik/internal/core/render"
	"vessik/internal/core/site"
)

// A manifest that is taken leads nowhere outside a site's folder, and its fields stay one word in a configuration.
func FuzzManifest(f *testing.F) {
	for _, seed := range []string{`{"root":"../.."}`, `{"root":"public"}`, `{"root":"a\";}\nserver {"}`, `{"root":"/etc"}`,
		`{"prefix":"wp_"}`, `{"prefix":"a` + "`" + `"}`, `{"url":"http://a.example"}`, `{"network":"x"}`, `{"sub_sites":["a","../b"]}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var m Manifest
		if json.Unmarshal([]byte(text), &m) != nil || Judge(m) != nil {
			return
		}
		s := site.Site{Name: "moss", Domain: "moss.localhost", Folder: "/srv/sites/moss", Root: m.Root, Prefix: m.Prefix, Port: 21000}
		if root := s.DocumentRoot(); root != s.Folder && !strings.HasPrefix(root, s.Folder+"/") {
			t.Fatalf("%q leads to %s", text, root)
		}
		host := render.Host{Site: s}
		plain := render.Host{Site: site.Site{Name: "moss", Domain: "moss.localhost", Folder: "/srv/sites/moss", Root: "public", Port: 21000}}
		for _, each := range [][2]string{{host.Nginx(), plain.Nginx()}, {host.Apache(), plain.Apache()}} {
			if strings.Count(each[0], "\n") != strings.Count(each[1], "\n") || strings.Count(each[0], `"`) != strings.Count(each[1], `"`) {
				t.Fatalf("%q writes lines of its own", text)
			}
		}
		if strings.ContainsAny(m.Prefix, "`'\"\\") || filepath.IsAbs(m.Root) {
			t.Fatalf("%q is taken", text)
		}
	})
}
