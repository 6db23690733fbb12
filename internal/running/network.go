package running

import (
	"net"
	"net/netip"
	"sync"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/site"
	"vessik/internal/names"
)

// network is what a site may reach: of this machine its database, its own port and the gateway; other machines, unless it works
// offline.
func (m *Machine) network(s site.Site) *cell.Network {
	here := []int{m.DatabasePort(s.Stack.Database), s.Port, m.GatewayPort()}
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
		Reach: func(to netip.AddrPort) (netip.AddrPort, bool) {
			if thisMachine(to.Addr()) {
				return to, to.Addr().IsLoopback() && ports[to.Port()]
			}
			return to, !s.Settings.Offline
		},
		Names: func(packets net.PacketConn, streams net.Listener) {
			names.Resolve(packets, streams, func(name string) bool {
				_, known := m.Registry.ByHost(name, time.Now())
				return known
			}, s.Settings.Offline)
		}}
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
