package relay

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"path"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/acme"
)

// signer is an authority that speaks ACME (RFC 8555), and looks at the relay before it signs anything, by TLS with ALPN (RFC 8737).
type signer struct {
	t      *testing.T
	url    string
	relay  string // host and port
	key    *ecdsa.PrivateKey
	root   *x509.Certificate
	mu     sync.Mutex
	print  string            // of the account's key
	names  map[string]string // that were asked for, by the number of the order
	proven map[string]bool
	signed map[string][]byte
}

func newSigner(t *testing.T, relay string) *signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	a := &signer{t: t, relay: relay, key: key, names: map[string]string{}, proven: map[string]bool{}, signed: map[string][]byte{}}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	a.root, err = x509.ParseCertificate(raw)
	require.NoError(t, err)
	server := httptest.NewServer(a)
	t.Cleanup(server.Close)
	a.url = server.URL
	return a
}

func base64url(text []byte) string { return base64.RawURLEncoding.EncodeToString(text) }

func (a *signer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	w.Header().Set("Replay-Nonce", base64url([]byte(time.Now().String())))
	var sent struct{ Protected, Payload string }
	json.NewDecoder(r.Body).Decode(&sent)
	payload, _ := base64.RawURLEncoding.DecodeString(sent.Payload)
	number, answer, status := path.Base(r.URL.Path), any(nil), http.StatusOK
	switch path.Dir(r.URL.Path) {
	case "/":
		answer, status = a.begin(w, r.URL.Path, sent.Protected, payload)
	case "/authorization":
		answer = map[string]any{"status": a.state(number, "pending"), "identifier": map[string]string{"type": "dns", "value": a.names[number]},
			"challenges": []any{a.challenge(number)}}
	case "/challenge":
		a.proven[number] = a.prove(a.names[number], number)
		answer = a.challenge(number)
	case "/finalize":
		a.sign(number, payload)
		answer = a.order(number)
	case "/order":
		answer = a.order(number)
	case "/certificate":
		w.Write(a.signed[number])
		return
	}
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(answer)
}

// begin answers for the directory, an account and an order.
func (a *signer) begin(w http.ResponseWriter, at, protected string, payload []byte) (answer any, status int) {
	switch at {
	case "/directory":
		return map[string]string{"newNonce": a.url + "/nonce", "newAccount": a.url + "/account", "newOrder": a.url + "/order"}, http.StatusOK
	case "/account":
		var head struct {
			JWK struct{ Crv, Kty, X, Y string }
		}
		text, _ := base64.RawURLEncoding.DecodeString(protected)
		json.Unmarshal(text, &head)
		sum := sha256.Sum256(fmt.Appendf(nil, `{"crv":%q,"kty":%q,"x":%q,"y":%q}`, head.JWK.Crv, head.JWK.Kty, head.JWK.X, head.JWK.Y))
		a.print = base64url(sum[:])
		w.Header().Set("Location", a.url+"/account/1")
		return map[string]string{"status": "valid"}, http.StatusCreated
	case "/order":
		var asked struct{ Identifiers []struct{ Value string } }
		json.Unmarshal(payload, &asked)
		number := fmt.Sprint(len(a.names) + 1)
		a.names[number] = asked.Identifiers[0].Value
		w.Header().Set("Location", a.url+"/order/"+number)
		return a.order(number), http.StatusCreated
	}
	return nil, http.StatusOK
}

func (a *signer) state(number, before string) string {
	if a.proven[number] {
		return "valid"
	}
	return before
}

func (a *signer) challenge(number string) any {
	return map[string]string{"type": "tls-alpn-01", "url": a.url + "/challenge/" + number, "token": "token" + number,
		"status": a.state(number, "pending")}
}

func (a *signer) order(number string) any {
	state, at := "pending", map[string]any{"authorizations": []string{a.url + "/authorization/" + number},
		"finalize": a.url + "/finalize/" + number}
	if a.proven[number] {
		state = "ready"
	}
	if a.signed[number] != nil {
		state, at["certificate"] = "valid", a.url+"/certificate/"+number
	}
	at["status"] = state
	return at
}

// prove asks the relay for the certificate that shows that the name is its own.
func (a *signer) prove(name, number string) bool {
	connection, err := tls.Dial("tcp", a.relay, &tls.Config{ServerName: name, InsecureSkipVerify: true, NextProtos: []string{acme.ALPNProto}})
	if err != nil {
		return false
	}
	defer connection.Close()
	want := sha256.Sum256([]byte("token" + number + "." + a.print))
	for _, each := range connection.ConnectionState().PeerCertificates[0].Extensions {
		var is []byte
		if each.Id.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}) {
			asn1.Unmarshal(each.Value, &is)
			return string(is) == string(want[:])
		}
	}
	return false
}

func (a *signer) sign(number string, payload []byte) {
	var asked struct{ CSR string }
	json.Unmarshal(payload, &asked)
	raw, _ := base64.RawURLEncoding.DecodeString(asked.CSR)
	csr, err := x509.ParseCertificateRequest(raw)
	if !a.proven[number] || !assert.NoError(a.t, err) || !assert.Equal(a.t, []string{a.names[number]}, csr.DNSNames) {
		return
	}
	leaf, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(2), DNSNames: csr.DNSNames,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(90 * 24 * time.Hour)}, a.root, csr.PublicKey, a.key)
	assert.NoError(a.t, err)
	for _, each := range [][]byte{leaf, a.root.Raw} {
		a.signed[number] = append(a.signed[number], pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: each})...)
	}
}

// A relay gets certificates for what it lends, when somebody first asks, and for nothing else; they are there after it starts again.
func TestARelayGetsCertificatesByACME(t *testing.T) {
	d := rent(t)
	d.Domain = "example.com"
	cache := t.TempDir()
	door, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := door.Addr().String()
	door.Close()
	ca := newSigner(t, at)
	serve := func() func() {
		settings := d.ACME(ca.url+"/directory", cache)
		door, err := tls.Listen("tcp", at, settings)
		require.NoError(t, err)
		server := &http.Server{Handler: d.Relay}
		go server.Serve(door)
		return func() { server.Close() }
	}
	ask := func(name string) error {
		roots := x509.NewCertPool()
		roots.AddCert(ca.root)
		connection, err := (&tls.Dialer{Config: &tls.Config{ServerName: name, RootCAs: roots}}).DialContext(t.Context(), "tcp", at)
		if err == nil {
			connection.Close()
		}
		return err
	}
	end := serve()
	l := d.line(t, d.token, tells)
	_, _, err = l.Lend(t.Context(), "orchard-days")
	require.NoError(t, err)
	require.NoError(t, ask("orchard-days.example.com"))
	require.NoError(t, ask("example.com"), "and for the relay itself")
	for _, other := range []string{"nobody.example.com", "a.orchard-days.example.com", "elsewhere.example", ""} {
		assert.Error(t, ask(other), other)
	}
	assert.Len(t, ca.names, 2, "no other name was asked for")
	end()
	end = serve()
	defer end()
	require.NoError(t, ask("orchard-days.example.com"))
	assert.Len(t, ca.names, 2, "the certificate was kept")
}
