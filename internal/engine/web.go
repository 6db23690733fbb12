package engine

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/proc"
)

// WebServer runs one version of nginx or Apache for the sites that chose it: one of its own for each, in a cell, on a port that the
// service holds. A site's web server starts with its first visitor and rests with the site; no configuration is shared.
type WebServer struct {
	Engine *Engine
	// GivenUp is told when a site's web server keeps dying; by then nobody is accepted any more. May be nil.
	GivenUp func(name string, reason error)

	supervisor *proc.Supervisor
	bell       *Doorbell
	dir        string

	mu     sync.Mutex
	sites  map[string]*webSite
	ending sync.WaitGroup // processes that finish their last answers
}

// VirtualHost is one site's configuration text, the port that it listens on, and what its web server has of the site.
type VirtualHost struct {
	Text    string
	Port    int
	Bound   string // further folders at places in the first of them: FOLDER=PLACE, joined by newlines
	Folders string // the site's folders, joined by newlines: for reading
	PHP     string // the folder of its PHP's socket
	Logs    string // its log folder
	// Limits of its cell.
	Limits cell.Limits
}

// webSite is one site's web server.
type webSite struct {
	held
	server *WebServer
	name   string
	port   int
	host   VirtualHost // guarded by held.mu
	turn   int         // which of the two folders holds the configuration in use
	quiet  time.Time   // since when nobody has been connected; guarded by held.state
	// goesToRest keeps a second rest from waiting behind the first, and so from ending what a visitor woke meanwhile.
	goesToRest atomic.Bool
}

// ErrPortTaken says that something else listens on a site's port.
var ErrPortTaken = errors.New("port is taken")

// NewWebServer prepares the one of an engine.
func NewWebServer(supervisor *proc.Supervisor, bell *Doorbell, e *Engine, runDir string) (*WebServer, error) {
	return &WebServer{Engine: e, supervisor: supervisor, bell: bell, dir: runDir, sites: map[string]*webSite{}}, os.MkdirAll(runDir, 0o700)
}

// Apply adds, changes (a virtual host) and removes (nil) sites, side by side. What the engine refuses, or whose port is taken, is left
// out and named in broken. Once it returns, what it names listens, and is served by what was given. lazily leaves the start of those
// that are new to their first visitor.
func (w *WebServer) Apply(ctx context.Context, changes map[string]*VirtualHost, lazily bool) (broken map[string]error) {
	broken = map[string]error{}
	var mu sync.Mutex
	var group sync.WaitGroup
	for name, host := range changes {
		group.Go(func() {
			var err error
			if host == nil {
				w.remove(name)
			} else {
				err = w.put(ctx, name, *host, lazily)
			}
			if err != nil {
				mu.Lock()
				broken[name] = err
				mu.Unlock()
			}
		})
	}
	group.Wait()
	return broken
}

func (w *WebServer) find(name string) *webSite {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.sites[name]
}

func (w *WebServer) put(ctx context.Context, name string, host VirtualHost, lazily bool) error {
	if there := w.find(name); there != nil {
		if there.port == host.Port && !there.Broken() {
			return there.change(ctx, host)
		}
		if err := w.Check(ctx, name, host); err != nil {
			return err
		}
		w.remove(name)
	}
	listener, err := listenOn(ctx, host.Port)
	if err != nil {
		return fmt.Errorf("port %d is held by %s: %w", host.Port, Listener(host.Port), ErrPortTaken)
	}
	s := &webSite{server: w, name: name, port: host.Port, host: host}
	s.bell, s.begin = w.bell, func(ctx context.Context) (*proc.Process, error) { return s.start(ctx, s.host, s.turn) }
	s.givenUp = func(err error) {
		if w.GivenUp != nil {
			w.GivenUp(name, err)
		}
	}
	if err := s.take(listener); err != nil {
		return err
	}
	if !lazily {
		if err := s.Wake(ctx); err != nil {
			s.Stop()
			return cmp.Or(w.Check(ctx, name, host), err) // its own words, where it has any
		}
	}
	w.mu.Lock()
	w.sites[name] = s
	w.mu.Unlock()
	return nil
}

func (w *WebServer) remove(name string) {
	w.mu.Lock()
	s := w.sites[name]
	delete(w.sites, name)
	w.mu.Unlock()
	if s == nil {
		return
	}
	s.closeSocket()
	s.mu.Lock()
	defer s.mu.Unlock()
	folder := filepath.Join(w.dir, name)
	gone := folder + ".gone" // the site may come back before its last answers are given
	os.RemoveAll(gone)
	os.Rename(folder, gone)
	old := s.running()
	s.adopt(nil)
	w.ending.Go(func() {
		if old != nil {
			old.StopWithin(2 * time.Second)
		}
		os.RemoveAll(gone)
	})
	if old != nil {
		s.left(context.Background(), old.PID())
	}
}

// folder is one of the two of generated files: a running web server keeps its own while the next one is tried.
func (s *webSite) folder(turn int) string {
	return filepath.Join(s.server.dir, s.name, []string{"a", "b"}[turn])
}

// start runs the web server in a cell.
func (s *webSite) start(ctx context.Context, host VirtualHost, turn int) (*proc.Process, error) {
	w, folder := s.server, s.folder(turn)
	if err := os.RemoveAll(folder); err != nil {
		return nil, err
	}
	logs := []string{filepath.Join(host.Logs, "access.log"), filepath.Join(host.Logs, "web.log")}
	if err := touchLogs(host.Logs, logs); err != nil {
		return nil, err
	}
	file, err := w.write(folder, host)
	if err != nil {
		return nil, err
	}
	program, arguments, pid, stop := "nginx", w.nginxArguments(folder, file, logs[1]), "nginx.pid", syscall.SIGQUIT
	if w.Engine.IsApache() {
		program, arguments, pid, stop = "apache2", []string{"-DFOREGROUND", "-f", file}, "apache.pid", syscall.SIGWINCH
	}
	c := w.cell(folder, host)
	c.WriteFiles, c.Listen = logs, map[uint16]*os.File{uint16(host.Port): s.handed}
	var process *proc.Process
	process, err = w.supervisor.Start(ctx, proc.Spec{Name: w.Engine.ID + " of " + s.name, Program: w.Engine.Program(program),
		Arguments: arguments,
		Env:       []string{"PATH=/usr/bin:/bin", "TMPDIR=" + folder}, Dir: folder, Log: filepath.Join(folder, "start.log"), Cell: c,
		Ready:       func(context.Context) error { _, err := os.Stat(filepath.Join(folder, pid)); return err },
		StartWithin: 20 * time.Second, StopSignal: stop, Grace: 3 * time.Second, Attempts: 6,
		GivenUp: func(err error) {
			if s.running() == process {
				s.giveUp(err)
			}
		}})
	return process, err
}

// cell is what a web server has: the site's folders for reading, and its PHP's socket.
func (w *WebServer) cell(folder string, host VirtualHost) cell.Cell {
	c := cell.Cell{Name: "web", ReadFolders: []string{w.Engine.Root()}, WriteFolders: []string{folder}, UnixSockets: true, Limits: host.Limits}
	for _, path := range append(strings.Split(host.Folders, "\n"), host.PHP) {
		if path != "" {
			c.ReadFolders = append(c.ReadFolders, path)
		}
	}
	own, _, _ := strings.Cut(host.Folders, "\n")
	c.Binds = Binds(own, site.Settings{Allow: strings.Split(host.Bound, "\n")}.Bound(), false)
	return c
}

// Binds are further folders at their places in a site's own.
func Binds(own string, all []site.Shared, write bool) (binds []cell.Bind) {
	for _, shared := range all {
		binds = append(binds, cell.Bind{From: shared.Folder, At: filepath.Join(own, shared.Place), Write: write})
	}
	return binds
}

// touchLogs makes logs be there before a program that may write them, and nothing beside them, starts.
func touchLogs(dir string, paths []string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for _, path := range paths {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
		if err != nil {
			return err
		}
		file.Close()
	}
	return nil
}

// write puts down a whole configuration and returns the main file's path.
func (w *WebServer) write(folder string, host VirtualHost) (string, error) {
	if err := os.MkdirAll(filepath.Join(folder, "temp"), 0o700); err != nil {
		return "", err
	}
	hostFile, mainFile := filepath.Join(folder, "host.conf"), filepath.Join(folder, "main.conf")
	log := filepath.Join(host.Logs, "web.log")
	text := ""
	if w.Engine.IsApache() {
		modules := firstFolder(w.Engine.Root(), "usr/lib/apache2/modules", "modules", "lib/apache2/modules", "libexec")
		load := slices.DeleteFunc(slices.Clone(apacheModules),
			func(name string) bool { return !fileExists(filepath.Join(modules, "mod_"+name+".so")) })
		types, err := w.mediaTypes(folder, "etc/mime.types", "conf/mime.types")
		if err != nil {
			return "", err
		}
		text = render.Apache{Modules: modules, Types: types, Dir: folder, Port: host.Port, Log: log, Load: load, Host: hostFile}.String()
	} else {
		types, err := w.mediaTypes(folder, "etc/nginx/mime.types", "conf/mime.types")
		if err != nil {
			return "", err
		}
		text = render.Nginx{Types: types, Dir: folder, Host: hostFile, Log: log}.String()
	}
	return mainFile, errors.Join(os.WriteFile(hostFile, []byte(host.Text), 0o600), os.WriteFile(mainFile, []byte(text), 0o600))
}

// apacheModules is what a site may expect of its Apache, in an order that they can be loaded in.
var apacheModules = []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_host", "authz_user", "auth_basic",
	"access_compat", "alias", "dir", "mime", "env",
	"setenvif", "headers", "remoteip", "expires", "filter", "deflate", "brotli", "negotiation", "autoindex", "reqtimeout", "rewrite", "proxy",
	"proxy_fcgi"}

// nginxArguments name the log before the configuration does, where nginx knows how (since 1.19.5): else it tries its built-in place
// first, and says so.
func (w *WebServer) nginxArguments(folder, file, log string) []string {
	arguments := []string{"-p", folder, "-c", file}
	if w.Engine.atLeast("1.19.5") {
		arguments = append(arguments, "-e", log)
	}
	return arguments
}

var (
	faultyLine   = regexp.MustCompile(`in \S*/host\.conf:(\d+)`)
	apacheFault  = regexp.MustCompile(`(?s)Syntax error on line (\d+) of \S*host\.conf:\s*(.*)`)
	logFileAlert = regexp.MustCompile(`(?m)^nginx: \[alert\] could not open error log file.*\n`)
)

// Check has the engine read a virtual host, in a cell as the one that it would run in, and returns its own words where it refuses;
// nothing changes.
func (w *WebServer) Check(ctx context.Context, name string, host VirtualHost) error {
	folder, err := os.MkdirTemp(w.dir, ".check-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	logs := []string{filepath.Join(host.Logs, "access.log"), filepath.Join(host.Logs, "web.log")}
	if err := touchLogs(host.Logs, logs); err != nil {
		return err
	}
	file, err := w.write(folder, host)
	if err != nil {
		return err
	}
	stand, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)}) // in the place of the port, which is in use
	if err != nil {
		return err
	}
	defer stand.Close()
	socket, err := stand.File()
	if err != nil {
		return err
	}
	defer socket.Close()
	c := w.cell(folder, host)
	c.Binds = nil // their places need not be there yet
	c.WriteFiles, c.Listen = logs, map[uint16]*os.File{uint16(host.Port): socket}
	program, arguments := "apache2", []string{"-t", "-f", file}
	if !w.Engine.IsApache() {
		program, arguments = "nginx", append(w.nginxArguments(folder, file, logs[1]), "-t", "-q")
	}
	command, err := w.supervisor.Command(c, w.Engine.Program(program), arguments...)
	if err != nil {
		return err
	}
	command.Dir = folder
	out, err := command.Run(ctx)
	if err == nil {
		return nil
	}
	if fault := apacheFault.FindStringSubmatch(string(out)); fault != nil {
		return fmt.Errorf("Apache refuses the virtual host: %s%s", strings.TrimSpace(fault[2]), quoteLine(host.Text, fault[1]))
	}
	words := bytes.TrimSpace(logFileAlert.ReplaceAll(out, nil))
	if fault := faultyLine.FindSubmatch(words); fault != nil {
		return fmt.Errorf("nginx refuses the virtual host: %s%s", words, quoteLine(host.Text, string(fault[1])))
	}
	return fmt.Errorf("%s refuses its configuration: %s (%w)", w.Engine.ID, words, err)
}

// quoteLine quotes a line of a virtual host that was refused.
func quoteLine(text, number string) string {
	n, _ := strconv.Atoi(number)
	lines := bytes.Split([]byte(text), []byte("\n"))
	if n < 1 || n > len(lines) {
		return ""
	}
	return fmt.Sprintf(" (line %d: %s)", n, bytes.TrimSpace(lines[n-1]))
}

// change exchanges a running web server for one of another configuration: the new one takes the socket over, and once this returns
// nobody is accepted by the old one, which ends after its last answer. When the new one does not start, nothing has changed.
func (s *webSite) change(ctx context.Context, host VirtualHost) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.running()
	if s.host == host {
		return nil
	}
	if old == nil {
		if err := s.server.Check(ctx, s.name, host); err != nil {
			return err
		}
		s.host = host
		return nil
	}
	process, err := s.start(ctx, host, 1-s.turn)
	if err != nil {
		return cmp.Or(s.server.Check(ctx, s.name, host), err)
	}
	s.host, s.turn = host, 1-s.turn
	s.adopt(process)
	pid := old.PID()
	s.server.ending.Go(func() { old.StopWithin(lastAnswers) })
	return s.left(ctx, pid)
}

// leaveWithin is for how long a web server may take to stop accepting, on a machine that is busy with other things.
const leaveWithin = 30 * time.Second

// left waits until no process of a web server that was asked to end holds the site's listening socket.
func (s *webSite) left(ctx context.Context, pid int) error {
	ctx, cancel := context.WithTimeout(ctx, leaveWithin)
	defer cancel()
	if pid == 0 {
		return nil
	}
	sockets := listening(s.port)
	if err := waitFor(ctx, func() bool { return !holds(pid, sockets) }); err != nil {
		return fmt.Errorf("the former web server of %s does not leave port %d: %w", s.name, s.port, err)
	}
	return nil
}

// Rest puts the web servers of sites that are at rest to rest, once nobody has been connected to them for a while; the next visitor
// brings them back.
func (w *WebServer) Rest(now time.Time, resting func(name string) (bool, time.Duration)) {
	w.mu.Lock()
	sites := slices.Collect(maps.Values(w.sites))
	w.mu.Unlock()
	var connected map[int]int
	for _, s := range sites {
		if s.PID() == 0 {
			continue
		}
		yes, after := resting(s.name)
		if yes && connected == nil { // asked only where it matters: the table is long on a busy machine
			connected = connections()
		}
		if s.idle(now, !yes || connected[s.port] > 0) >= after && yes && s.goesToRest.CompareAndSwap(false, true) {
			w.ending.Go(func() {
				defer s.goesToRest.Store(false)
				s.held.Rest()
			})
		}
	}
}

// idle is for how long it has not been busy.
func (s *webSite) idle(now time.Time, busy bool) time.Duration {
	s.state.Lock()
	defer s.state.Unlock()
	if busy || s.quiet.IsZero() {
		s.quiet = now
	}
	if since := s.process; since != nil && since.RunningSince().After(s.quiet) {
		s.quiet = since.RunningSince()
	}
	return now.Sub(s.quiet)
}

// PID is the process id of a site's web server; 0 while it is at rest.
func (w *WebServer) PID(name string) int {
	if s := w.find(name); s != nil {
		return s.PID()
	}
	return 0
}

// Serves tells whether a site is served.
func (w *WebServer) Serves(name string) bool { return w.find(name) != nil }

// Sites lists the sites that are served.
func (w *WebServer) Sites() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Sorted(maps.Keys(w.sites))
}

// Processes are the main processes' ids.
func (w *WebServer) Processes() []int {
	w.mu.Lock()
	defer w.mu.Unlock()
	pids := []int{}
	for _, s := range w.sites {
		if pid := s.PID(); pid != 0 {
			pids = append(pids, pid)
		}
	}
	return pids
}

// Stop ends all of them.
func (w *WebServer) Stop() {
	var group sync.WaitGroup
	for _, name := range w.Sites() {
		group.Go(func() { w.remove(name) })
	}
	group.Wait()
	w.ending.Wait()
}

func waitFor(ctx context.Context, condition func() bool) error {
	for !condition() {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(3 * time.Millisecond):
		}
	}
	return nil
}

// Listens tells whether something accepts connections on a port of 127.0.0.1.
func Listens(port int) bool {
	connection, err := net.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(port), time.Second)
	if err != nil {
		return false
	}
	connection.Close()
	return true
}

// usualTypes are media types of what sites are made of, for an engine of the user's own that brings no list of them.
var usualTypes = []string{"text/html html htm", "text/css css", "text/javascript js mjs", "text/plain txt", "text/xml xml", "text/csv csv",
	"application/json json map", "application/pdf pdf", "application/wasm wasm", "application/zip zip", "application/rss+xml rss",
	"application/atom+xml atom", "image/svg+xml svg svgz", "image/png png", "image/jpeg jpg jpeg", "image/gif gif", "image/webp webp",
	"image/avif avif", "image/x-icon ico", "font/woff woff", "font/woff2 woff2", "font/ttf ttf", "font/otf otf", "audio/mpeg mp3",
	"audio/ogg ogg", "video/mp4 mp4", "video/webm webm"}

// mediaTypes is the list of media types that an engine brings, or one beside its configuration: Debian's lie in /etc, outside the /usr
// that an engine of the user's own may be.
func (w *WebServer) mediaTypes(folder string, places ...string) (string, error) {
	for _, place := range places {
		if path := filepath.Join(w.Engine.Root(), place); fileExists(path) {
			return path, nil
		}
	}
	text, err := os.ReadFile(filepath.Join(filepath.Dir(w.Engine.Root()), places[0]))
	if err != nil && w.Engine.IsApache() {
		text = []byte(strings.Join(usualTypes, "\n") + "\n")
	} else if err != nil {
		text = []byte("types {\n" + strings.Join(usualTypes, ";\n") + ";\n}\n")
	}
	path := filepath.Join(folder, "mime.types")
	return path, os.WriteFile(path, text, 0o600)
}

func fileExists(path string) bool { _, err := os.Stat(path); return err == nil }
