package gateway

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

// secured is a gateway before one site, over http and over https, and a client that goes to the latter.
func secured(t *testing.T, https bool, handler http.HandlerFunc) (plain *httptest.Server, secure string, client *http.Client, f *fleet) {
	plain, f = garden(t, site.Running, handler)
	f.sites[0].HTTPS = https
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"fernhollow.localhost"}, NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	f.certificate = tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	g := New(f, site.Gateway{HTTP: 20080, HTTPS: 20443}, "")
	server := &http.Server{Handler: g}
	go server.Serve(g.Secured([]net.Listener{listener})[0])
	t.Cleanup(func() { server.Close() })
	parsed, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(parsed)
	transport := &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: pool, ServerName: "fernhollow.localhost"}}
	t.Cleanup(transport.CloseIdleConnections)
	return plain, "https://" + listener.Addr().String(), &http.Client{Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, f
}

func askSecured(t *testing.T, client *http.Client, address string, cookies ...*http.Cookie) *http.Response {
	request, err := http.NewRequest(http.MethodGet, address, nil)
	require.NoError(t, err)
	request.Host = "fernhollow.localhost:20443"
	for _, each := range cookies {
		request.AddCookie(each)
	}
	response, err := client.Do(request)
	require.NoError(t, err)
	response.Body.Close()
	return response
}

func TestASiteIsServedOverItsOwnSchemeAlone(t *testing.T) {
	site := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Strict-Transport-Security", "max-age=31536000")
		w.Header().Set("Saw", fmt.Sprint(r.Header.Get("X-Forwarded-Proto"), " ", r.Header.Get("X-Forwarded-Port"), " ", r.Host))
	}
	plain, secure, client, f := secured(t, true, site)
	response := askSecured(t, client, secure+"/fern?a=b")
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, 2, response.ProtoMajor)
	assert.Equal(t, "https 20443 fernhollow.localhost:20443", response.Header.Get("Saw"))
	assert.Empty(t, response.Header.Get("Strict-Transport-Security"), "it would outlast the site")
	assert.Equal(t, []string{"fernhollow.localhost"}, f.asked)
	response, _ = ask(t, plain, "fernhollow.localhost:20080", "/fern?a=b", nil)
	assert.Equal(t, "307 https://fernhollow.localhost:20443/fern?a=b", fmt.Sprint(response.StatusCode, " ", response.Header.Get("Location")))

	_, secure, client, _ = secured(t, false, site)
	response = askSecured(t, client, secure+"/fern?a=b")
	assert.Equal(t, "307 http://fernhollow.localhost:20080/fern?a=b", fmt.Sprint(response.StatusCode, " ", response.Header.Get("Location")))
}

func TestWhoeverWasSignedInOverTheOtherSchemeStaysSo(t *testing.T) {
	_, secure, client, _ := secured(t, true, func(http.ResponseWriter, *http.Request) {})
	response := askSecured(t, client, secure+"/wp-admin/?a=b", &http.Cookie{Name: "seen", Value: "ines"})
	assert.Equal(t, "https://fernhollow.localhost:20443/vessik-ticket/good?to=%2Fwp-admin%2F%3Fa%3Db", response.Header.Get("Location"))
	assert.Equal(t, "seen=; Path=/; Max-Age=0; Secure", response.Header.Get("Set-Cookie"), "it is not shown again")
	response = askSecured(t, client, secure+"/", &http.Cookie{Name: "seen", Value: "nobody"})
	assert.Equal(t, 200, response.StatusCode)
	assert.Equal(t, "seen=; Path=/; Max-Age=0; Secure", response.Header.Get("Set-Cookie"))
	response = askSecured(t, client, secure+"/style.css", &http.Cookie{Name: "seen", Value: "ines"})
	assert.Equal(t, 200, response.StatusCode, "files are served as ever")
}

func TestACertificateHasAllNamesOfASite(t *testing.T) {
	_, _, _, f := secured(t, true, nil)
	f.sites = append(f.sites, site.Site{Domain: "moss.localhost", Domains: []string{"moss.test"}, Network: site.NetworkDomains})
	g := New(byAny{f}, site.Gateway{}, "")
	for host, wanted := range map[string][]string{
		"moss.localhost":     {"moss.localhost", "moss.test", "*.moss.localhost"},
		"a.moss.localhost":   {"moss.localhost", "moss.test", "*.moss.localhost"},
		"b.a.moss.localhost": {"moss.localhost", "moss.test", "*.moss.localhost", "b.a.moss.localhost"},
		"nobody.localhost":   {"nobody.localhost"},
	} {
		names, err := g.certified(host)
		require.NoError(t, err)
		assert.Equal(t, wanted, names, host)
	}
	_, err := g.certified("orchard.example")
	assert.ErrorContains(t, err, `no site is called "orchard.example"`)
}

// byAny finds the network of a sub-domain.
type byAny struct{ *fleet }

func (f byAny) ByDomain(host string) (site.Site, bool) {
	for _, s := range f.Sites() {
		if s.Domain == host || s.InNetwork(host) {
			return s, true
		}
	}
	return site.Site{}, false
}
