package gateway

import (
	"crypto/tls"
	"fmt"
	"net"
	"slices"
	"strings"

	"vessik/internal/core/site"
)

// Secured has listeners speak TLS, 1.2 or newer, with HTTP/2 where the visitor knows it.
func (g *Gateway) Secured(listeners []net.Listener) []net.Listener {
	// What goes no further than this machine is not kept by anybody for later: a quick key exchange will do, and whole records.
	settings := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, DynamicRecordSizingDisabled: true,
		CurvePreferences: []tls.CurveID{tls.X25519, tls.CurveP256},
		GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
			names, err := g.certified(hostOf(hello.ServerName))
			if err != nil {
				return nil, err
			}
			return g.Sites.Certificate(names)
		}}
	secured := make([]net.Listener, len(listeners))
	for i, each := range listeners {
		secured[i] = tls.NewListener(each, settings)
	}
	return secured
}

// certified are the names in the certificate for a host: all of its site. One of no site is told so below localhost, where it leads here.
func (g *Gateway) certified(host string) ([]string, error) {
	s, known := g.Sites.ByDomain(host)
	switch {
	case !known && (site.LocalEnding(host) || host == "localhost"):
		return []string{host}, nil
	case !known:
		return nil, fmt.Errorf("no site is called %q", host)
	}
	names := s.Hosts()
	if s.Network == site.NetworkDomains {
		names = append(names, "*."+s.Domain)
	}
	if !slices.ContainsFunc(names, func(name string) bool { return covers(name, host) }) {
		names = append(names, host)
	}
	return names, nil
}

// covers tells whether a name in a certificate is good for a host (RFC 9525, section 6.3).
func covers(name, host string) bool {
	_, parent, _ := strings.Cut(host, ".")
	return name == host || name == "*."+parent
}
