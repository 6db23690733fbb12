package test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// A site changes between http and https, and back by itself where it cannot bear that. Whoever is signed in stays so, in a browser that
// believes the home's authority and nothing that could be made with its key besides.
func TestASiteAnswersOverHTTPS(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "fernhollow"},
		client.Request{Name: "moss-archive", CMS: "empty", Web: "apache", HTTPS: "on", Domains: []string{"moss-two.localhost"}}))
	moss := s.site(t, "moss-archive")
	assert.True(t, moss.HTTPS)
	require.NoError(t, os.WriteFile(filepath.Join(moss.Folder, "public/index.php"), []byte("<?php "+
		"echo $_SERVER['HTTPS'], ' ', $_SERVER['REQUEST_SCHEME'], ' ', $_SERVER['SERVER_PORT'], ' '; "+
		"if (empty($_GET['again'])) { echo file_get_contents('"+moss.URL+"?again=1'); }"), 0o644))
	port := moss.URL[strings.LastIndex(moss.URL, ":")+1 : len(moss.URL)-1]
	status, text, _ := getSecured(t, s, moss.URL)
	assert.Equal(t, "200 on https "+port+" on https "+port+" ", fmt.Sprint(status, " ", text), "it reaches itself")
	status, _, header := getSecured(t, s, fmt.Sprintf("http://moss-two.localhost:%d/a?b=c", mustStatus(t, s).GatewayPort))
	assert.Equal(t, "307 https://moss-two.localhost:"+port+"/a?b=c", fmt.Sprint(status, " ", header.Get("Location")))

	home := t.TempDir()
	out, errs, code := believing(t, s, home, "add", "-browsers", "-yes")
	require.Zero(t, code, out+errs)
	ctx := chromium(t, 1280, 800, chromedp.Env("HOME="+home), chromedp.Flag("host-resolver-rules", "MAP bank.example 127.0.0.1"))
	do := steps(t, ctx)
	ticket, err := s.Ticket(context.Background(), "fernhollow", "")
	require.NoError(t, err)
	signedIn := func(what, wanted string) {
		t.Helper()
		do(what, chromedp.Evaluate[chromedp.Void]("void location.reload()"), chromedp.Sleep(500*time.Millisecond),
			chromedp.WaitVisible(chromedp.CSS("#wpadminbar")))
		at, err := chromedp.Run(ctx, chromedp.Evaluate[string]("location.href"))
		require.NoError(t, err)
		assert.Equal(t, wanted, at)
	}
	do("the dashboard", chromedp.Navigate(ticket.URL), chromedp.WaitVisible(chromedp.CSS("#wpadminbar")))
	out, errs, code = s.cli("https", "fernhollow", "on")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "12 of 12 passed")
	assert.Regexp(t, `\d+ addresses in \d+ values of 3 tables`, out)
	fern := s.site(t, "fernhollow")
	require.True(t, strings.HasPrefix(fern.URL, "https://fernhollow.localhost:"), fern.URL)
	signedIn("over https", fern.URL+"wp-admin/")
	status, text, header = getSecured(t, s, fern.URL)
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "http://fernhollow")
	assert.Empty(t, header.Get("Strict-Transport-Security"))
	out, errs, code = s.cli("https", "fernhollow", "off")
	require.Zero(t, code, out+errs)
	signedIn("over http", s.site(t, "fernhollow").URL+"wp-admin/")

	refused(t, s, ctx)
	worseOff(t, s)
	out, errs, code = believing(t, s, home, "drop", "-browsers", "-yes")
	require.Zero(t, code, out+errs)
	assert.NoDirExists(t, filepath.Join(home, ".pki"))
	stranger := chromium(t, 1280, 800, chromedp.Env("HOME="+home))
	err = chromedp.Do(stranger, chromedp.Navigate(moss.URL))
	require.ErrorContains(t, err, "ERR_CERT_AUTHORITY_INVALID", "it was believed by that one user, and is no longer")
}

// refused has somebody who holds the authority's key sign for a bank: the browser that believes the authority does not believe that.
func refused(t *testing.T, s *service, ctx context.Context) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.home, "authority", "key.pem"))
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	require.NoError(t, err)
	out, _, _ := s.cli("authority", "-pem")
	block, _ = pem.Decode([]byte(out))
	root, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	raw, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(7), DNSNames: []string{"bank.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		KeyUsage: x509.KeyUsageDigitalSignature}, root, &own.PublicKey, key)
	require.NoError(t, err)
	listener, err := tls.Listen("tcp4", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{raw},
		PrivateKey: own}}})
	require.NoError(t, err)
	server := &http.Server{Handler: http.NotFoundHandler(), ReadHeaderTimeout: time.Minute, ErrorLog: log.New(io.Discard, "", 0)}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	_, port, _ := net.SplitHostPort(listener.Addr().String())
	require.ErrorContains(t, chromedp.Do(ctx, chromedp.Navigate("https://bank.example:"+port+"/")), "ERR_CERT")
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.site(t, "moss-archive").URL)), "as it does its own")
}

// worseOff has a plugin that bears no https, and then one that loads things over http.
func worseOff(t *testing.T, s *service) {
	t.Helper()
	plugins := filepath.Join(s.site(t, "fernhollow").Folder, "wp-content/mu-plugins")
	require.NoError(t, os.MkdirAll(plugins, 0o755))
	say := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(plugins, "own.php"), []byte("<?php "+text), 0o644))
	}
	before := s.site(t, "fernhollow").URL
	say(`if (is_ssl()) { wp_die('not over https', '', 500); }`)
	out, _, code := s.cli("https", "fernhollow", "on")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "500 Internal Server Error")
	assert.Equal(t, before, s.site(t, "fernhollow").URL, "it went back")
	say(`add_action('wp_footer', function () { echo '<img src="http://pictures.example/fern.png">'; });`)
	out, _, code = s.cli("https", "fernhollow", "on")
	assert.Equal(t, 3, code, "it stays, and says what is wrong: %s", out)
	out, _, _ = s.cli("verify", "fernhollow")
	assert.Regexp(t, `<img src> http://pictures.example/fern.png in line \d+`, out)
	_, errs, code := s.cli("https", "fernhollow", "on")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "it is on already")
}

// believing runs the command that has browsers of a user believe the authority, or no longer.
func believing(t *testing.T, s *service, home string, arguments ...string) (out, errs string, code int) {
	t.Helper()
	command := exec.Command(program, append([]string{"authority", "-home", s.home, "-trust-home"}, arguments...)...)
	command.Env = append(os.Environ(), "HOME="+home)
	var stdout, stderr strings.Builder
	command.Stdout, command.Stderr = &stdout, &stderr
	command.Run()
	return stdout.String(), stderr.String(), command.ProcessState.ExitCode()
}

// getSecured asks as somebody does who believes the home's authority, and nobody else.
func getSecured(t *testing.T, s *service, address string) (status int, body string, header http.Header) {
	t.Helper()
	text, _, code := s.cli("authority", "-pem")
	require.Zero(t, code)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(text)))
	transport := &http.Transport{DialContext: client.DialLoopback, TLSClientConfig: &tls.Config{RootCAs: pool}}
	defer transport.CloseIdleConnections()
	return getBy(t, &http.Client{Transport: transport, Timeout: time.Minute, CheckRedirect: browser.CheckRedirect}, address)
}
