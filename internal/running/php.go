package running

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"slices"

	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
	"vessik/internal/safefile"
)

// StartPHP opens a site's PHP unless it is open, and wakes it.
func (m *Machine) StartPHP(ctx context.Context, s site.Site) error {
	if master := m.Master(s.Name); master != nil && (s.State == site.Failed || master.Broken()) {
		m.StopPHP(s)
	}
	if err := m.OpenPHP(s); err != nil {
		return err
	}
	err := m.Master(s.Name).Wake(ctx)
	if err != nil {
		m.StopPHP(s)
	}
	return err
}

// Master is a site's PHP, nil where it is not open.
func (m *Machine) Master(name string) *engine.PHPMaster {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.masters[name]
}

// OpenPHP opens the socket that a site's PHP takes over at the first connection, unless it is open.
func (m *Machine) OpenPHP(s site.Site) error {
	if m.Master(s.Name) != nil {
		return nil
	}
	e, err := m.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	if _, err := os.Stat(s.Folder); err != nil {
		return fmt.Errorf("the site's folder %s is not there (%w); put it back, or retire the site", s.Folder, err)
	}
	if err := m.LayPlaces(s); err != nil {
		return err
	}
	master, err := engine.OpenPHP(m.Supervisor, m.Bell, e, s, m.PHPPlace(s), func(reason error) { m.Failed(s.Name, reason) })
	if err != nil {
		return err
	}
	m.mu.Lock()
	m.masters[s.Name] = master
	m.mu.Unlock()
	return nil
}

// LayPlaces makes the empty folders in a site's own at which its further folders stand in its cells.
func (m *Machine) LayPlaces(s site.Site) error {
	for _, shared := range s.Settings.Bound() {
		if err := safefile.MakeFolder(s.Folder, shared.Place); err != nil {
			return fmt.Errorf("make the place of %s in the site's folder: %w; mend that, or close it with: vessik settings %s -drop %s",
				shared.Folder, err, s.Name, shared.Folder)
		}
	}
	return nil
}

// ClearPlaces takes away empty folders at which no further folder stands any more.
func (m *Machine) ClearPlaces(s site.Site, before site.Settings) {
	for _, shared := range before.Bound() {
		if !slices.ContainsFunc(s.Settings.Bound(), func(now site.Shared) bool { return site.Inside(now.Place, shared.Place) }) {
			safefile.RemoveEmpty(s.Folder, shared.Place)
		}
	}
}

// StopPHP ends a site's PHP, and takes its socket away.
func (m *Machine) StopPHP(s site.Site) {
	m.mu.Lock()
	master := m.masters[s.Name]
	delete(m.masters, s.Name)
	m.mu.Unlock()
	if master != nil {
		master.Stop()
	}
	ownfile.Remove(m.Socket(s)) // its folder stays: a web server that still runs has it
}

// Wake starts a site's PHP unless it runs, and does not wait for it.
func (m *Machine) Wake(s site.Site) {
	if master := m.Master(s.Name); master != nil && master.PID() == 0 {
		m.Work.Go(func() { master.Wake(m.Work.Context()) })
	}
}

// Resting tells whether a running site's PHP is not loaded.
func (m *Machine) Resting(name string) bool {
	master := m.Master(name)
	s, _ := m.Registry.Site(name)
	return master != nil && master.PID() == 0 && s.State == site.Running
}

// ProbeFile is the PHP that answers checks from inside a site.
func (m *Machine) ProbeFile() string { return m.Home.Path("run", "probe.php") }

// Socket is where a site's PHP listens, in a folder that only its own web server has. Where there are no cells, a name that cannot be
// guessed stands before it. unix(7) leaves a path 107 bytes.
func (m *Machine) Socket(s site.Site) string {
	sum := sha256.Sum256([]byte("socket of " + s.Name + " " + s.Probe))
	return m.Home.Path("run", "sockets", hex.EncodeToString(sum[:8]), "php.sock")
}

// PHPPlace is where a site's PHP has its things.
func (m *Machine) PHPPlace(s site.Site) engine.PHPPlace {
	name := s.Name
	k := m.CMS.Of(s)
	ticket, _ := k.Script(k.Ticket.Script) // its CMS was judged
	return engine.PHPPlace{Trusted: m.Trusted(),
		Network: m.network, Limits: m.limits, Full: m.isFull, Ticket: string(ticket), Prepend: k.Prepend, Debug: k.Debug,
		Helper: m.helper(s), HelperLoad: k.Helpers.Load,
		Dir: m.Home.Path("run", "php", name), Temp: m.Home.Path("tmp", name), Logs: m.Home.SiteLogs(name),
		Mail: m.Home.Path("mail", name, "spool"), Socket: m.Socket(s), Probe: m.ProbeFile()}
}
