package running

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"vessik/internal/authority"
	"vessik/internal/ownfile"
)

// machineAuthorities are those that Debian's programs believe.
const machineAuthorities = "/etc/ssl/certs/ca-certificates.crt"

// Trusted is the file of all authorities that sites believe: the machine's, and the home's own.
func (m *Machine) Trusted() string { return m.Home.Path("run", "authorities.pem") }

// LayAuthorities writes that file.
func (m *Machine) LayAuthorities() error {
	bundle, err := authority.Bundle(machineAuthorities, append([]*authority.Authority{m.Authority}, m.MailAuthorities...)...)
	if err != nil {
		return err
	}
	if err := ownfile.Make(filepath.Dir(m.Trusted()), 0o700); err != nil {
		return err
	}
	file, err := ownfile.OpenFile(m.Trusted(), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644) // the file itself is in the cells that run
	if err == nil {
		_, err = file.Write(bundle)
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		return fmt.Errorf("write which authorities sites believe: %w", err)
	}
	return nil
}

// TLS is how the service's own requests to sites believe what the gateway shows, and nothing else.
func (m *Machine) TLS() *tls.Config {
	pool := x509.NewCertPool()
	if root, err := m.Authority.Root(); err == nil {
		pool.AddCert(root)
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}
}
