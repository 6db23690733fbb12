package home

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"vessik/internal/core/site"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
	"vessik/internal/seal"
)

// Home is the folder that everything of one service lives in.
type Home struct {
	Dir     string
	Engines string // the engine store, which several homes may share
}

// Default is ~/vessik, for root /var/lib/vessik; VESSIK_HOME goes before both.
func Default() (Home, error) {
	base := "/var/lib"
	if os.Geteuid() != 0 {
		user, err := os.UserHomeDir()
		if err != nil {
			return Home{}, fmt.Errorf("no home folder: %w; give one with -home", err)
		}
		base = user
	}
	return New(cmp.Or(os.Getenv("VESSIK_HOME"), filepath.Join(base, "vessik")), filepath.Join(base, "vessik", "engines"))
}

// New names a home. Its engines are those of VESSIK_ENGINES, or of the given store.
func New(dir, engines string) (Home, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return Home{}, err
	}
	engines, err = filepath.Abs(cmp.Or(os.Getenv("VESSIK_ENGINES"), engines))
	return Home{Dir: dir, Engines: engines}, err
}

// Path is one in the home.
func (h Home) Path(parts ...string) string {
	return filepath.Join(append([]string{h.Dir}, parts...)...)
}

// ServiceFile tells clients where the service is; TokenFile holds what they show it.
func (h Home) ServiceFile() string { return h.Path("service.json") }
func (h Home) TokenFile() string   { return h.Path("token") }

// SiteLogs is the folder of a site's logs.
func (h Home) SiteLogs(site string) string { return h.Path("logs", "sites", site) }

// SiteBytes is what a site takes of the disk: its folder and tables, its logs, and what its programs keep for a time. An error says that
// not all of it can be looked at.
func (h Home) SiteBytes(name, folder, database string) (bytes int64, err error) {
	all := []string{folder, h.SiteLogs(name), h.Path("tmp", name), h.Path("run", "php", name)}
	if database != "" {
		all = append(all, ownfile.Find(h.Path("databases", "*", database))...)
	}
	for _, each := range all {
		more, failed := safefile.Measure(each)
		bytes += more
		if !errors.Is(failed, fs.ErrNotExist) {
			err = errors.Join(err, failed)
		}
	}
	return bytes, err
}

// Prepare makes the folders, so that nobody else can look into them.
func (h Home) Prepare() error {
	for _, dir := range []string{h.Dir, h.Engines} {
		if site.UnsafeInPath(dir) {
			return fmt.Errorf("%q has characters that a web server's configuration cannot hold: choose a folder without "+
				"quotes, $, \\, ;, %%, braces, brackets and wildcards", dir)
		}
	}
	const longest = 70 // leaves room for the sockets below it, see unix(7)
	if len(h.Dir) > longest {
		return fmt.Errorf("the home folder's path is %d bytes long, and %d is the most: choose a shorter one with -home", len(h.Dir), longest)
	}
	for _, dir := range []string{"", "sites", "run", "run/sockets", "logs", "logs/sites", "databases", "records", "tmp", "mail", "kept",
		"restore", "cms", "touches", "helpers", "shelf", "uploads"} {
		if err := ownfile.Make(h.Path(dir), 0o700); err != nil {
			return fmt.Errorf("make the home folder: %w; choose one with -home that the service's account can enter and write to", err)
		}
	}
	return ownfile.SetMode(h.Dir, 0o700)
}

// ErrInUse says that another service works in this home.
var ErrInUse = errors.New("the home folder is in use by another service")

// Lock holds the home until the returned file is closed, or this process ends in whatever way.
func (h Home) Lock() (*os.File, error) {
	file, err := ownfile.OpenFile(h.Path("lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the home folder: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w; stop that one first, or choose another folder with -home", h.Dir, ErrInUse)
	}
	return file, nil
}

// Settings are what a home needs to know before its records are there. Ports are chosen once: they stand in every site's data.
type Settings struct {
	Dir           string            `json:"dir"` // where the home was when it was last used
	GatewayPort   int               `json:"gateway_port"`
	HTTPSPort     int               `json:"https_port,omitempty"` // of the gateway as well, once a site has had https
	IMAPPort      int               `json:"imap_port,omitempty"`  // of the mailboxes, once a mail program was let in
	RecordsEngine string            `json:"records_engine"`
	Ports         map[string]int    `json:"ports"` // of database engines
	Passwords     map[string]string `json:"-"`     // of database administrators; in the file they are sealed
	// Variables are server variables by database engine; PortRange is where sites get their ports from, [0 0] the usual.
	Variables map[string]map[string]string `json:"variables,omitempty"`
	PortRange [2]int                       `json:"port_range,omitzero"`
	// OwnDefiners are the database engines on which nothing of a site runs in the administrator's name any more.
	OwnDefiners map[string]bool `json:"own_definers,omitempty"`
	// HostsAllowed says that the user lets the service keep a block in the hosts file.
	HostsAllowed bool `json:"hosts_allowed,omitempty"`
	// RecordsDSN names an external server for the records, as go-sql-driver writes it; empty for one of their own.
	// RecordsPlain says that it may be reached without TLS.
	RecordsDSN   string `json:"-"` // in the file it is sealed
	RecordsPlain bool   `json:"records_plain,omitempty"`
}

// kept is what the settings' file says: secrets are sealed with the key of the home.
type kept struct {
	Settings
	Sealed map[string][]byte `json:"sealed,omitempty"`
	// Passwords and RecordsDSN are those of earlier versions, which kept them as they are.
	Passwords  map[string]string `json:"passwords,omitempty"`
	RecordsDSN string            `json:"records_dsn,omitempty"`
}

// Names of what is sealed in the settings' file.
const (
	sealedPassword = "password of "
	sealedDSN      = "records dsn"
)

// KeyFile holds what opens the home's secrets.
func (h Home) KeyFile() string { return h.Path("secrets.key") }

// ReadSettings returns a home's settings; a new home has empty ones.
func (h Home) ReadSettings() (Settings, error) {
	s := Settings{}.clone()
	text, err := ownfile.Read(h.Path("home.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	read := kept{Settings: s}
	if err == nil {
		err = json.Unmarshal(text, &read)
	}
	if err != nil {
		return s, fmt.Errorf("read %s: %w", h.Path("home.json"), err)
	}
	return h.unsealed(read)
}

func (h Home) unsealed(read kept) (Settings, error) {
	s := read.Settings.clone()
	s.RecordsDSN = read.RecordsDSN
	maps.Copy(s.Passwords, read.Passwords)
	if len(read.Sealed) == 0 {
		return s, nil
	}
	key, err := seal.Read(h.KeyFile())
	if err != nil {
		return s, err
	}
	for name, sealed := range read.Sealed {
		secret, err := key.Open(name, sealed)
		if err != nil {
			return s, fmt.Errorf("read %s: %w", h.Path("home.json"), err)
		}
		if id, ok := strings.CutPrefix(name, sealedPassword); ok {
			s.Passwords[id] = string(secret)
		} else if name == sealedDSN {
			s.RecordsDSN = string(secret)
		}
	}
	return s, nil
}

// WriteSettings replaces the settings in one step.
func (h Home) WriteSettings(s Settings) error {
	key, err := seal.ReadOrMake(h.KeyFile())
	if err != nil {
		return err
	}
	sealed := map[string][]byte{}
	for id, password := range s.Passwords {
		sealed[sealedPassword+id] = key.Seal(sealedPassword+id, []byte(password))
	}
	if s.RecordsDSN != "" {
		sealed[sealedDSN] = key.Seal(sealedDSN, []byte(s.RecordsDSN))
	}
	text, err := json.MarshalIndent(kept{Settings: s, Sealed: sealed}, "", "  ")
	if err != nil {
		return err
	}
	return ownfile.Write(h.Path("home.json"), append(text, '\n'), 0o600)
}

// InUse tells whether another service holds the home.
func (h Home) InUse() bool {
	file, err := ownfile.Open(h.Path("lock"))
	if err != nil {
		return false
	}
	defer file.Close()
	return errors.Is(syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB), syscall.EWOULDBLOCK)
}
