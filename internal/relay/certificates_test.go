package relay

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/authority"
)

// A certificate that was renewed is shown without a new start; one that cannot be read leaves what was there.
func TestACertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	p := &Pair{Certificate: filepath.Join(dir, "guests.pem"), Key: filepath.Join(dir, "guests.key")}
	_, err := p.Get(nil)
	require.Error(t, err)
	write := func(at time.Time) (serial string) {
		made, err := authority.ForAddress(net.IPv4(127, 0, 0, 1), time.Now().Add(time.Hour))
		require.NoError(t, err)
		key, err := x509.MarshalPKCS8PrivateKey(made.PrivateKey)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(p.Key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), 0o600))
		require.NoError(t, os.WriteFile(p.Certificate, authority.PEM(made.Leaf), 0o600))
		require.NoError(t, os.Chtimes(p.Certificate, at, at))
		return made.Leaf.SerialNumber.String()
	}
	shown := func() string {
		pair, err := p.Get(nil)
		require.NoError(t, err)
		return pair.Leaf.SerialNumber.String()
	}
	now := time.Now()
	assert.Equal(t, write(now.Add(-time.Hour)), shown())
	second := write(now)
	assert.Equal(t, second, shown())
	require.NoError(t, os.WriteFile(p.Certificate, []byte("half of"), 0o600))
	assert.Equal(t, second, shown())
	require.NoError(t, os.Remove(p.Certificate))
	assert.Equal(t, second, shown())
}

// No certificate is asked of an authority but for what is lent: who asks for other names costs nothing.
func TestCertificatesAreForWhatIsLent(t *testing.T) {
	d := rent(t)
	settings := d.ACME("https://127.0.0.1:1/directory", t.TempDir())
	for _, name := range []string{"roses.guests.localhost", "elsewhere.example", "a.orchard-days.guests.localhost"} {
		_, err := settings.GetCertificate(&tls.ClientHelloInfo{ServerName: name})
		require.ErrorContains(t, err, "is not lent", name)
	}
	d.lent["orchard-days"] = &address{label: "orchard-days"}
	_, err := settings.GetCertificate(&tls.ClientHelloInfo{ServerName: "orchard-days.guests.localhost"})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "is not lent", "the authority is asked")
}
