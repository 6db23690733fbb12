package cms

import (
	"testing"
	"testing/fstest"

	"vessik/internal/core/site"
)

// Whatever stands in a definition's file, it is read or refused in words, and its paths stay inside.
func FuzzDefinition(f *testing.F) {
	for _, name := range []string{"wordpress", "spip", "empty"} {
		if text, err := builtIn.ReadFile("definitions/" + name + "/" + File); err == nil {
			f.Add(string(text))
		}
	}
	f.Add("cms: moss\nlayout:\n  root: ../..\n")
	f.Fuzz(func(t *testing.T, text string) {
		k, err := Read(fstest.MapFS{File: {Data: []byte(text)}})
		if err != nil {
			return
		}
		for _, path := range append(k.Layout.Folders, k.Layout.Caches...) {
			if fault := site.RootFault(path); fault != "" {
				t.Fatalf("%q is taken: %s", path, fault)
			}
		}
	})
}
