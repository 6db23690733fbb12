package fleet

import (
	"path/filepath"
	"testing"
)

// Whatever stands in a fleet file or a site's own, it is read or refused in words.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"version: 1\nsites:\n  fern: {title: Fern}\n", "version: 1\nsites:\n  ../x: {}\n",
		"version: 1\nsite: {name: a}\nsql: ../../home.json\n", "- a", "a: &a [*a]", "version: 99",
		"n: \nsites:\n !../x: {}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		Parse([]byte(text))
		if s, err := ParseSite([]byte(text)); err == nil && s.SQL != "" && !filepath.IsLocal(s.SQL) {
			t.Fatalf("%q names the dump %q", text, s.SQL)
		}
	})
}
