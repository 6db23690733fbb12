package provision

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/names"
)

// resolverPorts are where the responder for names listens.
var resolverPorts = [2]int{20053, 20069}

// foreignDomains are those of sites that this machine does not find by itself.
func (p *Provisioner) foreignDomains() []string {
	domains := []string{}
	for _, s := range p.Sites() {
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

// openNames starts the responder, and takes the hosts file in hand where the user allowed it.
func (p *Provisioner) openNames() {
	served := func(name string) bool {
		return slices.ContainsFunc(p.foreignDomains(), func(domain string) bool { return ending(name) == ending(domain) })
	}
	knows := func(name string) bool {
		_, known := p.ByDomain(name)
		return known
	}
	var err error
	if p.responder, err = names.Respond(resolverPorts[0], resolverPorts[1], knows, served); err != nil {
		p.Log.Warn("no responder for names", "reason", err)
	}
	p.work.Go(p.keepHosts)
}

func ending(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

// keepHosts has the block in the hosts file follow the sites, as long as the user allows it.
func (p *Provisioner) keepHosts() {
	for {
		changed := p.Changed()
		p.syncHosts()
		select {
		case <-p.context.Done():
			return
		case <-changed:
		case <-p.hostsAsked:
		}
		select { // many changes at once are one
		case <-p.context.Done():
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// syncHosts has the block say what the sites are now.
func (p *Provisioner) syncHosts() {
	p.hostsMu.Lock()
	defer p.hostsMu.Unlock()
	if !p.hostsAllowed() || p.hostsHandle == nil {
		p.hostsWritten = ""
		return
	}
	block := names.Block(p.foreignDomains())
	if seen := "written: " + block; seen != p.hostsWritten {
		if err := names.Write(p.hostsHandle, block); err != nil {
			p.Log.Error("write the hosts file", "reason", err)
		}
		p.hostsWritten = seen
	}
}

// finds tells whether a domain leads to this machine.
func (p *Provisioner) finds(domain string) bool {
	if site.LocalEnding(domain) {
		return true
	}
	p.syncHosts()
	return names.Finds(p.HostsFile, domain)
}

// keepsHosts tells whether the service keeps the block in the hosts file.
func (p *Provisioner) keepsHosts() bool {
	p.hostsMu.Lock()
	defer p.hostsMu.Unlock()
	return p.hostsHandle != nil && p.hostsAllowed()
}

func (p *Provisioner) hostsAllowed() bool {
	p.settingsMu.Lock()
	defer p.settingsMu.Unlock()
	return p.settings.HostsAllowed
}

// OpenHosts opens a hosts file for the service, as long as it may: before root becomes another account. Nothing is written.
func OpenHosts(file string) *os.File {
	opened, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		return nil
	}
	return opened
}

// Hosts says which domains this machine has to be told of, and whether it has been.
func (p *Provisioner) Hosts() wire.HostsPage {
	page := wire.HostsPage{File: p.HostsFile, Domains: p.foreignDomains(), Allowed: p.hostsAllowed(), NotFound: []string{}}
	page.Block = names.Block(page.Domains)
	current, err := names.Current(p.HostsFile)
	page.Current = current == page.Block
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		page.Fault = err.Error()
	}
	p.hostsMu.Lock()
	page.Writable = p.hostsHandle != nil
	p.hostsMu.Unlock()
	if p.responder != nil {
		page.Resolver = fmt.Sprintf("127.0.0.1:%d", p.responder.Port)
	}
	for _, domain := range page.Domains {
		if !names.Finds(p.HostsFile, domain) {
			page.NotFound = append(page.NotFound, domain)
		}
		if end := ending(domain); !slices.Contains(page.Endings, end) {
			page.Endings = append(page.Endings, end)
		}
	}
	return page
}

// AllowHosts records whether the service may keep its block in the hosts file, and writes or removes the block where it can.
func (p *Provisioner) AllowHosts(allow bool) error {
	p.hostsMu.Lock()
	defer p.hostsMu.Unlock()
	if p.hostsHandle == nil {
		p.hostsHandle = OpenHosts(p.HostsFile)
	}
	if p.hostsHandle != nil {
		block := ""
		if allow {
			block = names.Block(p.foreignDomains())
		}
		if err := names.Write(p.hostsHandle, block); err != nil {
			return site.Problems{{Field: "allow", Message: err.Error(), Remedy: "mend the file, then ask again"}}
		}
	}
	p.settingsMu.Lock()
	p.settings.HostsAllowed = allow
	err := p.Home.WriteSettings(p.settings)
	p.settingsMu.Unlock()
	select {
	case p.hostsAsked <- struct{}{}:
	default:
	}
	return err
}
