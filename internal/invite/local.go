package invite

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"time"

	"golang.org/x/net/netutil"

	"vessik/internal/authority"
	"vessik/internal/core/site"
)

// mostLocal is how many connections of the local network are held at a time.
const mostLocal = 200

// local is an address in the local network.
type local struct {
	server      *http.Server
	fingerprint string
}

func (l *local) close() { l.server.Close() }

// lendLocally opens a port on one of this machine's own addresses. The certificate is made for this address alone: guests are told its
// fingerprint, since no authority vouches for it.
func (f *Feature) lendLocally(s site.Site, o *opened, asked string) error {
	address, err := addressOf(asked)
	if err != nil {
		return err
	}
	certificate, err := authority.ForAddress(address, o.Until)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(address.String(), "0"))
	if err != nil {
		return problem("lan", "no port can be opened at "+address.String()+": "+err.Error(), "name another address of this machine")
	}
	o.Bases[s.Domain] = "https://" + listener.Addr().String()
	l := &local{fingerprint: authority.Fingerprint(certificate.Leaf), server: &http.Server{Handler: f.Guests,
		ReadHeaderTimeout: 30 * time.Second,
		IdleTimeout:       2 * time.Minute, ErrorLog: log.New(io.Discard, "", 0)}}
	o.lan = l
	secure := tls.NewListener(netutil.LimitListener(listener, mostLocal), &tls.Config{MinVersion: tls.VersionTLS12,
		NextProtos: []string{"h2", "http/1.1"}, Certificates: []tls.Certificate{*certificate}})
	f.Machine.Work.Go(func() {
		if err := l.server.Serve(secure); !errors.Is(err, http.ErrServerClosed) {
			f.Machine.Log.Warn("an address in the local network ended", "reason", err)
		}
	})
	return nil
}

// addressOf is the address of this machine that is named, or the first of an interface.
func addressOf(asked string) (net.IP, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	names := []string{}
	for _, each := range all {
		addresses, err := each.Addrs()
		if err != nil {
			continue
		}
		for _, address := range addresses {
			network, ok := address.(*net.IPNet)
			if !ok || network.IP.IsLinkLocalUnicast() {
				continue
			}
			if each.Name == asked || network.IP.String() == asked {
				return network.IP, nil
			}
			names = append(names, fmt.Sprintf("%s (%s)", network.IP, each.Name))
		}
	}
	return nil, problem("lan", fmt.Sprintf("%q is no address and no interface of this machine", asked), "name one of "+strings.Join(names,
		", "))
}
