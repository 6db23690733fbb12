package authority

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func opened(t *testing.T, dir string, endings ...string) *Authority {
	a, err := Open(dir)
	require.NoError(t, err)
	a.Endings = func() []string { return endings }
	return a
}

// judge verifies a certificate for a host as a program would that trusts a root.
func judge(root, leaf *x509.Certificate, host string, at time.Time) error {
	pool := x509.NewCertPool()
	pool.AddCert(root)
	_, err := leaf.Verify(x509.VerifyOptions{DNSName: host, Roots: pool, CurrentTime: at})
	return err
}

func TestWhatIsSignedIsGoodForItsNames(t *testing.T) {
	a := opened(t, t.TempDir(), "localhost", "test")
	root, err := a.Root()
	require.NoError(t, err)
	signed, err := a.Certificate([]string{"fern.localhost", "*.fern.localhost", "moss.test"})
	require.NoError(t, err)
	for _, host := range []string{"fern.localhost", "a.fern.localhost", "moss.test"} {
		require.NoError(t, judge(root, signed.Leaf, host, time.Now()), host)
	}
	require.Error(t, judge(root, signed.Leaf, "other.localhost", time.Now()))
	require.Error(t, judge(root, signed.Leaf, "fern.localhost", time.Now().Add(91*24*time.Hour)))
	again, err := a.Certificate([]string{"fern.localhost", "*.fern.localhost", "moss.test"})
	require.NoError(t, err)
	assert.Same(t, signed, again)
	a.now = func() time.Time { return time.Now().Add(61 * 24 * time.Hour) }
	renewed, err := a.Certificate([]string{"fern.localhost", "*.fern.localhost", "moss.test"})
	require.NoError(t, err)
	assert.True(t, renewed.Leaf.NotAfter.After(signed.Leaf.NotAfter), "by itself, before it ends")
}

func TestItSignsForNothingElse(t *testing.T) {
	a := opened(t, t.TempDir(), "localhost", "test")
	for _, host := range []string{"bank.example", "localhost.example", "notlocalhost"} {
		_, err := a.Certificate([]string{host})
		require.ErrorContains(t, err, "does not sign for", host)
	}
	root, err := a.Root()
	require.NoError(t, err)
	assert.True(t, root.PermittedDNSDomainsCritical)
	// And whoever had the key could not, either.
	for host, template := range map[string]*x509.Certificate{
		"bank.example":  {DNSNames: []string{"bank.example"}},
		"93.184.215.14": {IPAddresses: []net.IP{net.IPv4(93, 184, 215, 14)}},
	} {
		template.SerialNumber, template.NotBefore, template.NotAfter = serial(), time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
		template.Subject = pkix.Name{CommonName: host}
		raw, err := x509.CreateCertificate(rand.Reader, template, root, &a.key.PublicKey, a.key)
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(raw)
		require.NoError(t, err)
		require.ErrorContains(t, judge(root, leaf, host, time.Now()), "not permitted", host)
	}
}

func TestItStaysAndLearnsEndings(t *testing.T) {
	dir := t.TempDir()
	a := opened(t, dir, "localhost")
	first, err := a.Root()
	require.NoError(t, err)
	again, err := opened(t, dir, "localhost").Root()
	require.NoError(t, err)
	assert.True(t, first.Equal(again))
	changed := 0
	b := opened(t, dir, "localhost", "garden.example")
	b.Changed = func() { changed++ }
	signed, err := b.Certificate([]string{"shop.garden.example"})
	require.NoError(t, err)
	assert.Equal(t, 1, changed)
	second, err := b.Root()
	require.NoError(t, err)
	require.NoError(t, judge(second, signed.Leaf, "shop.garden.example", time.Now()))
	require.Error(t, judge(first, signed.Leaf, "shop.garden.example", time.Now()), "who trusts the first one is not made to trust more")
	here, err := b.Certificate([]string{"fern.localhost"})
	require.NoError(t, err)
	require.NoError(t, judge(first, here.Leaf, "fern.localhost", time.Now()), "and goes on with what it did")
	info, err := os.Stat(filepath.Join(dir, "key.pem"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), []byte("nothing"), 0o600))
	_, err = Open(dir)
	require.ErrorContains(t, err, "holds no key")
}

func TestSitesBelieveItBesideTheMachinesOwn(t *testing.T) {
	a := opened(t, t.TempDir(), "localhost")
	other := opened(t, t.TempDir(), "test")
	theirs, err := other.Root()
	require.NoError(t, err)
	machine := filepath.Join(t.TempDir(), "machine.pem")
	require.NoError(t, os.WriteFile(machine, PEM(theirs), 0o644))
	text, err := Bundle(machine, a)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(text))
	root, err := a.Root()
	require.NoError(t, err)
	both := x509.NewCertPool()
	both.AddCert(theirs)
	both.AddCert(root)
	assert.True(t, pool.Equal(both))
	_, err = Bundle(filepath.Join(t.TempDir(), "none"), a)
	assert.NoError(t, err, "a machine may have none")
}
