// Package engine keeps versioned PHP, web server and database programs side by side in one folder.
// It knows which engines there could be (the catalogue), fetches them from Debian's signed packages,
// and answers with the paths and versions of those that are there.
package engine

import (
	"slices"
	"strings"
)

// Kind says what an engine does in a stack.
type Kind string

const (
	PHP      Kind = "php"
	Web      Kind = "web"
	Database Kind = "database"
	Release  Kind = "release"   // a CMS release: laid out, never started
	Language Kind = "languages" // further languages of a release
)

// Row is one entry of the catalogue: an engine (or a CMS release) that can be fetched.
type Row struct {
	ID         string   // e.g. php-8.2
	Kind       Kind     //
	Generation string   // Debian's code name, e.g. bookworm
	Packages   []string // what apt is asked for
	Programs   []string // paths below the engine's root that are started; the first tells the version
	Tools      []string // further ones, for people; a store of an earlier version may lack them
	// WithoutDependencies takes the packages alone: a release is files, not programs.
	WithoutDependencies bool
}

// generations are Debian's releases, the oldest first.
var generations = []string{"bullseye", "bookworm", "trixie"}

// Age orders engines of one version: the newer the generation, the higher.
func (r Row) Age() int { return slices.Index(generations, r.Generation) }

// Catalogue lists everything that can be fetched, in each kind from the newest to the oldest: the first is the usual one, and all
// usual ones are of one generation. A further version is a further row.
var Catalogue = []Row{
	phpRow("8.4", "trixie"), phpRow("8.2", "bookworm"), phpRow("7.4", "bullseye"),
	nginxRow("1.26", "trixie", "nginx"), nginxRow("1.22", "bookworm", "nginx"), nginxRow("1.18", "bullseye", "nginx-light"),
	apacheRow("2.4", "trixie"), apacheRow("2.4", "bookworm"), apacheRow("2.4", "bullseye"),
	mariadbRow("11.8", "trixie", "mariadb-server-core", "mariadb-client-core", "mariadb-client"),
	mariadbRow("10.11", "bookworm", "mariadb-server-core", "mariadb-client-core", "mariadb-client"),
	mariadbRow("10.5", "bullseye", "mariadb-server-core-10.5", "mariadb-client-core-10.5", "mariadb-client-10.5"),
	wordpressRow("6.8", "trixie", "twentytwentyfive"), wordpressRow("6.1", "bookworm", "twentytwentythree"),
	wordpressRow("5.7", "bullseye", "twentytwentyone"),
	languagesRow("wordpress-6.8", "trixie", "wordpress-l10n"), languagesRow("wordpress-6.1", "bookworm", "wordpress-l10n"),
	languagesRow("wordpress-5.7", "bullseye", "wordpress-l10n"),
	{ID: "spip-4.4", Kind: Release, Generation: "trixie", WithoutDependencies: true,
		Packages: []string{"spip", "php-algo26-idna-convert", "php-jakeasmith-http-build-url", "php-psr-container",
			"php-symfony-deprecation-contracts", "php-symfony-service-contracts", "php-symfony-var-exporter",
			"php-symfony-dependency-injection", "php-symfony-filesystem", "php-getid3", "libjs-jquery", "libjs-jquery-form", "libjs-jquery-jstree",
			"libjs-mediaelement", "libjs-prefix-free",
			"libjs-twitter-bootstrap-datepicker", "node-js-cookie", "fonts-dustin"}},
}

func phpRow(version, generation string) Row {
	row := Row{ID: "php-" + version, Kind: PHP, Generation: generation,
		Programs: []string{"usr/sbin/php-fpm" + version, "usr/bin/php" + version}}
	for _, part := range []string{"fpm", "cli", "mysql", "mbstring", "xml", "curl", "gd", "intl", "zip", "bcmath", "soap", "sqlite3",
		"xdebug"} {
		row.Packages = append(row.Packages, "php"+version+"-"+part)
	}
	return row
}

func nginxRow(version, generation, pack string) Row {
	return Row{ID: "nginx-" + version, Kind: Web, Generation: generation, Packages: []string{pack}, Programs: []string{"usr/sbin/nginx"}}
}

// All generations have an Apache 2.4, some of the same full version at times: its id says the generation.
func apacheRow(version, generation string) Row {
	return Row{ID: "apache-" + version + "-" + generation, Kind: Web, Generation: generation, Packages: []string{"apache2-bin", "media-types"},
		Programs: []string{"usr/sbin/apache2"}}
}

func mariadbRow(version, generation string, packages ...string) Row {
	return Row{ID: "mariadb-" + version, Kind: Database, Generation: generation, Packages: packages,
		Programs: []string{"usr/sbin/mariadbd", "usr/bin/mariadb"}, Tools: []string{"usr/bin/mariadb-dump", "usr/bin/mariadb-import",
			"usr/bin/mariadb-admin", "usr/bin/mariadb-show", "usr/bin/mariadb-check"}}
}

func languagesRow(release, generation, pack string) Row {
	return Row{ID: "languages-" + release, Kind: Language, Generation: generation, WithoutDependencies: true, Packages: []string{pack}}
}

func wordpressRow(version, generation, theme string) Row {
	return Row{ID: "wordpress-" + version, Kind: Release, Generation: generation, WithoutDependencies: true,
		Packages: []string{"wordpress", "wordpress-theme-" + theme, "php-getid3", "libjs-cropper", "libjs-underscore", "libjs-prototype",
			"libjs-scriptaculous", "libjs-lodash", "ca-certificates"}}
}

// leftOut are packages that Debian's dependencies bring and that no engine uses here; a star stands for any ending.
var leftOut = []string{"perl*", "libperl*", "libnumber-compare-perl", "libtext-glob-perl", "libfile-find-rule-perl", "systemd*",
	"libsystemd-shared*", "init-system-helpers", "usrmerge",
	"dpkg", "tar", "debconf*", "ucf", "sensible-utils", "mount", "dmsetup", "apache2*", "libmagic-mgc", "iproute2", "libbpf*", "procps",
	"psmisc", "lsof", "debianutils", "libconfig-inifiles-perl", "libclone-perl", "libdbi-perl", "fonts-*", "libx11-data", "tzdata*",
	"libcryptsetup*", "libdevmapper*", "libkmod*", "libfdisk*", "libaudit-common", "libcap2-bin", "gcc-12-base", "libpam0g", "libip4tc*"}

func isLeftOut(name string) bool {
	return slices.ContainsFunc(leftOut, func(pattern string) bool {
		start, any := strings.CutSuffix(pattern, "*")
		return name == start || any && strings.HasPrefix(name, start)
	})
}
