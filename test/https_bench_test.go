package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vessik/client"
)

// BenchmarkHTTPS compares a style sheet of a site with https through the gateway with an nginx that ends TLS itself, by a key of the same
// kind, and hands requests on to the same site: handshakes a second with eight at a time, and the latency of one request on a connection
// that is kept.
func BenchmarkHTTPS(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "fernhollow", HTTPS: "on"}))
	site := s.site(b, "fernhollow")
	const path = "/wp-includes/css/buttons.min.css"
	host := strings.TrimSuffix(strings.TrimPrefix(site.URL, "https://"), "/")
	status := mustStatus(b, s)
	proxyWith(b, status.EngineStore, site.Port, " ssl; ssl_session_tickets off; "+certified(b))
	through := fmt.Sprintf("https://127.0.0.1:%d%s", status.HTTPSPort, path)
	proxied := fmt.Sprintf("https://127.0.0.1:%d%s", proxyPort, path)
	for b.Loop() {
		shaken, latency := shake(b, through, host)
		shakenByNginx, latencyOfNginx := shake(b, proxied, host)
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(shaken, "handshakes/s")
		b.ReportMetric(shakenByNginx, "nginx-handshakes/s")
		b.ReportMetric(shaken/shakenByNginx, "rate-of-nginx")
		b.ReportMetric(float64(latency.Microseconds()), "µs")
		b.ReportMetric(float64(latencyOfNginx.Microseconds()), "nginx-µs")
	}
}

// certified writes a certificate, and is how nginx is told of it.
func certified(b *testing.B) string {
	return fmt.Sprintf("ssl_certificate %[1]s; ssl_certificate_key %[1]s", certificateFile(b, "fernhollow.localhost"))
}

// certificateFile writes a certificate that nobody vouches for, with its key.
func certificateFile(t testing.TB, names ...string) (file string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: names, NotBefore: time.Now().Add(-time.Minute),
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	file = filepath.Join(outside(t), "certificate.pem")
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	require.NoError(t, os.WriteFile(file, text, 0o644))
	return file
}

// shake asks with a handshake each time, eight at a time, and then on one connection.
func shake(b *testing.B, address, host string) (perSecond float64, latency time.Duration) {
	name, _, _ := strings.Cut(host, ":")
	dial := func() *http.Client { // what is measured is the server's part: nobody judges its certificate
		return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{ServerName: name, InsecureSkipVerify: true}}}
	}
	ask := func(client *http.Client) {
		request, err := http.NewRequest("GET", address, nil)
		must(b, err)
		request.Host = host
		response, err := client.Do(request)
		must(b, err)
		if response.StatusCode != http.StatusOK {
			must(b, fmt.Errorf("%s answers %s", address, response.Status))
		}
		io.Copy(io.Discard, response.Body)
		response.Body.Close()
	}
	span := 2 * time.Second
	if small() {
		span = 200 * time.Millisecond
	}
	var count atomic.Int64
	var group sync.WaitGroup
	began := time.Now()
	for range 8 {
		group.Go(func() {
			for time.Since(began) < span {
				client := dial()
				ask(client)
				client.CloseIdleConnections()
				count.Add(1)
			}
		})
	}
	group.Wait()
	perSecond = float64(count.Load()) / time.Since(began).Seconds()
	one := dial()
	defer one.CloseIdleConnections()
	ask(one)
	began = time.Now()
	for range 500 {
		ask(one)
	}
	return perSecond, time.Since(began) / 500
}
