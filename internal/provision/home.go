package provision

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"vessik/internal/core/site"
)

// Home is the folder that everything of one service lives in.
type Home struct {
	Dir     string
	Engines string // the engine store, which several homes may share
}

// DefaultHome is ~/vessik, for root /var/lib/vessik; VESSIK_HOME goes before both.
func DefaultHome() (Home, error) {
	base := "/var/lib"
	if os.Geteuid() != 0 {
		user, err := os.UserHomeDir()
		if err != nil {
			return Home{}, fmt.Errorf("no home folder: %w; give one with -home", err)
		}
		base = user
	}
	return NewHome(cmp.Or(os.Getenv("VESSIK_HOME"), filepath.Join(base, "vessik")), filepath.Join(base, "vessik", "engines"))
}

// NewHome names a home. Its engines are those of VESSIK_ENGINES, or of the given store.
func NewHome(dir, engines string) (Home, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return Home{}, err
	}
	engines, err = filepath.Abs(cmp.Or(os.Getenv("VESSIK_ENGINES"), engines))
	return Home{Dir: dir, Engines: engines}, err
}

func (h Home) path(parts ...string) string {
	return filepath.Join(append([]string{h.Dir}, parts...)...)
}

// ServiceFile tells clients where the service is; TokenFile holds what they show it.
func (h Home) ServiceFile() string { return h.path("service.json") }
func (h Home) TokenFile() string   { return h.path("token") }

func (h Home) siteLogs(site string) string { return h.path("logs", "sites", site) }

// Prepare makes the folders, so that nobody else can look into them.
func (h Home) Prepare() error {
	for _, dir := range []string{h.Dir, h.Engines} {
		if site.UnsafeInPath(dir) {
			return fmt.Errorf("%q has characters that a web server's configuration cannot hold: choose a folder without quotes, $, \\, ;, %%, braces, brackets and wildcards", dir)
		}
	}
	const longest = 70 // leaves room for the sockets below it, see unix(7)
	if len(h.Dir) > longest {
		return fmt.Errorf("the home folder's path is %d bytes long, and %d is the most: choose a shorter one with -home", len(h.Dir), longest)
	}
	for _, dir := range []string{"", "sites", "run", "run/sockets", "logs", "logs/sites", "databases", "records", "tmp", "mail", "kept", "restore", "kits", "touches", "shelf"} {
		if err := os.MkdirAll(h.path(dir), 0o700); err != nil {
			return fmt.Errorf("make the home folder: %w; choose one with -home that the service's account can enter and write to", err)
		}
	}
	return os.Chmod(h.Dir, 0o700)
}

// ErrHomeInUse says that another service works in this home.
var ErrHomeInUse = errors.New("the home folder is in use by another service")

// lock holds the home until the returned file is closed, or this process ends in whatever way.
func (h Home) lock() (*os.File, error) {
	file, err := os.OpenFile(h.path("lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the home folder: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w; stop that one first, or choose another folder with -home", h.Dir, ErrHomeInUse)
	}
	return file, nil
}

// Settings are what a home needs to know before its records are there. Ports are chosen once: they stand in every site's data.
type Settings struct {
	Dir           string            `json:"dir"` // where the home was when it was last used
	GatewayPort   int               `json:"gateway_port"`
	RecordsEngine string            `json:"records_engine"`
	Ports         map[string]int    `json:"ports"`     // of database engines
	Passwords     map[string]string `json:"passwords"` // of database administrators
	// Variables are server variables by database engine; PortRange is where sites get their ports from, [0 0] the usual.
	Variables map[string]map[string]string `json:"variables,omitempty"`
	PortRange [2]int                       `json:"port_range,omitzero"`
	// HostsAllowed says that the user lets the service keep a block in the hosts file.
	HostsAllowed bool `json:"hosts_allowed,omitempty"`
	// RecordsDSN names an external server for the records, as go-sql-driver writes it; empty for one of their own.
	RecordsDSN string `json:"records_dsn,omitempty"`
}

// ReadSettings returns a home's settings; a new home has empty ones.
func (h Home) ReadSettings() (Settings, error) {
	s := Settings{Ports: map[string]int{}, Passwords: map[string]string{}, Variables: map[string]map[string]string{}}
	text, err := os.ReadFile(h.path("home.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	if err != nil {
		return s, fmt.Errorf("read %s: %w", h.path("home.json"), err)
	}
	return s, nil
}

// WriteSettings replaces the settings in one step.
func (h Home) WriteSettings(s Settings) error {
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return WriteSecret(h.path("home.json"), append(text, '\n'))
}

// WriteSecret replaces a file that only this account may read.
func WriteSecret(path string, text []byte) error {
	if err := os.WriteFile(path+".next", text, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".next", path)
}

// InUse tells whether another service holds the home.
func (h Home) InUse() bool {
	file, err := os.Open(h.path("lock"))
	if err != nil {
		return false
	}
	defer file.Close()
	return errors.Is(syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB), syscall.EWOULDBLOCK)
}
