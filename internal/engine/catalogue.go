// Package engine keeps versioned PHP, web server and database programs side by side in one folder.
// It knows which engines there could be (the catalogue), fetches them from Debian's signed packages,
// and answers with the paths and versions of those that are there.
package engine

import (
	"fmt"
	"slices"
	"strings"
)

// Kind says what an engine does in a stack.
type Kind string

const (
	PHP      Kind = "php"
	Web      Kind = "web"
	Database Kind = "database"
	Release  Kind = "release" // a CMS release: laid out, never started
)

// Row is one entry of the catalogue: an engine (or a CMS release) that can be fetched.
type Row struct {
	ID         string   // e.g. php-8.2
	Kind       Kind     //
	Generation string   // Debian's code name, e.g. bookworm
	Packages   []string // what apt is asked for
	Programs   []string // paths below the engine's root that are started; the first tells the version
	// WithoutDependencies takes the packages alone: a release is files, not programs.
	WithoutDependencies bool
}

// Catalogue lists everything that can be fetched. A further generation is a further row.
var Catalogue = []Row{
	{ID: "php-8.2", Kind: PHP, Generation: "bookworm",
		Packages: phpPackages("8.2"),
		Programs: []string{"usr/sbin/php-fpm8.2", "usr/bin/php8.2"}},
	{ID: "nginx-1.22", Kind: Web, Generation: "bookworm",
		Packages: []string{"nginx"},
		Programs: []string{"usr/sbin/nginx"}},
	{ID: "mariadb-10.11", Kind: Database, Generation: "bookworm",
		Packages: []string{"mariadb-server-core"},
		Programs: []string{"usr/sbin/mariadbd"}},
	{ID: "wordpress-6.1", Kind: Release, Generation: "bookworm", WithoutDependencies: true,
		Packages: []string{"wordpress", "wordpress-theme-twentytwentythree", "php-getid3", "libjs-cropper",
			"libjs-underscore", "libjs-prototype", "libjs-scriptaculous", "ca-certificates"}},
}

func phpPackages(version string) []string {
	packages := []string{}
	for _, part := range []string{"fpm", "cli", "mysql", "mbstring", "xml", "curl", "gd", "intl", "zip", "bcmath", "soap", "sqlite3"} {
		packages = append(packages, "php"+version+"-"+part)
	}
	return packages
}

// leftOut are packages that Debian's dependencies bring and that no engine uses here; a star stands for any ending.
var leftOut = []string{"perl*", "libperl*", "libnumber-compare-perl", "libtext-glob-perl", "libfile-find-rule-perl", "systemd*", "libsystemd-shared*", "init-system-helpers", "usrmerge",
	"dpkg", "tar", "debconf*", "ucf", "sensible-utils", "mount", "dmsetup", "apache2*", "iproute2", "libbpf*", "procps", "psmisc", "lsof", "fonts-*", "libx11-data", "tzdata*",
	"libcryptsetup*", "libdevmapper*", "libkmod*", "libfdisk*", "libapparmor*", "libaudit-common", "libcap2-bin", "gcc-12-base", "libpam0g", "libip4tc*"}

func isLeftOut(name string) bool {
	return slices.ContainsFunc(leftOut, func(pattern string) bool {
		start, any := strings.CutSuffix(pattern, "*")
		return name == start || any && strings.HasPrefix(name, start)
	})
}

// Lookup returns the catalogue's row of an id, or an error that names what there is.
func Lookup(id string) (Row, error) {
	for _, row := range Catalogue {
		if row.ID == id {
			return row, nil
		}
	}
	return Row{}, fmt.Errorf("there is no engine %q; there are %s", id, strings.Join(IDs(""), ", "))
}

// IDs lists the catalogue's ids of one kind, or all of them for an empty kind.
func IDs(kind Kind) []string {
	ids := []string{}
	for _, row := range Catalogue {
		if kind == "" || row.Kind == kind {
			ids = append(ids, row.ID)
		}
	}
	return ids
}
