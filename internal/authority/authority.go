// Package authority is a home's own certificate authority (RFC 5280). It can sign for the endings that are in use in the home, and for
// nothing else: its certificate says so by critical name constraints.
package authority

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/ownfile"
)

const (
	rootLife = 10 * 365 * 24 * time.Hour
	leafLife = 90 * 24 * time.Hour
	renewed  = 30 * 24 * time.Hour // before its end, a certificate is made anew
	backdate = time.Hour           // for clocks that are behind
	kept     = 1000                // certificates in memory
)

// Authority signs the certificates of one home. Its key never leaves the home, and those of what it signs never leave the memory.
type Authority struct {
	// Endings are those that are in use: what it is to be able to sign for.
	Endings func() []string
	// Changed is told that the certificate is another one; nil for nobody.
	Changed func()

	all  bool // it signs for every name; nobody believes it but whom its home tells to
	dir  string
	now  func() time.Time
	mu   sync.Mutex
	key  *ecdsa.PrivateKey
	root *x509.Certificate
	made map[string]*tls.Certificate // by the names in them
}

// Open reads the authority of a folder; where there is none it is made.
func Open(dir string) (*Authority, error) {
	a := &Authority{Endings: func() []string { return nil }, dir: dir, now: time.Now, made: map[string]*tls.Certificate{}}
	if err := ownfile.Make(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the authority's folder: %w", err)
	}
	if err := a.readKey(); err != nil {
		return nil, fmt.Errorf("the authority's key: %w", err)
	}
	text, err := ownfile.Read(a.rootFile())
	if block, _ := pem.Decode(text); err == nil && block != nil {
		if root, err := x509.ParseCertificate(block.Bytes); err == nil && a.key.PublicKey.Equal(root.PublicKey) {
			a.root = root
		}
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the authority's certificate: %w", err)
	}
	return a, nil
}

// OpenForAll is one that signs for all names. It is for what the service itself answers in the place of others.
func OpenForAll(dir string) (*Authority, error) {
	a, err := Open(dir)
	if err == nil {
		a.all = true
	}
	return a, err
}

func (a *Authority) rootFile() string { return filepath.Join(a.dir, "authority.pem") }

func (a *Authority) readKey() error {
	place := filepath.Join(a.dir, "key.pem")
	text, err := ownfile.Read(place)
	if errors.Is(err, fs.ErrNotExist) {
		if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return err
		}
		raw, err := x509.MarshalPKCS8PrivateKey(a.key)
		if err != nil {
			return err
		}
		return ownfile.Write(place, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600)
	}
	if err != nil {
		return err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return fmt.Errorf("%s holds no key: put back the one that was there, or move that folder away, and trust the new authority", place)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return err
	}
	var ok bool
	if a.key, ok = key.(*ecdsa.PrivateKey); !ok {
		return fmt.Errorf("%s is no key of this kind (ECDSA)", place)
	}
	return nil
}

// Root is its certificate, which covers all endings that are in use now; one that does not is replaced by another of the same key.
func (a *Authority) Root() (*x509.Certificate, error) {
	root, changed, err := a.currentRoot()
	if changed && a.Changed != nil {
		a.Changed()
	}
	return root, err
}

func (a *Authority) currentRoot() (root *x509.Certificate, changed bool, err error) {
	endings := a.Endings()
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.root != nil && a.now().Before(a.root.NotAfter.Add(-leafLife)) && covers(a.root.PermittedDNSDomains, endings) {
		return a.root, false, nil
	}
	root, err = a.newRoot(endings)
	if err != nil {
		return nil, false, err
	}
	if err := ownfile.Write(a.rootFile(), PEM(root), 0o644); err != nil {
		return nil, false, err
	}
	a.root = root
	clear(a.made)
	return root, true, nil
}

func (a *Authority) newRoot(endings []string) (*x509.Certificate, error) {
	slices.Sort(endings)
	id := sha256.Sum256(elliptic.MarshalCompressed(elliptic.P256(), a.key.X, a.key.Y))
	name := "Vessik on " + hostName() + ", " + hex.EncodeToString(id[:4])
	template := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: name, Organization: []string{"Vessik"}},
		NotBefore: a.now().Add(-backdate), NotAfter: a.now().Add(rootLife), IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, SubjectKeyId: id[:20],
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: slices.Compact(endings), PermittedIPRanges: loopback,
		PermittedEmailAddresses: []string{"localhost"}, PermittedURIDomains: []string{"localhost"}}
	if a.all {
		template.PermittedDNSDomainsCritical, template.PermittedDNSDomains, template.PermittedIPRanges = false, nil, nil
		template.PermittedEmailAddresses, template.PermittedURIDomains = nil, nil
		template.Subject.CommonName = "Vessik's mail servers on " + hostName() + ", " + hex.EncodeToString(id[:4])
	}
	if a.root != nil {
		template.Subject = a.root.Subject // who trusts it already goes on
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &a.key.PublicKey, a.key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(raw)
}

var loopback = []*net.IPNet{{IP: net.IPv4(127, 0, 0, 0).To4(), Mask: net.CIDRMask(8, 32)},
	{IP: net.IPv6loopback, Mask: net.CIDRMask(128, 128)}}

func hostName() string {
	name, err := os.Hostname()
	if err != nil || len(name) > 40 {
		return "this machine"
	}
	return name
}

func serial() *big.Int {
	raw := make([]byte, 16)
	rand.Read(raw)
	raw[0] &= 0x7f
	return new(big.Int).SetBytes(raw)
}

// covers tells whether constraints let all endings be signed for.
func covers(permitted, endings []string) bool {
	for _, ending := range endings {
		if !slices.ContainsFunc(permitted, func(each string) bool { return strings.HasSuffix("."+ending, "."+each) }) {
			return false
		}
	}
	return true
}

// Certificate is one for host names (a leading *. stands for any label), as good as new.
func (a *Authority) Certificate(names []string) (*tls.Certificate, error) {
	root, err := a.Root()
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	id := strings.Join(names, " ")
	if have := a.made[id]; have != nil && a.now().Before(have.Leaf.NotAfter.Add(-renewed)) {
		return have, nil
	}
	if len(names) == 0 || !a.all && !covers(root.PermittedDNSDomains, names) {
		return nil, fmt.Errorf("the authority of this home does not sign for %q", id)
	}
	made, err := leaf(&x509.Certificate{Subject: pkix.Name{CommonName: names[0][:min(len(names[0]), 64)]}, DNSNames: names,
		NotBefore: a.now().Add(-backdate), NotAfter: a.now().Add(leafLife)}, root, a.key)
	if err != nil {
		return nil, err
	}
	if len(a.made) >= kept {
		clear(a.made)
	}
	a.made[id] = made
	return made, nil
}

// leaf is a server's certificate with a key of its own, which an authority signs; by itself where no authority is named.
func leaf(template, by *x509.Certificate, signer *ecdsa.PrivateKey) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template.SerialNumber, template.KeyUsage, template.BasicConstraintsValid = serial(), x509.KeyUsageDigitalSignature, true
	template.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	if by == nil {
		by, signer = template, key
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, by, &key.PublicKey, signer)
	if err != nil {
		return nil, err
	}
	made, err := x509.ParseCertificate(raw)
	return &tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key, Leaf: made}, err
}

// ForAddress is a certificate for an address of a network until a moment, which nobody vouches for.
func ForAddress(address net.IP, until time.Time) (*tls.Certificate, error) {
	return leaf(&x509.Certificate{Subject: pkix.Name{CommonName: address.String(), Organization: []string{"Vessik"}},
		IPAddresses: []net.IP{address}, NotBefore: time.Now().Add(-backdate), NotAfter: until}, nil, nil)
}

// PEM writes a certificate as text (RFC 7468).
func PEM(certificate *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Raw})
}

// Fingerprint is the SHA-256 of a certificate in hexadecimal.
func Fingerprint(certificate *x509.Certificate) string {
	sum := sha256.Sum256(certificate.Raw)
	return hex.EncodeToString(sum[:])
}

// PrintOf is that of one that is written as text; empty where it is none.
func PrintOf(text string) string {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return ""
	}
	certificate, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return ""
	}
	return Fingerprint(certificate)
}

// Bundle writes what sites trust: all that the machine does, and authorities.
func Bundle(machine string, authorities ...*Authority) ([]byte, error) {
	text, err := ownfile.Read(machine)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, a := range authorities {
		root, err := a.Root()
		if err != nil {
			return nil, err
		}
		text = append(append(bytes.TrimRight(text, "\n"), '\n'), PEM(root)...)
	}
	return text, nil
}
