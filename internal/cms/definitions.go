package cms

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vessik/internal/core/site"
	"vessik/internal/ownfile"
)

//go:embed definitions
var builtIn embed.FS

// Definitions are all that are known: those that Vessik brings, and the user's own, which may stand in for them.
type Definitions map[string]*Definition

// All reads the CMS definitions that Vessik brings and those of a folder. A definition of the user's that is wrong is left out and
// named in faults.
func All(dir string) (definitions Definitions, faults map[string]error) {
	definitions, faults = Definitions{}, map[string]error{}
	for _, name := range []string{"wordpress", "spip", "empty", "archive"} {
		files, err := fs.Sub(builtIn, "definitions/"+name)
		if err != nil {
			continue
		}
		k, err := Read(files)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			panic(err) // found by the package's test
		}
		definitions[k.Name] = k
	}
	found := ownfile.Find(filepath.Join(dir, "*", File))
	for _, file := range found {
		folder := filepath.Dir(file)
		k, err := Read(os.DirFS(folder))
		if err != nil {
			faults[folder] = err
			continue
		}
		k.From = folder
		definitions[k.Name] = k
	}
	return definitions, faults
}

// State tells one state of the user's definitions from another.
func State(dir string) string {
	state := strings.Builder{}
	found := ownfile.Find(filepath.Join(dir, "*", "*"))
	for _, file := range found {
		if info, err := os.Stat(file); err == nil {
			fmt.Fprintln(&state, file, info.Size(), info.ModTime().UnixNano())
		}
	}
	return state.String()
}

// Bear tells whether a version of a CMS is known to work on a PHP engine, or nothing is known.
func (k Definitions) Bear(of site.CMS, php string) bool {
	return k[of.Name] == nil || k[of.Name].Bears(of.Version, php)
}

// Names are the CMS definitions' names, WordPress first, since it is the usual one.
func (k Definitions) Names() []string {
	names := []string{}
	for name := range k {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		if a == "wordpress" || b == "wordpress" {
			return map[bool]int{true: -1, false: 1}[a == "wordpress"]
		}
		return strings.Compare(a, b)
	})
	return names
}

// Range is the lowest and the highest PHP that a version is known to work on; empty where nothing is known.
func (k *Definition) Range(version string) (from, to string) {
	for _, s := range k.Supports {
		if site.CompareVersions(version, s.Version) >= 0 {
			return s.From, s.To
		}
	}
	return "", ""
}

// Bears tells whether a version is known to work on a PHP engine, or nothing is known.
func (k *Definition) Bears(version, php string) bool {
	from, to := k.Range(version)
	own := site.MajorMinor(php)
	return from == "" || site.CompareVersions(own, from) >= 0 && site.CompareVersions(own, to) <= 0
}

// SupportWords say what a CMS's version is known to support, and whether a PHP is not among it.
func (k Definitions) SupportWords(of site.CMS, php string) (known, warning string) {
	one := k[of.Name]
	if one == nil {
		return "nothing is known of " + of.Name + " " + of.Version, ""
	}
	from, to := one.Range(of.Version)
	if from == "" {
		return "nothing is known of " + of.Name + " " + of.Version, ""
	}
	known = fmt.Sprintf("%s %s is known to work on PHP %s to %s", of.Name, of.Version, from, to)
	if !one.Bears(of.Version, php) {
		warning = fmt.Sprintf("%s %s is not known to work on %s", of.Name, of.Version, php)
	}
	return known, warning
}
