// Package trust is where the programs of one user look up which certificate authorities to believe: the machine's own store, and the
// databases that browsers keep (NSS).
package trust

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"vessik/internal/authority"
	"vessik/internal/ownfile"
)

// Place is one such store. Its methods return ErrNoCertutil where the program that reads browsers' databases is not there.
type Place struct {
	Title   string
	Folder  string
	Missing bool // there is none yet; it is made when something is added
	store
}

// store is how a kind of place is read and written.
type store interface {
	// held are the certificates of a name that it believes.
	held(ctx context.Context, folder, name string) ([]*x509.Certificate, error)
	add(ctx context.Context, folder, name string, certificate *x509.Certificate) error
	drop(ctx context.Context, folder, name string) error
	// fault is why this account cannot write it; empty where it can.
	fault(folder string) string
}

// ErrNoCertutil says that browsers' databases cannot be read or written.
var ErrNoCertutil = errors.New("certutil is not there: install the package libnss3-tools")

// programTimeout bounds what others' programs may take.
const programTimeout = time.Minute

// Machine is the store that most programs believe.
func Machine() Place {
	return Place{Title: "the machine's store", Folder: "/usr/local/share/ca-certificates",
		store: files{certificates: "/etc/ssl/certs", update: []string{"update-ca-certificates"}}}
}

// Browsers are those of a user, by the folder that is that user's home.
func Browsers(home string) []Place {
	places := []Place{}
	for _, folder := range []string{".pki/nssdb", "snap/chromium/current/.pki/nssdb", ".var/app/org.chromium.Chromium/data/pki/nssdb"} {
		place := Place{Title: "Chromium", Folder: filepath.Join(home, folder), store: database{}}
		_, err := os.Stat(filepath.Join(place.Folder, "cert9.db"))
		place.Missing = err != nil
		if err == nil || len(places) == 0 && folder == ".pki/nssdb" && hasChromium() {
			places = append(places, place)
		}
	}
	for _, pattern := range []string{".mozilla/firefox", ".config/mozilla/firefox", "snap/firefox/common/.mozilla/firefox",
		".var/app/org.mozilla.firefox/.mozilla/firefox"} {
		for _, found := range ownfile.Find(filepath.Join(home, pattern, "*", "cert9.db")) {
			folder := filepath.Dir(found)
			places = append(places, Place{Title: "Firefox, profile " + filepath.Base(folder), Folder: folder, store: database{}})
		}
	}
	return places
}

func hasChromium() bool {
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome", "google-chrome-stable"} {
		if _, err := exec.LookPath(name); err == nil {
			return true
		}
	}
	return false
}

// Believes tells whether a place believes an authority, by this very certificate; earlier tells whether it believes another one of the
// same authority.
func (p Place) Believes(ctx context.Context, root *x509.Certificate) (now, earlier bool, err error) {
	if p.Missing {
		return false, false, nil
	}
	held, err := p.held(ctx, p.Folder, nameOf(root))
	for _, each := range held {
		now = now || each.Equal(root)
		earlier = earlier || !each.Equal(root)
	}
	return now, earlier, err
}

// Add has a place believe an authority, and looks whether it does.
func (p Place) Add(ctx context.Context, root *x509.Certificate) error {
	if err := p.add(ctx, p.Folder, nameOf(root), root); err != nil {
		return fmt.Errorf("%s: %w", p.Title, err)
	}
	p.Missing = false
	if now, _, err := p.Believes(ctx, root); err != nil || !now {
		return fmt.Errorf("%s does not believe it although it was added (%v)", p.Title, err)
	}
	return nil
}

// Drop has a place believe an authority no longer, by whatever certificate, and looks whether it does.
func (p Place) Drop(ctx context.Context, root *x509.Certificate) error {
	if p.Missing {
		return nil
	}
	if err := p.drop(ctx, p.Folder, nameOf(root)); err != nil {
		return fmt.Errorf("%s: %w", p.Title, err)
	}
	if _, err := os.Stat(p.Folder); errors.Is(err, fs.ErrNotExist) {
		return nil // it was made for this alone
	}
	if now, earlier, err := p.Believes(ctx, root); err != nil || now || earlier {
		return fmt.Errorf("%s still believes it although it was dropped (%v)", p.Title, err)
	}
	return nil
}

// Fault is why this account cannot write a place; empty where it can.
func (p Place) Fault() string { return p.fault(p.Folder) }

var unsafeInName = regexp.MustCompile(`[^A-Za-z0-9]+`)

// nameOf is what an authority is called in a place.
func nameOf(root *x509.Certificate) string {
	return strings.Trim(strings.ToLower(unsafeInName.ReplaceAllString(root.Subject.CommonName, "-")), "-")
}

// files are a folder of certificates of which Debian makes one file for all programs.
type files struct {
	certificates string // folder of what is made of them
	update       []string
}

func (f files) file(folder, name string) string { return filepath.Join(folder, name+".crt") }

func (f files) held(_ context.Context, _, name string) (held []*x509.Certificate, err error) {
	text, err := ownfile.Read(filepath.Join(f.certificates, "ca-certificates.crt"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if each, err := x509.ParseCertificate(block.Bytes); err == nil && nameOf(each) == name {
			held = append(held, each)
		}
	}
	return held, err
}

func (f files) add(ctx context.Context, folder, name string, certificate *x509.Certificate) error {
	if err := errors.Join(ownfile.Make(folder, 0o755), ownfile.Write(f.file(folder, name), authority.PEM(certificate), 0o644)); err != nil {
		return err
	}
	return program(ctx, f.update...)
}

func (f files) drop(ctx context.Context, folder, name string) error {
	if err := ownfile.Remove(f.file(folder, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return program(ctx, append(slices.Clone(f.update), "--fresh")...) // else a link to it would stay
}

func (f files) fault(folder string) string {
	if _, err := exec.LookPath(f.update[0]); err != nil {
		return "this machine has no " + f.update[0] + ": install the package ca-certificates"
	}
	if os.Geteuid() != 0 {
		return "only root may write it"
	}
	return ""
}

// database is one of NSS, written by its own tool.
type database struct{}

// listed is a certificate's line, which ends with what it is trusted for, as in C,, or u,u,u.
var listed = regexp.MustCompile(`(?m) [pPcCTuw]*,[pPcCTuw]*,[pPcCTuw]*\s*$`)

// made marks a database that was made to hold the authority alone.
const made = "made-by-vessik"

func (d database) held(ctx context.Context, folder, name string) (held []*x509.Certificate, err error) {
	text, err := certutil(ctx, folder, nil, "-L", "-n", name, "-a")
	if err != nil {
		if errors.Is(err, ErrNoCertutil) {
			return nil, err
		}
		return nil, nil // it knows none of that name
	}
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if each, err := x509.ParseCertificate(block.Bytes); err == nil {
			held = append(held, each)
		}
	}
	return held, nil
}

func (d database) add(ctx context.Context, folder, name string, certificate *x509.Certificate) error {
	if _, err := os.Stat(filepath.Join(folder, "cert9.db")); errors.Is(err, fs.ErrNotExist) {
		if err := ownfile.Make(folder, 0o700); err != nil {
			return err
		}
		if _, err := certutil(ctx, folder, nil, "-N", "--empty-password"); err != nil {
			return err
		}
		if err := ownfile.Write(filepath.Join(folder, made), nil, 0o600); err != nil {
			return err
		}
	}
	_, err := certutil(ctx, folder, authority.PEM(certificate), "-A", "-n", name, "-t", "C,,")
	return err
}

func (d database) drop(ctx context.Context, folder, name string) error {
	for range 100 { // one at a time
		if held, err := d.held(ctx, folder, name); err != nil || len(held) == 0 {
			break
		}
		if _, err := certutil(ctx, folder, nil, "-D", "-n", name); err != nil {
			return err
		}
	}
	if _, err := os.Stat(filepath.Join(folder, made)); err != nil {
		return nil
	}
	others, err := certutil(ctx, folder, nil, "-L")
	if err == nil && !listed.Match(others) {
		defer ownfile.Remove(filepath.Dir(folder)) // unless there is something else in it
		return ownfile.RemoveAll(folder)
	}
	return nil
}

func (d database) fault(folder string) string {
	if _, err := exec.LookPath("certutil"); err != nil {
		return ErrNoCertutil.Error()
	}
	return ""
}

func certutil(ctx context.Context, folder string, input []byte, arguments ...string) ([]byte, error) {
	path, err := exec.LookPath("certutil")
	if err != nil {
		return nil, ErrNoCertutil
	}
	var out bytes.Buffer
	err = run(ctx, input, &out, path, append([]string{"-d", "sql:" + folder}, arguments...)...)
	return out.Bytes(), err
}

func program(ctx context.Context, arguments ...string) error {
	return run(ctx, nil, new(bytes.Buffer), arguments[0], arguments[1:]...)
}

func run(ctx context.Context, input []byte, out *bytes.Buffer, name string, arguments ...string) error {
	ctx, cancel := context.WithTimeout(ctx, programTimeout)
	defer cancel()
	command := exec.CommandContext(ctx, name, arguments...)
	var said bytes.Buffer
	command.Stdin, command.Stdout, command.Stderr = bytes.NewReader(input), out, &said
	if err := command.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", filepath.Base(name), err, bytes.TrimSpace(said.Bytes()))
	}
	return nil
}
