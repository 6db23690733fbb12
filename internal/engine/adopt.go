package engine

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vessik/internal/core/site"
)

// kinds are what an engine's name says it does.
var kinds = map[string]Kind{"php": PHP, "nginx": Web, "apache": Web, "mariadb": Database}

// programNames are the programs that an engine of the user's own must bring, by name; the first that is there is taken for each.
var programNames = map[string][][]string{
	"php": {{"php-fpm*"}, {"php", "php[0-9]*"}}, "nginx": {{"nginx"}}, "apache": {{"apache2", "httpd"}}, "mariadb": {{"mariadbd", "mysqld"}},
}

// Inspect reads a folder of the user's own as an engine of the given id: its programs, and the version that they tell. Nothing is
// kept.
func (s Store) Inspect(ctx context.Context, id, path string) (*Engine, error) {
	name, version, _ := strings.Cut(id, "-")
	if !validID.MatchString(id) || kinds[name] == "" {
		return nil, fmt.Errorf("%q is not an engine's id", id)
	}
	if !filepath.IsAbs(path) || site.UnsafeInPath(path) {
		return nil, fmt.Errorf("%q cannot be used: it must be absolute, without quotes, $, \\, ; and braces", path)
	}
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("%s is not a folder that the service's account can reach", path)
	}
	e := &Engine{ID: id, Kind: kinds[name], Generation: "own", Adopted: path, Dir: filepath.Join(s.Dir, id),
		FetchedAt: time.Now().UTC().Truncate(time.Second)}
	for _, wanted := range programNames[name] {
		found := ""
		for _, pattern := range wanted {
			for _, folder := range []string{"usr/sbin", "usr/bin", "sbin", "bin", "libexec"} {
				if matches, _ := filepath.Glob(filepath.Join(path, folder, pattern)); found == "" && len(matches) > 0 {
					found, _ = filepath.Rel(path, matches[0])
				}
			}
		}
		if found == "" {
			return nil, fmt.Errorf("%s holds no program %s in bin or sbin", path, strings.Join(wanted, " or "))
		}
		e.Programs = append(e.Programs, found)
	}
	var err error
	if e.Version, err = readVersion(ctx, e); err != nil {
		return nil, err
	}
	if site.CompareVersions(site.MajorMinor(version), site.MajorMinor(e.Version)) != 0 {
		return nil, fmt.Errorf("%s says that it is version %s, which %s does not say", e.Programs[0], e.Version, id)
	}
	for _, program := range e.Programs { // what else is in the folder may be the whole machine's
		if info, err := os.Stat(filepath.Join(path, program)); err == nil {
			e.SizeBytes += info.Size()
		}
	}
	return e, nil
}

// Keep adds an inspected engine to the store.
func (s Store) Keep(e *Engine) error {
	partial, err := os.MkdirTemp(s.Dir, ".partial-adopt-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(partial)
	if err := os.Chmod(partial, 0o755); err != nil {
		return err
	}
	if err := writeManifest(partial, e); err != nil {
		return err
	}
	return os.Rename(partial, e.Dir)
}

// From says where an engine came from.
func (e *Engine) From() string {
	if e.Adopted != "" {
		return e.Adopted
	}
	return "Debian " + e.Generation
}
