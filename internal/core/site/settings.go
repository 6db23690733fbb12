package site

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Settings are what a site's owner changed of its engines.
type Settings struct {
	PHP        map[string]string `json:"php,omitempty" doc:"php.ini directives and their values"`
	Extensions map[string]bool   `json:"extensions,omitempty" doc:"PHP extensions that are switched on or off"`
	HostLines  map[string]string `json:"host_lines,omitempty" doc:"Further lines for the virtual host, by web server: nginx, apache"`
	Allow      []string          `json:"allow,omitempty" doc:"Further folders that the site's PHP and web server may use"`
	Debug      bool              `json:"debug,omitempty" doc:"PHP shows and logs every error"`
	Xdebug     int               `json:"xdebug,omitempty" doc:"Port that Xdebug connects to; 0 leaves it out"`
	Offline    bool              `json:"offline,omitempty" doc:"What the site asks of other machines is refused at once"`
	RestAfter  int               `json:"rest_after,omitempty" doc:"Seconds without a request until PHP goes to rest; 0 is the usual 600, -1 never"`
}

// DefaultRest is the idle time after which PHP goes to rest.
const DefaultRest = 10 * time.Minute

// Rest is the idle time; 0 for never.
func (s Settings) Rest() time.Duration {
	switch {
	case s.RestAfter < 0:
		return 0
	case s.RestAfter == 0:
		return DefaultRest
	}
	return time.Duration(s.RestAfter) * time.Second
}

// Equal tells whether two settings say the same.
func (s Settings) Equal(t Settings) bool {
	return maps.Equal(s.PHP, t.PHP) && maps.Equal(s.Extensions, t.Extensions) && maps.Equal(s.HostLines, t.HostLines) && slices.Equal(s.Allow, t.Allow) &&
		s.Debug == t.Debug && s.Xdebug == t.Xdebug && s.Offline == t.Offline && s.RestAfter == t.RestAfter
}

// Differences says, a line each, what a change of settings changes.
func (s Settings) Differences(t Settings) []string {
	lines := []string{}
	compare := func(what string, a, b map[string]string) {
		keys := slices.Sorted(maps.Keys(a))
		for key := range b {
			if _, ok := a[key]; !ok {
				keys = append(keys, key)
			}
		}
		for _, key := range slices.Compact(slices.Sorted(slices.Values(keys))) {
			before, had := a[key]
			after, has := b[key]
			switch {
			case had && has && before != after:
				lines = append(lines, fmt.Sprintf("%s%s: %s → %s", what, key, oneLine(before), oneLine(after)))
			case has && !had:
				lines = append(lines, fmt.Sprintf("%s%s: %s", what, key, oneLine(after)))
			case had && !has:
				lines = append(lines, fmt.Sprintf("%s%s: back to usual", what, key))
			}
		}
	}
	words := func(on map[string]bool) map[string]string {
		said := map[string]string{}
		for name, yes := range on {
			said[name] = map[bool]string{true: "on", false: "off"}[yes]
		}
		return said
	}
	compare("", s.PHP, t.PHP)
	compare("extension ", words(s.Extensions), words(t.Extensions))
	compare("virtual host, ", s.HostLines, t.HostLines)
	if !slices.Equal(s.Allow, t.Allow) {
		lines = append(lines, "further folders: "+strings.Join(append([]string{}, t.Allow...), ", "))
	}
	if s.Debug != t.Debug {
		lines = append(lines, "debugging: "+map[bool]string{true: "on", false: "off"}[t.Debug])
	}
	if s.Xdebug != t.Xdebug {
		lines = append(lines, fmt.Sprintf("Xdebug port: %d", t.Xdebug))
	}
	if s.Offline != t.Offline {
		lines = append(lines, "working offline: "+map[bool]string{true: "on", false: "off"}[t.Offline])
	}
	if s.RestAfter != t.RestAfter {
		lines = append(lines, "rest after: "+t.Rest().String())
	}
	return lines
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

var directiveName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)

// held are directives that keep a site in its place; Vessik sets them.
var held = []string{"auto_prepend_file", "sendmail_path", "error_log", "sys_temp_dir", "upload_tmp_dir", "session.save_path", "open_basedir", "extension_dir", "extension", "zend_extension", "opcache.lockfile_path", "opcache.preload", "opcache.preload_user"}

// CheckSettings returns what is wrong with settings, as far as it can be told without asking an engine. known are the directives and
// extensions of the site's PHP; nil where they have not been read.
func CheckSettings(name string, s Settings, knownDirectives, knownExtensions []string, homeDir string) Problems {
	c := &checker{site: name}
	for _, directive := range slices.Sorted(maps.Keys(s.PHP)) {
		value := s.PHP[directive]
		field := "php." + directive
		switch {
		case !directiveName.MatchString(directive):
			c.add(field, "write it as in php.ini, e.g. memory_limit", "%q is not a directive's name", directive)
		case slices.Contains(held, directive):
			c.add(field, "leave it out", "%s keeps the site in its place and is set by Vessik", directive)
		case strings.ContainsAny(value, "\"\n\r\x00"):
			c.add(field, "write it in one line without quotes", "%q cannot stand in php.ini", value)
		case len(knownDirectives) > 0 && !slices.Contains(knownDirectives, directive):
			remedy := "see those that there are with: vessik info " + name
			if near := closest(directive, knownDirectives); near != "" {
				remedy = "did you mean " + near + "?"
			}
			c.add(field, remedy, "this PHP knows no directive %q", directive)
		}
	}
	for _, extension := range slices.Sorted(maps.Keys(s.Extensions)) {
		if len(knownExtensions) > 0 && !slices.Contains(knownExtensions, extension) {
			c.add("extensions."+extension, "choose one of "+strings.Join(knownExtensions, ", "), "this PHP brings no extension %q that can be switched", extension)
		}
	}
	for server := range s.HostLines {
		if server != "nginx" && server != "apache" {
			c.add("host_lines", "say nginx or apache", "%q is not a web server", server)
		}
	}
	for _, dir := range s.Allow {
		switch {
		case !filepath.IsAbs(dir) || UnsafeInPath(dir):
			c.add("allow", "give an absolute path without quotes, $, \\, ; and braces", "%q cannot be used", dir)
		case Inside(homeDir, dir) || Inside(dir, homeDir) && !Inside(dir, filepath.Join(homeDir, "sites")):
			c.add("allow", "choose a folder outside it", "%s overlaps with the service's home", dir)
		}
	}
	if s.Xdebug < 0 || s.Xdebug > 65535 {
		c.add("xdebug", "choose one from 1 to 65535", "%d is not a port", s.Xdebug)
	}
	return c.problems
}

// closest is the known word that differs in the fewest letters, if it is near.
func closest(word string, known []string) string {
	best, near := 4, ""
	for _, k := range known {
		if d := distance(word, k); d < best {
			best, near = d, k
		}
	}
	return near
}

// distance is Levenshtein's.
func distance(a, b string) int {
	if d := len(a) - len(b); d > 3 || d < -3 {
		return 9
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		previous := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := previous
			if a[i] != b[j] {
				cost++
			}
			previous = row[j+1]
			row[j+1] = min(cost, row[j+1]+1, row[j]+1)
		}
	}
	return row[len(b)]
}
