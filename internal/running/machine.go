// Package running is what runs for sites: their PHP, their web servers, the database servers that they share, what each may take and
// reach, and their rest. It knows nothing of operations but the steps that start and stop things.
package running

import (
	"context"
	"log/slog"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/authority"
	"vessik/internal/background"
	"vessik/internal/cell"
	"vessik/internal/cms"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/home"
	"vessik/internal/picture"
	"vessik/internal/proc"
	"vessik/internal/registry"
)

// Machine is what runs on this machine for one home's sites.
type Machine struct {
	Home       home.Home
	Book       *home.Book
	Store      engine.Store
	Abilities  cell.Abilities
	Supervisor *proc.Supervisor
	Bell       *engine.Doorbell
	Registry   *registry.Registry
	CMS        *cms.Library
	Work       *background.Work
	Pictures   picture.Taker
	Authority  *authority.Authority
	// MailAuthorities are believed by sites alone; MailPort is where a site's connection to a port of a mail server leads, 0 for nowhere.
	MailAuthorities []*authority.Authority
	MailPort        func(name string, to uint16) (port int, is bool)
	// Ledger is told what sites ask of other machines. Kept tells whether a port of this machine is the service's own, or another site's.
	Ledger Ledger
	Kept   func(port int) bool
	Log    *slog.Logger

	// Failed is told of a site that cannot be kept running, and why.
	Failed func(name string, reason error)
	// Busy tells whether an operation works on a site, WhileIdle does something short while none is carried out; Each does something
	// for many sites side by side.
	Busy      func(name string) bool
	WhileIdle func(do func())
	Each      func(names []string, do func(name string))
	// FreePort is one that a site may have, 0 where none is left.
	FreePort func() int
	// Reloaded is told when web servers have other virtual hosts than before; nil for nobody.
	Reloaded func()

	databases *Servers[*engine.DatabaseServer]
	webs      *Servers[*engine.WebServer]
	met       map[int]limitsMet // by the first process of a cell; of the look every second alone

	mu          sync.Mutex // held for moments only
	masters     map[string]*engine.PHPMaster
	full        map[string]bool         // sites whose folder has reached its limit
	wokenByTask map[string]time.Time    // sites whose PHP runs for a scheduled task only
	settling    bool                    // sites are being brought up
	held        map[string]net.Listener // ports of sites that are being made, kept from others until the web server takes them
}

// Open makes a machine ready on which nothing runs yet: it is settling until BringUp is done.
func (m *Machine) Open() {
	m.databases, m.webs = New(m.startDatabase), New(m.openWeb)
	m.masters, m.full, m.wokenByTask = map[string]*engine.PHPMaster{}, map[string]bool{}, map[string]time.Time{}
	m.held, m.met, m.settling = map[string]net.Listener{}, map[int]limitsMet{}, true
}

// Close stops everything that was started for sites.
func (m *Machine) Close() {
	m.Pictures.Close()
	m.mu.Lock()
	masters, held := slices.Collect(maps.Values(m.masters)), slices.Collect(maps.Keys(m.held))
	m.mu.Unlock()
	m.LetGo(held...)
	m.webs.Close()
	var group sync.WaitGroup
	for _, master := range masters {
		group.Go(master.Stop)
	}
	group.Wait()
	m.databases.Close()
}

// Gateway is where every site's URL leads.
func (m *Machine) Gateway() site.Gateway { return m.Book.Gateway() }

// URL is where a site's own addresses begin: its URL without the last slash.
func (m *Machine) URL(s site.Site) string { return strings.TrimSuffix(s.URL(m.Gateway()), "/") }

// Running is the process ids of running engines, by engine.
func (m *Machine) Running() map[string][]int {
	running := map[string][]int{}
	for id, d := range m.databases.All() {
		running[id] = append(running[id], d.PID())
	}
	for id, w := range m.webs.All() {
		running[id] = append(running[id], w.Processes()...)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for name, master := range m.masters {
		if pid := master.PID(); pid != 0 {
			s, _ := m.Registry.Site(name)
			running[s.Stack.PHP] = append(running[s.Stack.PHP], pid)
		}
	}
	return running
}

// BringUp starts sites that are laid out already: PHP for each, then one reload of each web server for all.
func (m *Machine) BringUp(ctx context.Context, names []string) map[string]error {
	var mu sync.Mutex
	failed := map[string]error{}
	note := func(name string, err error) {
		mu.Lock()
		defer mu.Unlock()
		failed[name] = err
	}
	m.Each(names, func(name string) {
		s, ok := m.Registry.Site(name)
		if !ok {
			return
		}
		if _, err := m.Database(ctx, s.Stack.Database); err != nil {
			note(name, err)
			return
		}
		if err := m.OpenPHP(s); err != nil {
			note(name, err)
		}
	})
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return failed[name] != nil })
	for name, err := range m.Publish(ctx, names) {
		note(name, err)
	}
	return failed
}

// Settling tells whether a service that was started is still bringing its home back to where it was.
func (m *Machine) Settling() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.settling
}

// Settled says that all sites that ran before have been brought up, or failed.
func (m *Machine) Settled() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.settling = false
}
