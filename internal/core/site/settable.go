package site

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"vessik/internal/core/outgoing"
)

// Setting is one thing that can be set of a site, beside what has names of its own: php.ini directives, extensions, lines for virtual
// hosts.
type Setting struct {
	Name  string // as it is asked for: NAME=VALUE
	About string
	Form  string // what a value looks like
	label string // in front of words
	// words say what it is set to, and same is alike where it is set alike.
	words func(Settings) string
	same  func(Settings) any
	// set reads a value; "" is as usual. false where it is none.
	set   func(s *Settings, value string) bool
	judge func(c *checker, s Settings, homeDir string)
}

// Settable are all of them. What they do is written by render, running and engine from the fields of Settings.
var Settable = []Setting{
	{Name: "allow", About: "further folders that the site may use, joined by commas",
		Form: "absolute paths, or PATH=PLACE in the site's folder", label: "further folders",
		words: func(s Settings) string { return strings.Join(s.Allow, ", ") },
		same:  func(s Settings) any { return strings.Join(s.Allow, "\x00") },
		set: func(s *Settings, value string) bool {
			s.Allow = slices.DeleteFunc(strings.Split(value, ","), func(dir string) bool { return dir == "" })
			return true
		}, judge: judgeAllow},
	onOff("debug", "debugging", "PHP shows and logs every error, and the CMS's own debugging is on",
		func(s *Settings) *bool { return &s.Debug }),
	number("xdebug", "Xdebug port", "port that Xdebug connects to", "a port, or off", "%d", func(s *Settings) *int { return &s.Xdebug }, 1,
		65535),
	{Name: "outgoing", About: "what the site may ask of other machines: HTTP and HTTPS, anything or nothing", Form: "web, open or closed",
		label: "other machines",
		words: func(s Settings) string { return cmp.Or(s.Outgoing, outgoing.Web) },
		same:  func(s Settings) any { return cmp.Or(s.Outgoing, outgoing.Web) },
		set: func(s *Settings, value string) bool {
			s.Outgoing = value
			return value == "" || slices.Contains(outgoing.Policies, value)
		},
		judge: judgeOutgoing},
	machines("outgoing-allow", "asks in any case", "hosts, networks and ports that the site may ask in any case, joined by commas",
		func(s *Settings) *[]string { return &s.Reach }),
	machines("outgoing-refuse", "asks in no case", "hosts, networks and ports that the site may not ask in any case, joined by commas",
		func(s *Settings) *[]string { return &s.Refuse }),
	{Name: "helpers", About: "local helpers that are loaded for the site, joined by commas", Form: "names, as vessik helpers lists them",
		label: "local helpers",
		words: func(s Settings) string { return strings.Join(s.Helpers, ", ") },
		same:  func(s Settings) any { return strings.Join(s.Helpers, "\x00") },
		set: func(s *Settings, value string) bool {
			s.Helpers = strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' })
			return true
		}, judge: judgeHelpers},
	size("memory", "memory that the site may take in each of its cells", "128M", func(s *Settings) *int64 { return &s.Memory },
		func(s Settings) int64 { return s.MostMemory() }, 128<<20),
	number("processes", "processes", "processes and threads of the site in each of its cells", "a number from 32 to 10000", "%d",
		func(s *Settings) *int { return &s.Processes }, 32, 10000),
	number("processor", "processor", "share of one processor for each of the site's cells", "a percentage of one processor from 5 to 10000",
		"%d%% of one",
		func(s *Settings) *int { return &s.Processor }, 5, 10000),
	size("disk", "what the site's folder may take", "0", func(s *Settings) *int64 { return &s.Disk },
		func(s Settings) int64 { return s.Disk }, 0),
	{Name: "rest", About: "idle time after which PHP goes to rest", Form: "a time of a second or more such as 30m, or never",
		label: "rest after",
		words: func(s Settings) string { return s.Rest().String() },
		same:  func(s Settings) any { return s.RestAfter },
		set: func(s *Settings, value string) bool {
			idle, err := time.ParseDuration(value)
			switch {
			case value == "":
				s.RestAfter = 0
			case value == "never":
				s.RestAfter = -1
			case err != nil || idle < time.Second:
				return false
			default:
				s.RestAfter = int(idle.Seconds())
			}
			return true
		}, judge: func(*checker, Settings, string) {}},
}

func judgeOutgoing(c *checker, s Settings, _ string) {
	if s.Outgoing != "" && !slices.Contains(outgoing.Policies, s.Outgoing) {
		c.add("outgoing", "say web, open or closed", "%q is no policy for other machines", s.Outgoing)
	}
}

var helperName = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,59}(\.settings)?$`)

func judgeHelpers(c *checker, s Settings, _ string) {
	for i, name := range s.Helpers {
		switch {
		case !helperName.MatchString(name):
			c.add("helpers", "a file helpers/NAME.php has a name of a to z, 0 to 9, _ and -", "%q cannot be a helper", name)
		case slices.Contains(s.Helpers[:i], name):
			c.add("helpers", "name it once", "%s is named twice", name)
		}
	}
}

// mostEntries is how many entries a list of machines may have: each is looked at for each connection.
const mostEntries = 100

// machines is a setting that is a list of entries for other machines.
func machines(name, label, about string, field func(*Settings) *[]string) Setting {
	return Setting{Name: name, About: about, Form: outgoing.Form, label: label,
		words: func(s Settings) string { return strings.Join(*field(&s), ", ") },
		same:  func(s Settings) any { return strings.Join(*field(&s), "\x00") },
		set: func(s *Settings, value string) bool {
			*field(s) = strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' })
			return true
		},
		judge: func(c *checker, s Settings, _ string) {
			if len(*field(&s)) > mostEntries {
				c.add(name, "name networks, or *. before a domain", "%d entries are more than %d", len(*field(&s)), mostEntries)
			}
			for _, each := range *field(&s) {
				if _, err := outgoing.Parse(each); err != nil {
					c.add(name, "write "+outgoing.Form, "%v", err)
				}
			}
		}}
}

// onOff is a setting that is on or off.
func onOff(name, label, about string, field func(*Settings) *bool) Setting {
	return Setting{Name: name, About: about, Form: "on or off", label: label,
		words: func(s Settings) string { return map[bool]string{true: "on", false: "off"}[*field(&s)] },
		same:  func(s Settings) any { return *field(&s) },
		set: func(s *Settings, value string) bool {
			*field(s) = value == "on"
			return value == "on" || value == "off" || value == ""
		}, judge: func(*checker, Settings, string) {}}
}

// number is a setting that is a number in a range; 0 is as usual.
func number(name, label, about, form, words string, field func(*Settings) *int, least, most int) Setting {
	return Setting{Name: name, About: about, Form: form, label: label,
		words: func(s Settings) string { return fmt.Sprintf(words, *field(&s)) },
		same:  func(s Settings) any { return *field(&s) },
		set: func(s *Settings, value string) bool {
			n, err := strconv.Atoi(strings.TrimSuffix(value, "%"))
			if value == "" || value == "off" {
				n, err = 0, nil
			}
			*field(s) = n
			return err == nil
		},
		judge: func(c *checker, s Settings, _ string) {
			if n := *field(&s); n != 0 && (n < least || n > most) {
				c.add(name, "say "+form, "%d cannot be used", n)
			}
		}}
}

// size is a setting that is a number of bytes; 0 is as usual.
func size(name, about, least string, field func(*Settings) *int64, holds func(Settings) int64, leastBytes int64) Setting {
	return Setting{Name: name, About: about, Form: "a size such as 512M or 2G", label: name,
		words: func(s Settings) string { return fmt.Sprintf("%d MB", holds(s)>>20) },
		same:  func(s Settings) any { return *field(&s) },
		set: func(s *Settings, value string) bool {
			bytes, ok := Bytes(value)
			*field(s) = bytes
			return ok || value == ""
		},
		judge: func(c *checker, s Settings, _ string) {
			if bytes := *field(&s); bytes < 0 || bytes != 0 && bytes < leastBytes {
				c.add(name, "choose "+least+" or more, as in 2G", "%d bytes are too little", bytes)
			}
		}}
}

// Bytes reads a size as php.ini has it, such as 256M.
func Bytes(text string) (bytes int64, ok bool) {
	text = strings.TrimSpace(strings.ToUpper(text))
	unit := int64(1)
	for suffix, value := range map[string]int64{"K": 1 << 10, "M": 1 << 20, "G": 1 << 30} {
		if rest, cut := strings.CutSuffix(text, suffix); cut {
			text, unit = rest, value
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	return n * unit, err == nil
}

// Words say what it is set to.
func (t Setting) Words(s Settings) string { return t.words(s) }

// Set reads a value from text; "" is as usual.
func (s *Settings) Set(name, value string) error {
	for _, t := range Settable {
		if t.Name != name {
			continue
		}
		if next := *s; t.set(&next, value) {
			*s = next
			return nil
		}
		return fmt.Errorf("%s=%s cannot be used: say %s", name, value, t.Form)
	}
	return fmt.Errorf("there is no setting %q", name)
}

// IsSetting tells whether something can be set of a site by that name.
func IsSetting(name string) bool {
	return slices.ContainsFunc(Settable, func(t Setting) bool { return t.Name == name })
}

// named are the settings that have names of their own: what stands in front of them, and their values in words.
func (s Settings) named() map[string]map[string]string {
	switched := map[string]string{}
	for name, yes := range s.Extensions {
		switched[name] = map[bool]string{true: "on", false: "off"}[yes]
	}
	return map[string]map[string]string{"": s.PHP, "extension ": switched, "virtual host, ": s.HostLines}
}

// Equal tells whether two settings say the same.
func (s Settings) Equal(t Settings) bool { return len(s.Differences(t)) == 0 }

// Differences says, a line each, what a change of settings changes.
func (s Settings) Differences(t Settings) []string {
	lines := []string{}
	before, after := s.named(), t.named()
	for _, what := range []string{"", "extension ", "virtual host, "} {
		lines = append(lines, differences(what, before[what], after[what])...)
	}
	for _, each := range Settable {
		if each.same(s) != each.same(t) {
			lines = append(lines, each.label+": "+each.words(t))
		}
	}
	return lines
}

func differences(what string, a, b map[string]string) (lines []string) {
	names := slices.Concat(slices.Collect(maps.Keys(a)), slices.Collect(maps.Keys(b)))
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		before, had := a[name]
		after, has := b[name]
		switch {
		case had && has && before != after:
			lines = append(lines, fmt.Sprintf("%s%s: %s → %s", what, name, oneLine(before), oneLine(after)))
		case has && !had:
			lines = append(lines, fmt.Sprintf("%s%s: %s", what, name, oneLine(after)))
		case had && !has:
			lines = append(lines, fmt.Sprintf("%s%s: back to usual", what, name))
		}
	}
	return lines
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

var directiveName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)

// held are directives that keep a site in its place; Vessik sets them.
var held = []string{"auto_prepend_file", "sendmail_path", "error_log", "sys_temp_dir", "upload_tmp_dir", "session.save_path",
	"open_basedir", "extension_dir", "extension", "zend_extension", "opcache.lockfile_path", "opcache.preload", "opcache.preload_user"}

// CheckSettings returns what is wrong with settings, as far as it can be told without asking an engine. known are the directives and
// extensions of the site's PHP; nil where they have not been read.
func CheckSettings(name string, s Settings, knownDirectives, knownExtensions []string, homeDir string) Problems {
	c := &checker{site: name}
	for _, directive := range slices.Sorted(maps.Keys(s.PHP)) {
		c.directive(name, directive, s.PHP[directive], knownDirectives)
	}
	for _, extension := range slices.Sorted(maps.Keys(s.Extensions)) {
		if len(knownExtensions) > 0 && !slices.Contains(knownExtensions, extension) {
			c.add("extensions."+extension, "choose one of "+strings.Join(knownExtensions, ", ")+", or one that vessik engines extensions lists",
				"this PHP brings no extension %q that can be switched", extension)
		}
	}
	for server := range s.HostLines {
		if server != "nginx" && server != "apache" {
			c.add("host_lines", "say nginx or apache", "%q is not a web server", server)
		}
	}
	for _, each := range Settable {
		each.judge(c, s, homeDir)
	}
	return c.problems
}

func (c *checker) directive(name, directive, value string, known []string) {
	field := "php." + directive
	switch {
	case !directiveName.MatchString(directive):
		c.add(field, "write it as in php.ini, e.g. memory_limit", "%q is not a directive's name", directive)
	case slices.Contains(held, directive):
		c.add(field, "leave it out", "%s keeps the site in its place and is set by Vessik", directive)
	case strings.ContainsAny(value, "\"\n\r\x00"):
		c.add(field, "write it in one line without quotes", "%q cannot stand in php.ini", value)
	case len(known) > 0 && !slices.Contains(known, directive):
		remedy := "see those that there are with: vessik info " + name
		if near := closest(directive, known); near != "" {
			remedy = "did you mean " + near + "?"
		}
		c.add(field, remedy, "this PHP knows no directive %q", directive)
	}
}

func judgeAllow(c *checker, s Settings, homeDir string) {
	for i, entry := range s.Allow {
		dir, place := SharedOf(entry).Folder, SharedOf(entry).Place
		switch {
		case place != "" && (!filepath.IsLocal(place) || filepath.Clean(place) != place || place == "." || UnsafeInPath(place)):
			c.add("allow", "write the place as the path of a folder inside the site's own, such as wp-content/plugins/own",
				"%q cannot be used", place)
		case place != "" && slices.ContainsFunc(s.Allow[:i], func(other string) bool {
			before := SharedOf(other).Place
			return before != "" && (Inside(before, place) || Inside(place, before))
		}):
			c.add("allow", "give each folder a place of its own", "two folders would stand at %s", place)
		case !filepath.IsAbs(dir) || UnsafeInPath(dir):
			c.add("allow", "give an absolute path without quotes, $, \\, ; and braces", "%q cannot be used", dir)
		case Inside(homeDir, dir) || Inside(dir, homeDir) && !Inside(dir, filepath.Join(homeDir, "sites")):
			c.add("allow", "choose a folder outside it", "%s overlaps with the service's home", dir)
		}
	}
}
