package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

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
	Port   int    // of the site's database server
	Ticket string // the text of the PHP that signs a user in; empty for none
	// Prepend is PHP of the kit that runs before every script.
	Prepend string
}

// lastAnswers is how long PHP that was asked to end may go on with what it is working on.
const lastAnswers = 30 * time.Second

// PHPMaster is one site's PHP: a listening socket that the service holds, and an FPM master that takes it over at the first
// connection and goes to rest when nobody asks any more. What comes in meanwhile waits in the socket: nothing is lost.
type PHPMaster struct {
	supervisor *proc.Supervisor
	abilities  proc.Abilities
	bell       *Doorbell
	place      PHPPlace
	givenUp    func(error)
	listener   *net.UnixListener
	handed     *os.File // the service's copy of the socket, handed to every FPM

	mu      sync.Mutex // held while PHP starts or stops
	state   sync.Mutex // guards what follows
	engine  *Engine
	site    site.Site
	turn    int // which of the two folders holds the configuration in use
	process *proc.Process
	idle    time.Time // since when there has been no worker; zero while there is one
	closed  bool
}

// OpenPHP writes a site's configuration and opens its socket. PHP itself starts with Wake, or with the first connection. givenUp is
// told when PHP keeps dying; by then the socket is closed, so that visitors are answered instead of waiting.
func OpenPHP(supervisor *proc.Supervisor, bell *Doorbell, e *Engine, s site.Site, place PHPPlace, abilities proc.Abilities, givenUp func(error)) (*PHPMaster, error) {
	if len(place.Socket) > 107 {
		return nil, fmt.Errorf("the socket path %s is %d bytes long, and 107 is the most: choose a shorter home folder", place.Socket, len(place.Socket))
	}
	for _, dir := range []string{place.Dir, place.Temp, place.Logs, place.Mail, filepath.Dir(place.Socket)} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
	}
	m := &PHPMaster{supervisor: supervisor, abilities: abilities, bell: bell, place: place, givenUp: givenUp, engine: e, site: s}
	if err := m.configure(e, s, m.turn); err != nil {
		return nil, err
	}
	os.Remove(place.Socket) // of a service that was killed
	var err error
	if m.listener, err = net.ListenUnix("unix", &net.UnixAddr{Name: place.Socket, Net: "unix"}); err != nil {
		return nil, fmt.Errorf("open the socket for PHP of %s: %w", s.Name, err)
	}
	if m.handed, err = m.listener.File(); err != nil {
		m.listener.Close()
		return nil, err
	}
	return m, m.watch()
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
	for _, path := range m.logs() {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		file.Close()
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
		KitPHP: place.Prepend, Children: 12, ExtensionDir: extensionDir, Extensions: render.Extensions(extensions, s.Settings)}
	if configuration.Cache, err = m.cache(e, configuration.Extensions); err != nil {
		return err
	}
	if !m.abilities.Files {
		configuration.OpenBasedir = strings.Join(append([]string{s.Folder, place.Temp, dir, place.Probe, place.Mail, "/usr/share"}, s.Settings.Allow...), ":")
	}
	texts := map[string]string{}
	if place.Ticket != "" {
		configuration.Ticket = filepath.Join(dir, "ticket.php")
		texts["ticket.php"] = place.Ticket
	}
	sink := "#!/bin/sh\n# Mail that this site sends is kept here and goes nowhere.\nexec cat > \"$(mktemp '" + place.Mail + "/XXXXXXXXXXXX.eml')\"\n"
	maps.Copy(texts, map[string]string{"php-fpm.conf": configuration.Pool(), "php.ini": configuration.Ini(), "prepend.php": configuration.Prepend(), "sendmail": sink})
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
	command := exec.CommandContext(ctx, e.Program("php-fpm"), append(m.arguments(turn), "-t")...)
	command.Env = []string{"PHP_INI_SCAN_DIR=", "PATH=/usr/bin:/bin", "TMPDIR=" + m.place.Temp}
	out, err := command.CombinedOutput()
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

// watch has the first connection wake PHP.
func (m *PHPMaster) watch() error {
	return m.bell.Watch(m.handed, func() {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		err := m.Wake(ctx)
		for attempt := 0; attempt < 2 && err != nil && !m.isClosed(); attempt++ {
			err = m.Wake(ctx)
		}
		if err != nil && !m.isClosed() {
			m.closeSocket()
			m.givenUp(err)
		}
	})
}

func (m *PHPMaster) isClosed() bool {
	m.state.Lock()
	defer m.state.Unlock()
	return m.closed
}

// Wake starts PHP unless it runs, and returns once it answers.
func (m *PHPMaster) Wake(ctx context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.running() != nil {
		return nil
	}
	if m.isClosed() {
		return errors.New("the site's PHP was stopped")
	}
	m.bell.Leave(m.handed) // who starts it need not be the first visitor
	process, err := m.start(ctx, m.engine, m.site, m.turn)
	if err != nil {
		return err
	}
	m.adopt(process)
	return nil
}

func (m *PHPMaster) running() *proc.Process {
	m.state.Lock()
	defer m.state.Unlock()
	return m.process
}

func (m *PHPMaster) adopt(process *proc.Process) {
	m.state.Lock()
	defer m.state.Unlock()
	m.process, m.idle = process, time.Time{}
}

func (m *PHPMaster) start(ctx context.Context, e *Engine, s site.Site, turn int) (*proc.Process, error) {
	log := m.logs()[0]
	started := logSize(log)
	var process *proc.Process
	confine := &proc.Confinement{ReadFolders: []string{e.Root(), m.dir(turn)}, ReadFiles: []string{m.place.Probe},
		WriteFolders: append([]string{s.Folder, m.place.Temp, m.place.Mail}, s.Settings.Allow...), WriteFiles: m.logs()}
	if s.Settings.Offline {
		confine.OnlyPorts = []uint16{uint16(m.place.Port)}
	}
	process, err := m.supervisor.Start(ctx, proc.Spec{Name: "php of " + s.Name, Program: e.Program("php-fpm"), Arguments: m.arguments(turn),
		Env: []string{"FPM_SOCKETS=" + m.place.Socket + "=3", "PHP_INI_SCAN_DIR=", "PATH=/usr/local/bin:/usr/bin:/bin", "TMPDIR=" + m.place.Temp},
		Dir: m.place.Temp, Log: filepath.Join(m.place.Dir, "start.log"), Files: []*os.File{m.handed},
		Confine:     confine,
		Ready:       func(context.Context) error { return saysReady(log, &started) },
		StartWithin: 20 * time.Second, StopSignal: syscall.SIGQUIT, Grace: 3 * time.Second, Attempts: 6,
		GivenUp: func(err error) {
			if m.running() == process {
				m.closeSocket()
				m.givenUp(err)
			}
		}})
	return process, err
}

// Change puts a site on another engine or other settings: the new PHP takes the socket over while the old one still answers, which is
// then asked to end after its last answer. When the new one does not start, nothing has changed.
func (m *PHPMaster) Change(ctx context.Context, e *Engine, s site.Site) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.isClosed() {
		return errors.New("the site's PHP was stopped")
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
	m.engine, m.site, m.turn = e, s, next
	m.state.Unlock()
	m.adopt(process)
	if old != nil {
		old.StopWithin(lastAnswers)
	}
	return nil
}

// Rest ends PHP after its last answer; the next connection wakes it.
func (m *PHPMaster) Rest() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	process := m.running()
	if process == nil || m.isClosed() {
		return nil
	}
	m.adopt(nil)
	process.StopWithin(lastAnswers)
	return m.watch()
}

// Hold ends PHP after its last answer and lets everybody who comes wait, until Release or Change.
func (m *PHPMaster) Hold() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.bell.Leave(m.handed)
	if process := m.running(); process != nil {
		m.adopt(nil)
		process.StopWithin(lastAnswers)
	}
}

// Release ends Hold.
func (m *PHPMaster) Release() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.running() != nil || m.isClosed() {
		return nil
	}
	return m.watch()
}

// CheckPHP has an engine read the configuration that a site would have on it, and returns its own words where it refuses.
func CheckPHP(ctx context.Context, e *Engine, s site.Site, place PHPPlace, abilities proc.Abilities) error {
	place.Dir = filepath.Join(place.Dir, "check")
	defer os.RemoveAll(place.Dir)
	if err := os.MkdirAll(place.Logs, 0o700); err != nil {
		return err
	}
	m := &PHPMaster{abilities: abilities, place: place}
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
	names = slices.DeleteFunc(names, render.Kept)
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
	return render.PHP{Site: site.Site{Settings: settings}, ExtensionDir: dir, Extensions: render.Extensions(names, settings), Temp: temp}.Ini(), nil
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

// PID is the FPM master's process id; 0 while it is at rest.
func (m *PHPMaster) PID() int {
	if process := m.running(); process != nil {
		return process.PID()
	}
	return 0
}

// Broken tells whether PHP was given up.
func (m *PHPMaster) Broken() bool { return m.isClosed() }

// closeSocket makes new connections fail at once.
func (m *PHPMaster) closeSocket() {
	m.state.Lock()
	defer m.state.Unlock()
	if m.closed {
		return
	}
	m.closed = true
	m.bell.Leave(m.handed)
	m.listener.Close()
	m.handed.Close()
}

// Stop ends PHP and gives the socket up.
func (m *PHPMaster) Stop() {
	m.closeSocket()
	m.mu.Lock()
	defer m.mu.Unlock()
	if process := m.running(); process != nil {
		process.Stop()
	}
}
