// Package facts is what requests are judged by: the sites that there are, and what this machine has for new ones.
package facts

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/origin"
	"vessik/internal/ownfile"
	"vessik/internal/running"
)

// Facts gathers what is known at one moment.
type Facts struct {
	Machine *running.Machine
	Origins *origin.Origins
	APIPort int
}

// ports are those of this machine that the service itself has, and for what.
func (f *Facts) ports() map[int]string {
	settings := f.Machine.Book.Settings()
	kept := map[int]string{f.Machine.Gateway().HTTP: "the gateway", f.Machine.Gateway().HTTPS: "the gateway", f.APIPort: "its API and console"}
	if settings.IMAPPort != 0 {
		kept[settings.IMAPPort] = "mail programs"
	}
	for id, port := range settings.Ports {
		kept[port] = id
	}
	return kept
}

// Kept tells whether a port of this machine is the service's or some site's.
func (f *Facts) Kept(port int) bool {
	return f.ports()[port] != "" || slices.ContainsFunc(f.Machine.Registry.All(), func(s site.Site) bool { return s.Port == port })
}

// Now is what requests are judged by.
func (f *Facts) Now() site.Facts {
	definitions, roots, touches := f.Machine.CMS.Definitions(), map[string]string{}, map[string][]site.TouchFact{}
	own := cms.OwnTouches(f.Origins.TouchFolder())
	for name, k := range definitions {
		roots[name] = k.Layout.DocumentRoot
		for _, t := range append(slices.Clone(k.Touches), own...) {
			touches[name] = append(touches[name], t.Facts())
		}
	}
	networks := map[string][]string{}
	for name, k := range definitions {
		networks[name] = k.Network.Modes
	}
	return site.Facts{Home: f.Machine.Home.Dir, Sites: f.Machine.Registry.All(), Defaults: f.Defaults(),
		Engines: f.Engines(), Releases: f.Origins.Releases(), OnShelf: f.Origins.OnShelf,
		CMSNames: definitions.Names(), Supports: definitions.Bear, Roots: roots, Touches: touches, Networks: networks,
		Languages: f.Origins.LanguagesOf,
		Found:     f.Origins.Inspect,
		KeptPorts: f.ports(), PortRange: f.PortRange(), FirstPort: engine.FirstUnprivilegedPort(), PortHolder: engine.PortHolder,
		FolderFault: folderFault}
}

// Engines are those that a request may name, by kind, the usual one first.
func (f *Facts) Engines() map[string][]site.EngineFact {
	versions := map[string]string{}
	for _, e := range f.Machine.Store.List() {
		versions[e.ID] = e.Version
	}
	facts := map[string][]site.EngineFact{}
	for _, row := range f.Machine.Store.Rows() {
		facts[string(row.Kind)] = append(facts[string(row.Kind)], site.EngineFact{ID: row.ID, Version: versions[row.ID], Age: row.Age()})
	}
	return facts
}

// Endings are those that the home's certificate authority is to sign for.
func (f *Facts) Endings() []string {
	endings := []string{"localhost", "test"}
	if ending := strings.TrimPrefix(f.Defaults().Ending, "."); ending != "" {
		endings = append(endings, site.Ending(ending))
	}
	for _, s := range f.Machine.Registry.All() {
		for _, host := range s.Hosts() {
			endings = append(endings, site.Ending(host))
		}
	}
	slices.Sort(endings)
	return slices.Compact(endings)
}

// PortRange is where sites get their own ports from.
func (f *Facts) PortRange() [2]int {
	if asked := f.Machine.Book.Settings().PortRange; asked[0] != 0 {
		return asked
	}
	return site.PortRange
}

// folderFault says why a folder cannot become a site's, as this account sees it.
func folderFault(folder string) string {
	info, err := os.Stat(folder)
	switch {
	case err == nil && !info.IsDir():
		return folder + " is a file"
	case err == nil:
		entries, err := ownfile.List(folder)
		if err != nil {
			return folder + " cannot be read by the service's account"
		}
		if len(entries) > 0 {
			return folder + " is not empty"
		}
	case !errors.Is(err, os.ErrNotExist):
		return fmt.Sprintf("%s cannot be reached by the service's account (%v)", folder, errors.Unwrap(err))
	}
	// An empty folder is replaced by rename: its parent must be writable in either case.
	for parent := filepath.Dir(folder); ; parent = filepath.Dir(parent) {
		if info, err := os.Stat(parent); err == nil {
			const writeAndEnter = 2 | 1
			if !info.IsDir() {
				return parent + " is a file"
			}
			if syscall.Access(parent, writeAndEnter) != nil {
				return parent + " cannot be written to by the service's account"
			}
			return ""
		}
		if parent == filepath.Dir(parent) {
			return folder + " cannot be reached"
		}
	}
}
