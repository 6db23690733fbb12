// Package practice is a small made-up hosting company on this machine, to practise moving sites with: it lets its customers in by SSH,
// SFTP and FTP, and has faults on demand. Its sites are served by a Vessik of their own, with real engines.
package practice

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"vessik/client"
	"vessik/internal/ownfile"
)

// Environment is where a customer has a site: live, or staging.
type Environment struct {
	User     string `json:"user"` // the name of the site, too
	Password string `json:"password"`
	Key      string `json:"key,omitempty"` // public, as authorized_keys has it; empty for none
	Customer string `json:"customer"`
	Kind     string `json:"kind"` // live or staging
	URL      string `json:"url"`
	Folder   string `json:"folder"`
}

// Faults are what goes wrong at the host; the zero value is a good one.
type Faults struct {
	BytesPerSecond int64 `json:"bytes_per_second,omitempty"`
	CutAfter       int64 `json:"cut_after,omitempty"` // bytes of all lines together; each is cut then, and Cuts times in all
	Cuts           int   `json:"cuts,omitempty"`
	Quota          int64 `json:"quota,omitempty"` // bytes that may still be written
	ReadOnly       bool  `json:"read_only,omitempty"`
	NoShell        bool  `json:"no_shell,omitempty"`
}

// Host is the hosting company.
type Host struct {
	Dir     string // its keys and customers
	Service *client.Client
	Log     *slog.Logger

	mu           sync.Mutex
	environments map[string]Environment
	faults       *meter
	page         *accounts
	sshAt        string // where it lets customers in by SSH
	signer       ssh.Signer
}

// Open reads who the host's customers are.
func Open(dir string, service *client.Client, log *slog.Logger) (*Host, error) {
	h := &Host{Dir: dir, Service: service, Log: log, environments: map[string]Environment{}, faults: &meter{}}
	h.page = newAccounts(h)
	if err := ownfile.Make(dir, 0o700); err != nil {
		return nil, err
	}
	text, err := ownfile.Read(h.file())
	if errors.Is(err, fs.ErrNotExist) {
		return h, nil
	}
	if err != nil {
		return nil, err
	}
	return h, json.Unmarshal(text, &h.environments)
}

func (h *Host) file() string { return filepath.Join(h.Dir, "customers.json") }

// Rent gives a site of the host's Vessik to a customer; one that is rented already keeps its password.
func (h *Host) Rent(s client.Site, customer, kind string) (Environment, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	e := h.environments[s.Name]
	if e.Password == "" {
		e.Password = strings.ToLower(rand.Text()[:20])
	}
	e.User, e.Customer, e.Kind, e.URL, e.Folder = s.Name, customer, kind, s.URL, s.Folder
	h.environments[s.Name] = e
	text, err := json.MarshalIndent(h.environments, "", "  ")
	if err != nil {
		return e, err
	}
	return e, ownfile.Write(h.file(), text, 0o600)
}

// LetIn has a customer sign in with an SSH key as well, a line as authorized_keys has it, until the host ends.
func (h *Host) LetIn(user, key string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	e := h.environments[user]
	e.Key = key
	h.environments[user] = e
}

// Fail has the host fail from now on.
func (h *Host) Fail(f Faults) { h.faults.set(f) }

// Carried is how many bytes went over all lines since the host was opened.
func (h *Host) Carried() int64 { return h.faults.carried.Load() }

// signIn tells whose environment it is.
func (h *Host) signIn(user, password string) (Environment, bool) {
	e := h.environment(user)
	return e, e.User != "" && (subtle.ConstantTimeCompare([]byte(password), []byte(e.Password)) == 1 || h.page.isLent(user, password))
}

func (h *Host) environment(user string) Environment {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.environments[user]
}

// Doors are where the host lets its customers in.
type Doors struct{ SSH, FTP, Page net.Listener }

// OpenDoors listens on loopback; a port of 0 is a free one.
func OpenDoors(sshPort, ftpPort, pagePort int) (d Doors, err error) {
	for _, door := range []struct {
		at   *net.Listener
		port int
	}{{&d.SSH, sshPort}, {&d.FTP, ftpPort}, {&d.Page, pagePort}} {
		if *door.at, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", door.port)); err != nil {
			d.Close()
			return d, err
		}
	}
	return d, nil
}

// Close closes the doors that are open.
func (d Doors) Close() {
	for _, door := range []net.Listener{d.SSH, d.FTP, d.Page} {
		if door != nil {
			door.Close()
		}
	}
}

// Serve lets customers in until ctx ends.
func (h *Host) Serve(ctx context.Context, d Doors) error {
	key, err := h.keys()
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.sshAt, h.signer = d.SSH.Addr().String(), key
	h.mu.Unlock()
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return h.serveSSH(ctx, h.faults.over(d.SSH), key) })
	group.Go(func() error { return h.serveFTP(ctx, d.FTP) })
	group.Go(func() error { return h.servePage(ctx, d.Page) })
	return group.Wait()
}

// root opens the folder of an environment, out of which nothing leads.
func (e Environment) root() (*os.Root, error) { return os.OpenRoot(e.Folder) }

// owned has what was made in a customer's folder belong to the customer, where root made it.
func owned(root *os.Root, name string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	info, err := root.Stat(".")
	if err != nil {
		return err
	}
	of := info.Sys().(*syscall.Stat_t)
	return root.Lchown(name, int(of.Uid), int(of.Gid))
}

// below is a path of a customer's as one in a folder.
func below(path string) string {
	path = strings.Trim(filepath.ToSlash(filepath.Clean("/"+path)), "/")
	if path == "" {
		return "."
	}
	return path
}
