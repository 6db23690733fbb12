package hosting

import (
	"regexp"
	"strconv"
	"strings"
)

// Nearest chooses, of engines as php-8.2 is one, that which is nearest to a version at a host: the same, else the next newer one, else the
// newest; empty where the host's is not told.
func Nearest(engines []string, version string) (nearest string) {
	wanted, ok := minor(version)
	if !ok {
		return ""
	}
	best, newest, newestID := 1<<30, -1, ""
	for _, id := range engines {
		_, text, _ := strings.Cut(id, "-")
		has, ok := minor(text)
		if !ok {
			continue
		}
		if has > newest {
			newest, newestID = has, id
		}
		if has >= wanted && has < best {
			best, nearest = has, id
		}
	}
	if nearest == "" {
		return newestID
	}
	return nearest
}

var versionPattern = regexp.MustCompile(`^(\d{1,3})\.(\d{1,3})`)

// minor is a version's first two numbers as one.
func minor(version string) (int, bool) {
	match := versionPattern.FindStringSubmatch(version)
	if match == nil {
		return 0, false
	}
	large, _ := strconv.Atoi(match[1])
	small, _ := strconv.Atoi(match[2])
	return large*1000 + small, true
}

// Older tells whether a version at a host is an older one than another, by their first two numbers.
func Older(there, here string) bool {
	a, known := minor(there)
	b, alsoKnown := minor(here)
	return known && alsoKnown && a < b
}

// MariaDB is the version that a server says of itself, without what replicas of old clients need before it; empty for MySQL.
func MariaDB(says string) string {
	if !strings.Contains(says, "MariaDB") {
		return ""
	}
	return strings.TrimPrefix(says, "5.5.5-")
}

// WebServer is the kind of engine that a host's web server is most like; empty for none that is known.
func WebServer(says string) string {
	says = strings.ToLower(says)
	switch {
	case strings.Contains(says, "apache"), strings.Contains(says, "litespeed"): // both read .htaccess
		return "apache"
	case strings.Contains(says, "nginx"):
		return "nginx"
	}
	return ""
}
