package engine

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/core/render"
	"vessik/internal/ownfile"
)

// helpersFolder holds, below a site's generated files, the local helpers that are loaded for it.
const helpersFolder = "helpers"

// LayHelpers writes the helpers that a site has into its generated files, for its PHP to read; a PHP that runs sees the new text at its
// next request. One that is nowhere is left out.
func LayHelpers(place PHPPlace, names []string) ([]render.Helper, error) {
	dir := filepath.Join(place.Dir, helpersFolder)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	laid := []render.Helper{}
	for _, name := range names {
		text, ok := place.Helper(name)
		if !ok {
			continue
		}
		file := filepath.Join(dir, name+".php")
		if before, err := os.ReadFile(file); err != nil || string(before) != text {
			if err := ownfile.Write(file, []byte(text), 0o600); err != nil {
				return nil, err
			}
		}
		laid = append(laid, render.Helper{File: file, First: strings.HasSuffix(name, ".settings")})
	}
	return laid, nil
}

// ForgetHelpers removes those that a site has no more.
func ForgetHelpers(place PHPPlace, names []string) {
	dir := filepath.Join(place.Dir, helpersFolder)
	entries, err := ownfile.List(dir)
	if err != nil {
		return
	}
	for _, entry := range entries {
		_, known := place.Helper(strings.TrimSuffix(entry.Name(), ".php"))
		if !known || !slices.Contains(names, strings.TrimSuffix(entry.Name(), ".php")) {
			ownfile.Remove(filepath.Join(dir, entry.Name()))
		}
	}
}
