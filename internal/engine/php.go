package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/proc"
)

// PHPPlace says where one site's PHP has its files.
type PHPPlace struct {
	Dir    string // generated files, read only to the site
	Temp   string
	Logs   string // the site writes the two logs of PHP in there, and cannot touch another file or the folder
	Mail   string // where the mail that the site sends is kept
	Socket string // held by the service; in a folder that the site cannot reach
	Probe  string // the file that answers checks
	// Trusted is the file of the authorities that the site believes.
	Trusted string
	// Network is what the site may reach, Limits what it may take.
	Network func(site.Site) *cell.Network
	Limits  func(site.Site) cell.Limits
	Full    func(site.Site) bool // it may write no more in its folder
	Ticket  string               // the text of the PHP that signs a user in; empty for none
	// Prepend is PHP of the CMS that runs before every script.
	Prepend string
	// Debug are the CMS's constants for a site that debugs, with their values in PHP.
	Debug map[string]string
	// Helper is the text of a local helper, HelperLoad the CMS's PHP that has $file be loaded as a plugin is.
	Helper     func(name string) (text string, ok bool)
	HelperLoad string
}

// PHPMaster is one site's PHP: a listening socket that the service holds, and an FPM master that serves it in a cell.
type PHPMaster struct {
	held
	supervisor *proc.Supervisor
	place      PHPPlace
	engine     *Engine // this and what follows are guarded by held.state
	site       site.Site
	turn       int       // which of the two folders holds the configuration in use
	idle       time.Time // since when there has been no worker; zero while there is one
	waited     bool      // somebody did at the last Knock, while there was no worker
}

// OpenPHP writes a site's configuration and opens its socket. PHP itself starts with Wake, or with the first connection. givenUp is
// told when PHP keeps dying; by then the socket is closed, so that visitors are answered instead of waiting.
func OpenPHP(supervisor *proc.Supervisor, bell *Doorbell, e *Engine, s site.Site, place PHPPlace, givenUp func(error)) (*PHPMaster, error) {
	if len(place.Socket) > 107 {
		return nil, fmt.Errorf("the socket path %s is %d bytes long, and 107 is the most: choose a shorter home folder", place.Socket,
			len(place.Socket))
	}
	for _, dir := range []string{place.Dir, place.Temp, place.Logs, place.Mail, filepath.Dir(place.Socket)} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	m := &PHPMaster{supervisor: supervisor, place: place, engine: e, site: s}
	m.bell, m.givenUp = bell, givenUp
	m.begin = func(ctx context.Context) (*proc.Process, error) {
		m.state.Lock()
		m.idle = time.Time{}
		m.state.Unlock()
		return m.start(ctx, m.engine, m.site, m.turn)
	}
	if err := m.configure(e, s, m.turn); err != nil {
		return nil, err
	}
	os.Remove(place.Socket) // of a service that was killed
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: place.Socket, Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("open the socket for PHP of %s: %w", s.Name, err)
	}
	return m, m.take(listener)
}

// dir is one of the two folders of generated files: a running PHP keeps its own while the next one is tried.
func (m *PHPMaster) dir(turn int) string {
	return filepath.Join(m.place.Dir, []string{"a", "b"}[turn])
}

func (m *PHPMaster) logs() []string {
	return []string{filepath.Join(m.place.Logs, "php-fpm.log"), filepath.Join(m.place.Logs, "php-error.log")}
}

// configure writes everything that an engine needs to run the site.
func (m *PHPMaster) configure(e *Engine, s site.Site, turn int) error {
	// The logs are there before PHP starts, so that it needs no right to make files beside them: in a folder that it could change, it
	// could turn the web server's logs into links to anything.
	if err := touchLogs(m.place.Logs, m.logs()); err != nil {
		return err
	}
	dir := m.dir(turn)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	extensionDir, extensions, err := extensionsOf(e)
	if err != nil {
		return err
	}
	place := m.place
	configuration := render.PHP{Site: s, Dir: dir, Temp: place.Temp, Logs: place.Logs, Socket: place.Socket, ProbeFile: place.Probe,
		Trusted: place.Trusted, CMSPHP: place.Prepend, CMSDebug: place.Debug, Children: 12, ExtensionDir: extensionDir,
		Extensions: render.Extensions(extensions, s.Settings, e.Extras), Environment: e.Environment(), HelperLoad: place.HelperLoad}
	if configuration.Helpers, err = LayHelpers(place, s.Settings.Helpers); err != nil {
		return err
	}
	if configuration.Cache, err = m.cache(e, configuration.Extensions); err != nil {
		return err
	}
	if m.supervisor.Abilities().Landlock < 2 && !m.supervisor.Abilities().Namespaces {
		configuration.OpenBasedir = strings.Join(append([]string{s.Folder, place.Temp, dir,
			filepath.Join(place.Dir, helpersFolder), place.Probe, place.Mail, "/usr/share"},
			s.Settings.Open()...), ":")
	}
	texts := map[string]string{}
	if place.Ticket != "" {
		configuration.Ticket = filepath.Join(dir, "ticket.php")
		texts["ticket.php"] = place.Ticket
	}
	maps.Copy(texts, map[string]string{"php-fpm.conf": configuration.Pool(), "php.ini": configuration.Ini(),
		"prepend.php": configuration.Prepend(), "sendmail": Sendmail(place.Mail)})
	for name, text := range texts {
		mode := os.FileMode(0o600)
		if name == "sendmail" {
			mode = 0o700
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), mode); err != nil {
			return err
		}
	}
	return nil
}

// Sendmail is the program by which a site's PHP and commands send mail: it is laid into a folder, whole before it has its ending.
func Sendmail(folder string) string {
	return "#!/bin/sh\n# Mail that this site sends is kept, and goes nowhere.\nnext=$(mktemp '" + folder + "/XXXXXXXXXXXX') && " +
		"cat > \"$next\" && exec mv \"$next\" \"$next.eml\"\n"
}

// cache is the folder of scripts compiled by this very PHP with these very extensions: with others, it would crash on them.
func (m *PHPMaster) cache(e *Engine, extensions []string) (string, error) {
	sum := sha256.Sum256([]byte(e.ID + e.Version + strings.Join(extensions, " ")))
	dir := filepath.Join(m.place.Temp, "opcache", hex.EncodeToString(sum[:6]))
	return dir, os.MkdirAll(dir, 0o700)
}

func (m *PHPMaster) arguments(turn int) []string {
	return []string{"--nodaemonize", "-c", filepath.Join(m.dir(turn), "php.ini"), "--fpm-config", filepath.Join(m.dir(turn), "php-fpm.conf")}
}

// check has PHP read its configuration, and returns its own words where it refuses or complains.
func (m *PHPMaster) check(ctx context.Context, e *Engine, turn int) error {
	c := m.cell(e, m.site, turn)
	c.Binds = nil // their places need not be there yet
	command, err := m.supervisor.Command(c, e.Program("php-fpm"), append(m.arguments(turn), "-t")...)
	if err != nil {
		return err
	}
	command.Env, command.Dir = []string{"PHP_INI_SCAN_DIR=", "PATH=/usr/bin:/bin", "TMPDIR=" + m.place.Temp}, m.place.Temp
	out, err := command.Run(ctx)
	for line := range strings.Lines(string(out)) {
		for _, mark := range []string{"Warning:", "ERROR:", "Fatal error:", "Error:", "syntax error"} {
			if _, words, ok := strings.Cut(line, mark); ok && !strings.Contains(line, "user and group") {
				return fmt.Errorf("%s refuses it: %s", e.ID, strings.TrimSpace(words))
			}
		}
	}
	if err != nil {
		return fmt.Errorf("%s refuses its configuration: %s", e.ID, bytes.TrimSpace(out))
	}
	return nil
}

func (m *PHPMaster) start(ctx context.Context, e *Engine, s site.Site, turn int) (*proc.Process, error) {
	log := m.logs()[0]
	started := logSize(log)
	var process *proc.Process
	process, err := m.supervisor.Start(ctx, proc.Spec{Name: "php of " + s.Name, Program: e.Program("php-fpm"), Arguments: m.arguments(turn),
		Env: []string{"FPM_SOCKETS=" + m.place.Socket + "=3", "PHP_INI_SCAN_DIR=", "PATH=/usr/local/bin:/usr/bin:/bin", "TMPDIR=" + m.place.Temp},
		Dir: m.place.Temp, Log: log, Files: []*os.File{m.handed}, Cell: m.cell(e, s, turn),
		Ready:       func(context.Context) error { return saysReady(log, &started) },
		StartWithin: 20 * time.Second, StopSignal: syscall.SIGQUIT, Grace: 3 * time.Second, Attempts: 6,
		GivenUp: func(err error) {
			if m.running() == process {
				m.giveUp(err)
			}
		}})
	return process, err
}

// cell is what a site's PHP has.
func (m *PHPMaster) cell(e *Engine, s site.Site, turn int) cell.Cell {
	c := cell.Cell{Name: s.Name, ReadFolders: []string{e.Root(), m.dir(turn), filepath.Join(m.place.Dir, helpersFolder)},
		ReadFiles:    slices.DeleteFunc([]string{m.place.Probe, m.place.Trusted}, func(path string) bool { return path == "" }),
		WriteFolders: append([]string{s.Folder, m.place.Temp, m.place.Mail}, s.Settings.Open()...), Binds: Binds(s.Folder,
			s.Settings.Bound(), true), WriteFiles: m.logs()}
	if m.place.Network != nil {
		c.Network, c.Limits = m.place.Network(s), m.place.Limits(s)
		if m.place.Full(s) {
			c.WriteFolders = slices.DeleteFunc(c.WriteFolders, func(path string) bool { return path == s.Folder })
			c.ReadFolders = append(c.ReadFolders, s.Folder)
		}
	}
	return c
}

// Change puts a site on another engine or other settings: the new PHP takes the socket over while the old one still answers, which is
// then asked to end after its last answer. When the new one does not start, nothing has changed.
func (m *PHPMaster) Change(ctx context.Context, e *Engine, s site.Site) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.Broken() {
		return errClosed
	}
	next := 1 - m.turn
	if err := m.configure(e, s, next); err != nil {
		return err
	}
	if err := m.check(ctx, e, next); err != nil {
		return err
	}
	process, err := m.start(ctx, e, s, next)
	if err != nil {
		return err
	}
	old := m.running()
	m.state.Lock()
	m.engine, m.site, m.turn, m.process, m.idle, m.onHold = e, s, next, process, time.Time{}, false
	m.state.Unlock()
	if old != nil {
		old.StopWithin(lastAnswers)
	}
	return nil
}

// CheckPHP has an engine read the configuration that a site would have on it, and returns its own words where it refuses.
func CheckPHP(ctx context.Context, supervisor *proc.Supervisor, e *Engine, s site.Site, place PHPPlace) error {
	place.Dir = filepath.Join(place.Dir, "check")
	defer os.RemoveAll(place.Dir)
	for _, dir := range []string{place.Temp, place.Mail} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	m := &PHPMaster{supervisor: supervisor, place: place, engine: e, site: s}
	if err := m.configure(e, s, 0); err != nil {
		return err
	}
	return m.check(ctx, e, 0)
}

// HasXdebug tells whether an engine brings Xdebug.
func HasXdebug(e *Engine) bool {
	_, names, err := extensionsOf(e)
	return err == nil && slices.Contains(names, "xdebug")
}

// Directives are the names of all settings that a PHP knows with all its extensions, as it tells them itself.
func Directives(ctx context.Context, e *Engine, temp string) ([]string, error) {
	settings := site.Settings{Xdebug: 9003}
	ini, err := CommandIni(e, temp, settings)
	if err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(temp, "directives-*.ini")
	if err != nil {
		return nil, err
	}
	defer os.Remove(file.Name())
	if _, err := file.WriteString(ini); err != nil {
		return nil, err
	}
	file.Close()
	command := exec.CommandContext(ctx, e.PHPCommand(), "-c", file.Name(), "-r", "echo implode(\"\\n\", array_keys(ini_get_all()));")
	command.Env = []string{"PHP_INI_SCAN_DIR=", "PATH=/usr/bin:/bin"}
	out, err := command.Output()
	if err != nil {
		return nil, fmt.Errorf("ask %s for its settings: %w", e.ID, err)
	}
	return strings.Fields(string(out)), nil
}

// Idle is for how long no request has been worked on, as far as the workers tell; 0 while one is, or while PHP is at rest.
func (m *PHPMaster) Idle(now time.Time) time.Duration {
	m.state.Lock()
	defer m.state.Unlock()
	if m.process == nil {
		return 0
	}
	if pid := m.process.PID(); pid == 0 || hasChildren(pid) {
		m.idle = time.Time{}
		return 0
	}
	if m.idle.IsZero() {
		m.idle = now.Add(-render.WorkerIdle(m.site.Settings.Rest()))
	}
	return now.Sub(m.idle)
}

// Knock has PHP see a visitor whom it has overlooked, and tells whether there was one. PHP-FPM is told of each arrival only once (epoll(7),
// edge-triggered), and passes over those that come while its last worker is being ended for having nothing to do; the next arrival has it
// look again. Called from time to time, it takes for overlooked who waits at two calls while no worker is there.
func (m *PHPMaster) Knock() bool {
	pid := m.PID()
	waits := pid != 0 && m.waits() && !hasChildren(pid)
	m.state.Lock()
	overlooked := waits && m.waited
	m.waited = waits
	m.state.Unlock()
	if !overlooked {
		return false
	}
	connection, err := net.DialTimeout("unix", m.place.Socket, time.Second)
	return err == nil && connection.Close() == nil
}

func hasChildren(pid int) bool {
	text, err := childrenFile(pid)
	return err != nil || len(bytes.TrimSpace(text)) > 0
}

// children are the process ids of a process's children; none where it is gone.
func children(pid int) []string {
	text, _ := childrenFile(pid)
	return strings.Fields(string(text))
}

func childrenFile(pid int) ([]byte, error) {
	return os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
}

// Switchable lists the shared extensions of an engine that a site may switch on or off.
func Switchable(e *Engine) ([]string, error) {
	_, names, err := extensionsOf(e)
	names = slices.DeleteFunc(names, func(name string) bool { return render.Kept(name) || e.isExtra(name) })
	names = slices.AppendSeq(names, maps.Keys(e.Extras))
	slices.Sort(names)
	return names, err
}

// extensionsOf lists the shared extensions that an engine brings.
func extensionsOf(e *Engine) (dir string, names []string, err error) {
	found := []string{}
	for _, pattern := range []string{"usr/lib/php/2*/*.so", "lib/php/extensions/*/*.so", "lib/php/2*/*.so"} {
		if found, _ = filepath.Glob(filepath.Join(e.Root(), pattern)); len(found) > 0 {
			break
		}
	}
	if len(found) == 0 && e.Adopted == "" {
		return "", nil, fmt.Errorf("%s brings no extensions", e.ID)
	}
	for _, path := range found {
		names, dir = append(names, strings.TrimSuffix(filepath.Base(path), ".so")), filepath.Dir(path)
	}
	return dir, names, nil
}

// CommandIni is a php.ini for running an engine's PHP from the command line.
func CommandIni(e *Engine, temp string, settings site.Settings) (string, error) {
	dir, names, err := extensionsOf(e)
	if err != nil {
		return "", err
	}
	return render.PHP{Site: site.Site{Settings: settings}, ExtensionDir: dir, Extensions: render.Extensions(names, settings, e.Extras),
		Temp: temp}.Ini(), nil
}

func logSize(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// saysReady reads FPM's own log from an offset, which it moves on past the line that it waits for.
func saysReady(path string, from *int64) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	if size := logSize(path); size < *from { // it was rotated
		*from = 0
	}
	text := make([]byte, max(logSize(path)-*from, 0))
	n, _ := file.ReadAt(text, *from)
	at := strings.Index(string(text[:n]), "ready to handle connections")
	if at < 0 {
		return fmt.Errorf("PHP has not said that it is ready")
	}
	*from += int64(at) + 20
	return nil
}
