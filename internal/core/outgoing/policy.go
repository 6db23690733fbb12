// Package outgoing says what a site may ask of other machines.
package outgoing

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// What a site may ask of other machines where no entry says otherwise: anything, HTTP and HTTPS on their usual ports, or nothing.
const (
	Open   = "open"
	Web    = "web"
	Closed = "closed"
)

// Policies are all of them, the usual one first.
var Policies = []string{Web, Open, Closed}

var webPorts = []uint16{80, 443}

// Entry names machines, ports of them, or both.
type Entry struct {
	host    string       // lower case; empty for any
	below   bool         // all names below host, not host itself
	network netip.Prefix // not valid for any
	port    uint16       // 0 for any
}

// Form is how entries are written.
const Form = "api.example.org, *.example.org, 203.0.113.0/24 or :8080; a port may follow the first three, as in 127.0.0.1:9200"

var hostName = regexp.MustCompile(`^([a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?\.)*[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// Parse reads an entry, as Form has it.
func Parse(text string) (e Entry, err error) {
	rest := strings.ToLower(strings.TrimSpace(text))
	if network, err := prefix(rest); err == nil {
		return Entry{network: network}, nil
	}
	if i := strings.LastIndexByte(rest, ':'); i >= 0 {
		port, err := strconv.ParseUint(rest[i+1:], 10, 16)
		if err != nil || port == 0 {
			return e, fmt.Errorf("%q has no port from 1 to 65535 behind its colon", text)
		}
		e.port, rest = uint16(port), strings.Trim(rest[:i], "[]")
		if rest == "" {
			return e, nil
		}
	}
	if e.network, err = prefix(rest); err == nil {
		return e, nil
	}
	if rest == "localhost" {
		e.network = netip.PrefixFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), 32)
		return e, nil
	}
	if e.host, e.below = strings.CutPrefix(rest, "*."); !hostName.MatchString(e.host) {
		return Entry{}, fmt.Errorf("%q names no host, network or port", text)
	}
	return e, nil
}

// prefix reads a network, or an address as one.
func prefix(text string) (netip.Prefix, error) {
	if address, err := netip.ParseAddr(text); err == nil {
		address = address.Unmap().WithZone("")
		return netip.PrefixFrom(address, address.BitLen()), nil
	}
	network, err := netip.ParsePrefix(text)
	return network.Masked(), err
}

// names tells whether a host name is one that the entry is about, on whatever port.
func (e Entry) names(host string) bool {
	if e.below {
		return strings.HasSuffix(host, "."+e.host)
	}
	return e.host != "" && e.host == host
}

// covers tells whether a connection is one that the entry is about: to an address that was looked up by some names.
func (e Entry) covers(hosts []string, to netip.AddrPort) bool {
	if e.port != 0 && e.port != to.Port() {
		return false
	}
	return (e.host == "" || slices.ContainsFunc(hosts, e.names)) && (!e.network.IsValid() || e.network.Contains(to.Addr().Unmap()))
}

// Policy is what one site may ask.
type Policy struct {
	Usual         string
	Allow, Refuse []Entry
}

// Of reads a policy; entries that cannot be read are refused before they are kept, and count as none here.
func Of(usual string, allow, refuse []string) Policy {
	p := Policy{Usual: usual}
	for to, texts := range map[*[]Entry][]string{&p.Allow: allow, &p.Refuse: refuse} {
		for _, text := range texts {
			if e, err := Parse(text); err == nil {
				*to = append(*to, e)
			}
		}
	}
	return p
}

// Name tells whether a name may be looked up: unless it is refused whole, and where nothing is open, if some entry is about it.
func (p Policy) Name(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	about := func(e Entry) bool { return e.names(host) }
	if slices.ContainsFunc(p.Refuse, func(e Entry) bool { return e.port == 0 && e.names(host) }) {
		return false
	}
	return p.Usual != Closed || slices.ContainsFunc(p.Allow, about) ||
		slices.ContainsFunc(p.Allow, func(e Entry) bool { return e.host == "" }) // a network or a port: some name may lead there
}

// Connection tells whether another machine may be connected to, whose address was looked up by some names, or by none.
func (p Policy) Connection(hosts []string, to netip.AddrPort) bool {
	covers := func(e Entry) bool { return e.covers(hosts, to) }
	switch {
	case slices.ContainsFunc(p.Refuse, covers):
		return false
	case slices.ContainsFunc(p.Allow, covers):
		return true
	}
	return p.Usual == Open || p.Usual != Closed && slices.Contains(webPorts, to.Port())
}

// Own is the port of this machine that an entry opens to a site; 0 for none.
func (e Entry) Own() int {
	if e.port != 0 && e.network.IsValid() && e.network.Addr().IsLoopback() && e.network.IsSingleIP() {
		return int(e.port)
	}
	return 0
}

// Here tells whether a port of this machine is open to the site beside its own: one that an entry names with its address.
func (p Policy) Here(to netip.AddrPort) bool {
	return slices.ContainsFunc(p.Allow, func(e Entry) bool {
		return e.Own() != 0 && e.covers(nil, to)
	})
}
