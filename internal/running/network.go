package running

import (
	"net"
	"net/netip"
	"sync"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/outgoing"
	"vessik/internal/core/site"
	"vessik/internal/names"
)

// Ledger is told what sites ask of other machines, and waits for nothing.
type Ledger interface {
	// Found is told of a name that a site looked up, or may not look up, and where it leads.
	Found(site, host string, addresses []netip.Addr, may bool)
	// Hosts are the names by which a site looked an address up.
	Hosts(site string, address netip.Addr) []string
	// Asked is told of a connection, before it is made; ended, later, how it went.
	Asked(site string, to netip.AddrPort, fate Fate) (ended func(took time.Duration, fault error))
}

// Fate is what becomes of what a site asks of another machine.
type Fate int

// It is let through, refused, or led to the mailbox.
const (
	Through Fate = iota
	Refused
	Caught
)

// network is what a site may reach: of this machine its database, its own port and the gateway; of other machines what its policy says,
// as it is at that moment.
func (m *Machine) network(s site.Site) *cell.Network {
	here := []int{m.DatabasePort(s.Stack.Database), s.Port, m.Gateway().HTTP, m.Gateway().HTTPS}
	if s.Settings.Xdebug > 0 {
		here = append(here, s.Settings.Xdebug)
	}
	ports := map[uint16]bool{}
	for _, port := range here {
		if port > 0 {
			ports[uint16(port)] = true
		}
	}
	return &cell.Network{
		Reach: func(to netip.AddrPort) cell.Route {
			if to.Addr().IsLoopback() && ports[to.Port()] {
				return cell.Route{To: to}
			}
			return m.route(s, to)
		},
		Names: func(packets net.PacketConn, streams net.Listener) {
			names.Resolve(packets, streams, names.Asked{
				Ours: func(name string) bool {
					_, known := m.Registry.ByHost(name, time.Now())
					return known
				},
				May:   func(name string) bool { return m.policy(s).Name(name) },
				Found: func(name string, addresses []netip.Addr, may bool) { m.Ledger.Found(s.Name, name, addresses, may) },
			})
		}}
}

// policy is a site's as it is now: it holds for what runs already.
func (m *Machine) policy(s site.Site) outgoing.Policy {
	if now, known := m.Registry.Site(s.Name); known {
		s = now
	}
	return s.Settings.Policy()
}

// proving is the address that the check of the mail has a site send to; nobody else is there (RFC 5737).
var proving = netip.AddrFrom4([4]byte{192, 0, 2, 25})

// route is for what is not the site's own on this machine.
func (m *Machine) route(s site.Site, to netip.AddrPort) cell.Route {
	if port, is := m.mailPort(s.Name, to.Port()); is {
		if port == 0 {
			return cell.Route{}
		}
		led := cell.Route{To: netip.AddrPortFrom(loopbackOf(to.Addr()), uint16(port))}
		if to.Addr() != proving {
			led.Ended = m.Ledger.Asked(s.Name, to, Caught)
		}
		return led
	}
	policy := m.policy(s)
	if to.Port() == 53 && !m.Abilities.Namespaces && policy.Usual != outgoing.Closed && !thisMachine(to.Addr()) {
		return cell.Route{To: to} // without cells of their own, sites ask this machine's name servers
	}
	may := false
	if thisMachine(to.Addr()) {
		may = policy.Here(to) && to.Addr().IsLoopback() && !m.Kept(int(to.Port()))
	} else {
		may = policy.Connection(m.Ledger.Hosts(s.Name, to.Addr()), to)
	}
	if !may {
		m.Ledger.Asked(s.Name, to, Refused)
		return cell.Route{}
	}
	return cell.Route{To: to, Ended: m.Ledger.Asked(s.Name, to, Through)}
}
func (m *Machine) mailPort(name string, to uint16) (port int, is bool) {
	if m.MailPort == nil {
		return 0, false
	}
	return m.MailPort(name, to)
}

// loopbackOf is this machine's own address of an address's family.
func loopbackOf(address netip.Addr) netip.Addr {
	if address.Is6() {
		return netip.IPv6Loopback()
	}
	return netip.AddrFrom4([4]byte{127, 0, 0, 1})
}

var own struct {
	mu        sync.Mutex
	asked     time.Time
	addresses map[netip.Addr]bool
}

// thisMachine tells whether an address leads to this machine: any of its own would reach what listens on all of them.
func thisMachine(address netip.Addr) bool {
	if address.IsLoopback() || address.IsUnspecified() || address.IsMulticast() || address.IsLinkLocalUnicast() {
		return true
	}
	own.mu.Lock()
	defer own.mu.Unlock()
	if time.Since(own.asked) > 5*time.Second {
		own.asked, own.addresses = time.Now(), map[netip.Addr]bool{}
		found, _ := net.InterfaceAddrs()
		for _, each := range found {
			if network, ok := each.(*net.IPNet); ok {
				if known, ok := netip.AddrFromSlice(network.IP); ok {
					own.addresses[known.Unmap()] = true
				}
			}
		}
	}
	return own.addresses[address.Unmap()]
}
