// Package hosts has this machine find the domains of sites that it does not find by itself: by a block in its hosts file where the user
// allows that, and by a responder for names.
package hosts

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/home"
	"vessik/internal/names"
	"vessik/internal/ownfile"
	"vessik/internal/running"
)

// Feature is how domains are found on one machine.
type Feature struct {
	Machine *running.Machine
	File    string // the machine's, see hosts(5)

	mu        sync.Mutex
	handle    *os.File // open for writing; nil where the service may not
	asked     chan struct{}
	written   string
	responder *names.Responder
}

// New keeps the block in a file; handle is nil where the service may not write it.
func New(m *running.Machine, file string, handle *os.File) *Feature {
	return &Feature{Machine: m, File: file, handle: handle, asked: make(chan struct{}, 1)}
}

// Close ends the responder.
func (f *Feature) Close() {
	if f.responder != nil {
		f.responder.Close()
	}
}

// resolverPorts are where the responder for names listens.
var resolverPorts = [2]int{20053, 20069}

// foreignDomains are those of sites that this machine does not find by itself.
func (f *Feature) foreignDomains() []string {
	domains := []string{}
	for _, s := range f.Machine.Registry.All() {
		hosts := s.Hosts()
		for _, forward := range s.Forwards {
			hosts = append(hosts, forward.Domain)
		}
		for _, sub := range s.SubSites {
			if s.Network == site.NetworkDomains {
				hosts = append(hosts, sub+"."+s.Domain)
			}
		}
		for _, host := range hosts {
			if !site.LocalEnding(host) {
				domains = append(domains, host)
			}
		}
	}
	slices.Sort(domains)
	return slices.Compact(domains)
}

// Open starts the responder, and takes the hosts file in hand where the user allowed it.
func (f *Feature) Open() {
	served := func(name string) bool {
		return slices.ContainsFunc(f.foreignDomains(), func(domain string) bool { return ending(name) == ending(domain) })
	}
	knows := func(name string) bool {
		_, known := f.Machine.Registry.ByHost(name, time.Now())
		return known
	}
	var err error
	if f.responder, err = names.Respond(resolverPorts[0], resolverPorts[1], knows, served); err != nil {
		f.Machine.Log.Warn("no responder for names", "reason", err)
	}
	f.Machine.Work.Go(f.keep)
}

func ending(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

// keep has the block in the hosts file follow the sites, as long as the user allows it.
func (f *Feature) keep() {
	for {
		changed := f.Machine.Registry.Changed()
		f.sync()
		select {
		case <-f.Machine.Work.Context().Done():
			return
		case <-changed:
		case <-f.asked:
		}
		select { // many changes at once are one
		case <-f.Machine.Work.Context().Done():
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// sync has the block say what the sites are now.
func (f *Feature) sync() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.allowed() || f.handle == nil {
		f.written = ""
		return
	}
	block := names.Block(f.foreignDomains())
	if seen := "written: " + block; seen != f.written {
		if err := names.Write(f.handle, block); err != nil {
			f.Machine.Log.Error("write the hosts file", "reason", err)
		}
		f.written = seen
	}
}

// Finds tells whether a domain leads to this machine.
func (f *Feature) Finds(domain string) bool {
	if site.LocalEnding(domain) {
		return true
	}
	f.sync()
	return names.Finds(f.File, domain)
}

// Keeps tells whether the service keeps the block in the hosts file.
func (f *Feature) Keeps() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.handle != nil && f.allowed()
}

func (f *Feature) allowed() bool {
	return f.Machine.Book.Settings().HostsAllowed
}

// OpenFile opens a hosts file for the service, as long as it may: before root becomes another account. Nothing is written.
func OpenFile(file string) *os.File {
	opened, err := ownfile.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		return nil
	}
	return opened
}

// Page says which domains this machine has to be told of, and whether it has been.
func (f *Feature) Page() wire.HostsPage {
	page := wire.HostsPage{File: f.File, Domains: f.foreignDomains(), Allowed: f.allowed(), NotFound: []string{}}
	page.Block = names.Block(page.Domains)
	current, err := names.Current(f.File)
	page.Current = current == page.Block
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		page.Fault = err.Error()
	}
	f.mu.Lock()
	page.Writable = f.handle != nil
	f.mu.Unlock()
	if f.responder != nil {
		page.Resolver = fmt.Sprintf("127.0.0.1:%d", f.responder.Port)
	}
	for _, domain := range page.Domains {
		if !names.Finds(f.File, domain) {
			page.NotFound = append(page.NotFound, domain)
		}
		if end := ending(domain); !slices.Contains(page.Endings, end) {
			page.Endings = append(page.Endings, end)
		}
	}
	return page
}

// Allow records whether the service may keep its block in the hosts file, and writes or removes the block where it can.
func (f *Feature) Allow(allow bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.handle == nil {
		f.handle = OpenFile(f.File)
	}
	if f.handle != nil {
		block := ""
		if allow {
			block = names.Block(f.foreignDomains())
		}
		if err := names.Write(f.handle, block); err != nil {
			return site.Problems{{Field: "allow", Message: err.Error(), Remedy: "mend the file, then ask again"}}
		}
	}
	err := f.Machine.Book.Edit(func(s *home.Settings) error { s.HostsAllowed = allow; return nil })
	select {
	case f.asked <- struct{}{}:
	default:
	}
	return err
}
