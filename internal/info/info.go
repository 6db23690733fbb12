// Package info asks sites what they run on, and with which settings in effect.
package info

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/running"
	"vessik/internal/verify"
)

// Feature asks the sites of one machine.
type Feature struct {
	Machine  *running.Machine
	Verifier *verify.Verifier
}

// Info asks a site, through a request that it serves, on what it runs and with which settings in effect.
func (f *Feature) Info(ctx context.Context, name string) (wire.Info, error) {
	s, ok := f.Machine.Registry.Site(name)
	if !ok {
		return wire.Info{}, site.NoSite(name)
	}
	if s.State != site.Running {
		return wire.Info{}, site.NotRunning(s)
	}
	answer, server, err := f.Verifier.Ask(ctx, s)
	if err != nil {
		return wire.Info{}, fmt.Errorf("the site does not answer: %w; see why with: vessik verify %s", err, name)
	}
	info := wire.Info{Site: name, At: time.Now().UTC().Truncate(time.Second), Entries: []wire.InfoEntry{}}
	add := func(section, name, value string) {
		info.Entries = append(info.Entries, wire.InfoEntry{Section: section, Name: name, Value: value})
	}
	all := func(section string, values map[string]string) {
		for _, name := range slices.Sorted(maps.Keys(values)) {
			add(section, name, values[name])
		}
	}
	add("stack", "PHP", answer.PHP)
	add("stack", "web server", server)
	add("stack", "database server", answer.Database)
	for _, id := range s.Stack.IDs() {
		if e, err := f.Machine.Store.Find(id); err == nil {
			add("stack", "engine "+id, e.Version+", from "+e.From())
		}
	}
	all("PHP", answer.About)
	all("extensions", answer.Extensions)
	all("php.ini", answer.Settings)
	all("database variables", answer.Variables)
	for number, line := range strings.Split(strings.TrimRight(f.Machine.VirtualHost(s).Text, "\n"), "\n") {
		add("virtual host", fmt.Sprintf("line %03d", number+1), line)
	}
	return info, nil
}
