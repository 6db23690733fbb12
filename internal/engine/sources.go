package engine

import (
	"cmp"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// sources are the addresses of Debian's archive as this machine is set up to use it.
type sources struct{ main, security, keyring string }

// machineSources reads the machine's own apt sources (sources.list(5), both formats): no address is written down here.
func machineSources(dir string) (sources, error) {
	found := sources{keyring: keyring}
	note := func(address string, suites []string, components []string) {
		u, err := url.Parse(address)
		if err != nil || u.Scheme == "" || !slices.Contains(components, "main") {
			return
		}
		for _, suite := range suites {
			base, part, _ := strings.Cut(strings.TrimSuffix(suite, "/updates"), "-")
			if !slices.Contains([]string{"bullseye", "bookworm", "trixie", "forky", "sid", "stable", "oldstable", "testing", "unstable"}, base) {
				continue
			}
			if part == "security" && found.security == "" {
				found.security = address
			}
			if part == "" && found.main == "" {
				found.main = address
			}
		}
	}
	lists, _ := filepath.Glob(filepath.Join(dir, "sources.list.d", "*"))
	for _, path := range append([]string{filepath.Join(dir, "sources.list")}, lists...) {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		switch filepath.Ext(path) {
		case ".list":
			for line := range strings.Lines(string(text)) {
				if rest, ok := strings.CutPrefix(strings.TrimSpace(line), "deb "); ok {
					if i := strings.Index(rest, "]"); strings.HasPrefix(strings.TrimSpace(rest), "[") && i > 0 {
						rest = rest[i+1:]
					}
					if fields := strings.Fields(rest); len(fields) >= 3 {
						note(fields[0], fields[1:2], fields[2:])
					}
				}
			}
		case ".sources":
			for stanza := range strings.SplitSeq(string(text), "\n\n") {
				values := map[string]string{}
				for line := range strings.Lines(stanza) {
					if key, value, ok := strings.Cut(line, ":"); ok && !strings.HasPrefix(line, "#") {
						values[strings.ToLower(strings.TrimSpace(key))] = strings.TrimSpace(value)
					}
				}
				if slices.Contains(strings.Fields(values["types"]), "deb") && values["enabled"] != "no" {
					for _, address := range strings.Fields(values["uris"]) {
						note(address, strings.Fields(values["suites"]), strings.Fields(values["components"]))
					}
				}
			}
		}
	}
	if found.main == "" {
		return found, fmt.Errorf("no Debian archive in this machine's apt sources (%s): add one, see sources.list(5)", dir)
	}
	if _, err := os.Stat(keyring); err != nil {
		return found, fmt.Errorf("Debian's signing keys are missing: install the package debian-archive-keyring (%w)", err)
	}
	return found, nil
}

func (s sources) list(generation string) string {
	text := fmt.Sprintf("deb [signed-by=%s] %s %s main\n", s.keyring, s.main, generation)
	if s.security != "" {
		text += fmt.Sprintf("deb [signed-by=%s] %s %s-security main\n", s.keyring, s.security, generation)
	}
	return text
}

// Archive is the address of Debian's archive as this machine's own apt sources have it.
func (s Store) Archive() (string, error) {
	found, err := machineSources(cmp.Or(s.Sources, "/etc/apt"))
	return found.main, err
}
