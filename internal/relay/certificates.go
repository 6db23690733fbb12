package relay

import (
	"context"
	"crypto/tls"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"
)

// Pair is a certificate and its key in two files, which are read again when they change.
type Pair struct {
	Certificate, Key string

	mu     sync.Mutex
	read   time.Time // when the certificate's file was written that is in memory
	loaded *tls.Certificate
}

// Get is for tls.Config.GetCertificate. What cannot be read leaves the one that was read before.
func (p *Pair) Get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	info, err := os.Stat(p.Certificate)
	if err == nil && (p.loaded == nil || !info.ModTime().Equal(p.read)) {
		var pair tls.Certificate
		if pair, err = tls.LoadX509KeyPair(p.Certificate, p.Key); err == nil {
			p.loaded, p.read = &pair, info.ModTime()
		}
	}
	if p.loaded != nil {
		return p.loaded, nil
	}
	return nil, err
}

// ACME gets certificates by RFC 8555 for the relay's host and for the addresses that it lends, and for nothing else.
func (r *Relay) ACME(directory, cache string) *tls.Config {
	manager := &autocert.Manager{Prompt: autocert.AcceptTOS, Cache: autocert.DirCache(cache), Client: &acme.Client{DirectoryURL: directory},
		HostPolicy: func(_ context.Context, host string) error {
			label, below := strings.CutSuffix(host, "."+r.Domain)
			r.mu.Lock()
			defer r.mu.Unlock()
			if host == r.Domain || below && r.lent[label] != nil {
				return nil
			}
			return fmt.Errorf("%q is not lent", host)
		}}
	settings := manager.TLSConfig()
	settings.MinVersion, settings.NextProtos = tls.VersionTLS12, []string{"http/1.1", acme.ALPNProto}
	return settings
}
