// Package helpers tells which local helpers sites have, PHP that stands outside their folders, and has them follow the user's files.
package helpers

import (
	"fmt"
	"strings"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/running"
)

// lookEvery is how often the user's files are looked at.
const lookEvery = 2 * time.Second

// Feature looks after the helpers of one machine's sites.
type Feature struct{ Machine *running.Machine }

// LookAfter has sites see what changes in the user's files, until the service ends.
func (f *Feature) LookAfter() {
	next := time.NewTicker(lookEvery)
	defer next.Stop()
	for before := ""; ; {
		if now := f.state(); now != before && f.lay() {
			before = now
		}
		select {
		case <-next.C:
		case <-f.Machine.Work.Context().Done():
			return
		}
	}
}

// state is another text whenever a helper, or who has it, is another.
func (f *Feature) state() string {
	text := strings.Builder{}
	for _, h := range cms.OwnHelpers(f.Machine.HelpersFolder()) {
		fmt.Fprintf(&text, "%q %q\n", h.Name, h.PHP)
	}
	for _, s := range f.Machine.Registry.All() {
		if len(s.Settings.Helpers) > 0 {
			fmt.Fprintf(&text, "%s %q\n", s.Name, s.Settings.Helpers)
		}
	}
	return text.String()
}

// lay has all sites see the helpers that they have, and no others; ok is false where something is being carried out, and it is to be done
// again.
func (f *Feature) lay() (ok bool) {
	for _, s := range f.Machine.Registry.All() {
		if err := f.Machine.LayHelpers(s); err != nil {
			f.Machine.Log.Warn("lay local helpers", "site", s.Name, "reason", err)
		}
	}
	f.Machine.WhileIdle(func() {
		for _, s := range f.Machine.Registry.All() {
			f.Machine.ForgetHelpers(s)
		}
		ok = true
	})
	return ok
}

// List is the helpers that a site may have, and those that it has.
func (f *Feature) List(name string) ([]wire.Helper, error) {
	s, known := f.Machine.Registry.Site(site.ASCII(name))
	if !known {
		return nil, site.NoSite(name)
	}
	on := map[string]bool{}
	for _, each := range s.Settings.Helpers {
		on[each] = true
	}
	all := []wire.Helper{}
	for _, h := range f.Machine.Helpers(s) {
		all = append(all, wire.Helper{Name: h.Name, About: h.About, Path: h.Path, On: on[h.Name]})
		delete(on, h.Name)
	}
	for _, each := range s.Settings.Helpers {
		if on[each] {
			all = append(all, wire.Helper{Name: each, On: true, Missing: true})
		}
	}
	return all, nil
}
