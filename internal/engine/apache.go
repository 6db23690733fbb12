package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"vessik/internal/core/render"
	"vessik/internal/proc"
)

// Apache runs one confined Apache a site. A site's .htaccess may make Apache read and connect to anything that it can itself (see the
// file function of its expressions, and the P flag of RewriteRule), so what one site's Apache can is held to that site. The service
// holds the site's port and hands connections on: Apache starts with the first one and goes to rest with the site's PHP.
type Apache struct {
	Engine     *Engine
	supervisor *proc.Supervisor
	abilities  proc.Abilities
	dir, log   string

	mu     sync.Mutex
	sites  map[string]*apacheSite
	ending sync.WaitGroup // processes that finish their last answers
}

type apacheSite struct {
	server   *Apache
	name     string
	listener net.Listener
	open     atomic.Int64 // connections that are being handed on

	mu      sync.Mutex // held while Apache starts or is exchanged
	host    VirtualHost
	turn    int
	process *proc.Process
	port    int // where the process listens
	closed  bool
}

func newApache(supervisor *proc.Supervisor, e *Engine, abilities proc.Abilities, runDir, log string) (*Apache, error) {
	return &Apache{Engine: e, supervisor: supervisor, abilities: abilities, dir: runDir, log: log, sites: map[string]*apacheSite{}}, os.MkdirAll(runDir, 0o700)
}

// apacheModules is what a site may expect of its Apache, in an order that they can be loaded in.
var apacheModules = []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_host", "authz_user", "auth_basic", "access_compat", "alias", "dir", "mime", "env",
	"setenvif", "headers", "expires", "filter", "deflate", "brotli", "negotiation", "autoindex", "reqtimeout", "rewrite", "proxy", "proxy_fcgi"}

// write puts down one configuration and returns the main file's path.
func (w *Apache) write(folder string, host VirtualHost, port int) (string, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	modules := firstFolder(w.Engine.Root(), "usr/lib/apache2/modules", "modules", "lib/apache2/modules", "libexec")
	load := slices.DeleteFunc(slices.Clone(apacheModules), func(name string) bool { return !fileExists(filepath.Join(modules, "mod_"+name+".so")) })
	hostFile, mainFile := filepath.Join(folder, "host.conf"), filepath.Join(folder, "apache.conf")
	main := render.Apache{Modules: modules, Types: mediaTypes(w.Engine, "etc/mime.types", "conf/mime.types"), Dir: folder, Port: port,
		Log: filepath.Join(host.Logs, "web.log"), Load: load, Host: hostFile}
	if err := os.WriteFile(hostFile, []byte(host.Text), 0o600); err != nil {
		return "", err
	}
	return mainFile, os.WriteFile(mainFile, []byte(main.String()), 0o600)
}

var apacheFault = regexp.MustCompile(`(?s)Syntax error on line (\d+) of \S*host\.conf:\s*(.*)`)

// Check implements WebServer.
func (w *Apache) Check(ctx context.Context, name string, host VirtualHost) error {
	folder, err := os.MkdirTemp(w.dir, ".check-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	if err := os.MkdirAll(host.Logs, 0o700); err != nil {
		return err
	}
	file, err := w.write(folder, host, 1)
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, w.Engine.Program("apache2"), "-t", "-f", file).CombinedOutput()
	if err == nil {
		return nil
	}
	if fault := apacheFault.FindStringSubmatch(string(out)); fault != nil {
		return fmt.Errorf("Apache refuses the virtual host: %s%s", strings.TrimSpace(fault[2]), quoteLine(host.Text, fault[1]))
	}
	return fmt.Errorf("Apache refuses the virtual host: %s", bytes.TrimSpace(out))
}

// Apply implements WebServer. A site whose virtual host changes is handed to a new Apache; the old one ends after its last answer.
func (w *Apache) Apply(ctx context.Context, changes map[string]*VirtualHost) (broken map[string]error, err error) {
	broken = map[string]error{}
	var mu sync.Mutex
	var group sync.WaitGroup
	for name, host := range changes {
		group.Go(func() {
			var err error
			if host == nil {
				w.remove(name)
			} else {
				err = w.put(ctx, name, *host)
			}
			if err != nil {
				mu.Lock()
				broken[name] = err
				mu.Unlock()
			}
		})
	}
	group.Wait()
	return broken, nil
}

func (w *Apache) find(name string) *apacheSite {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.sites[name]
}

func (w *Apache) put(ctx context.Context, name string, host VirtualHost) error {
	if err := w.Check(ctx, name, host); err != nil {
		return err
	}
	if there := w.find(name); there != nil {
		if there.host.Port == host.Port {
			return there.change(ctx, host)
		}
		w.remove(name)
	}
	listener, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(host.Port)))
	if err != nil {
		return fmt.Errorf("port %d is held by %s: %w", host.Port, Listener(host.Port), ErrPortTaken)
	}
	s := &apacheSite{server: w, name: name, listener: listener, host: host}
	w.mu.Lock()
	w.sites[name] = s
	w.mu.Unlock()
	go s.accept()
	return nil
}

func (w *Apache) remove(name string) {
	w.mu.Lock()
	s := w.sites[name]
	delete(w.sites, name)
	w.mu.Unlock()
	if s != nil {
		s.close()
	}
}

// accept hands connections on until the port is closed.
func (s *apacheSite) accept() {
	for {
		visitor, err := s.listener.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			time.Sleep(10 * time.Millisecond) // out of descriptors, for a moment
			continue
		}
		s.open.Add(1)
		go func() {
			defer s.open.Add(-1)
			s.serve(visitor.(*net.TCPConn))
		}()
	}
}

// serve joins a visitor's connection with one to Apache, which is woken for it.
func (s *apacheSite) serve(visitor *net.TCPConn) {
	defer visitor.Close()
	apache, err := s.dial()
	if err != nil {
		body := "Apache does not start: " + err.Error() + "\n"
		fmt.Fprintf(visitor, "HTTP/1.1 502 Bad Gateway\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", len(body), body)
		visitor.CloseWrite()
		visitor.SetReadDeadline(time.Now().Add(time.Second)) // what was sent is read, or the answer would be lost with it
		io.Copy(io.Discard, visitor)
		return
	}
	defer apache.Close()
	done := make(chan struct{})
	go func() {
		io.Copy(apache, visitor) // splice(2)
		apache.CloseWrite()
		close(done)
	}()
	io.Copy(visitor, apache)
	visitor.CloseWrite()
	visitor.CloseRead()
	<-done
}

// dial reaches the site's Apache; one that was killed is back within moments, and so it is tried for a while.
func (s *apacheSite) dial() (*net.TCPConn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	for {
		port, err := s.wake(ctx)
		if err != nil {
			return nil, err
		}
		connection, err := net.DialTimeout("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), time.Second)
		if err == nil {
			return connection.(*net.TCPConn), nil
		}
		if !errors.Is(err, syscall.ECONNREFUSED) || ctx.Err() != nil {
			return nil, err
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func (s *apacheSite) wake(ctx context.Context) (port int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return 0, errors.New("the site was stopped")
	}
	if s.process == nil {
		if s.process, s.port, err = s.start(ctx, s.host, s.turn); err != nil {
			return 0, err
		}
	}
	return s.port, nil
}

// start runs one Apache on a free port; somebody may take it in between, so that it is tried again.
func (s *apacheSite) start(ctx context.Context, host VirtualHost, turn int) (process *proc.Process, port int, err error) {
	folder := filepath.Join(s.server.dir, s.name, []string{"a", "b"}[turn])
	if err := os.RemoveAll(folder); err != nil {
		return nil, 0, err
	}
	logs := []string{filepath.Join(host.Logs, "access.log"), filepath.Join(host.Logs, "web.log")}
	for _, path := range logs {
		file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, 0, err
		}
		file.Close()
	}
	for range 3 {
		if port, err = freePort(); err != nil {
			return nil, 0, err
		}
		file, err := s.server.write(folder, host, port)
		if err != nil {
			return nil, 0, err
		}
		e := s.server.Engine
		process, err = s.server.supervisor.Start(ctx, proc.Spec{Name: e.ID + " of " + s.name, Program: e.Program("apache2"), Arguments: []string{"-DFOREGROUND", "-f", file},
			Env: []string{"PATH=/usr/bin:/bin", "TMPDIR=" + folder}, Dir: folder, Log: s.server.log,
			Confine: &proc.Confinement{ReadFolders: append(strings.Split(host.Folders, "\n"), e.Root()), WriteFolders: []string{folder}, WriteFiles: logs, UnixSockets: true},
			Ready: func(context.Context) error {
				if !Listens(port) {
					return errors.New("it does not listen yet")
				}
				return nil
			},
			StartWithin: 20 * time.Second, StopSignal: syscall.SIGWINCH, Grace: 3 * time.Second})
		if err == nil {
			return process, port, nil
		}
		if !strings.Contains(err.Error(), "Address already in use") {
			return nil, 0, err
		}
	}
	return nil, 0, err
}

func freePort() (int, error) {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port, nil
}

// change exchanges a running Apache for one of another configuration; one at rest is woken with it.
func (s *apacheSite) change(ctx context.Context, host VirtualHost) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.process
	if old != nil && s.host != host {
		process, port, err := s.start(ctx, host, 1-s.turn)
		if err != nil {
			return err
		}
		s.process, s.port, s.turn = process, port, 1-s.turn
		s.server.ending.Go(func() {
			time.Sleep(200 * time.Millisecond) // for connections that were on their way to it
			old.StopWithin(lastAnswers)
		})
	}
	s.host = host
	return nil
}

func (s *apacheSite) close() {
	s.listener.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	folder := filepath.Join(s.server.dir, s.name)
	gone := folder + ".gone" // the site may come back before its last answers are given
	os.RemoveAll(gone)
	os.Rename(folder, gone)
	old := s.process
	s.process = nil
	s.server.ending.Go(func() {
		if old != nil {
			old.StopWithin(2 * time.Second)
		}
		os.RemoveAll(gone)
	})
}

// Rest implements WebServer.
func (w *Apache) Rest(resting func(name string) bool) {
	w.mu.Lock()
	awake := slices.Collect(maps.Values(w.sites))
	w.mu.Unlock()
	for _, s := range awake {
		if s.open.Load() == 0 && resting(s.name) {
			s.rest()
		}
	}
}

func (s *apacheSite) rest() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.process != nil && s.open.Load() == 0 { // who comes now waits for the lock, and wakes it again
		s.process.StopWithin(lastAnswers)
		s.process = nil
	}
}

// Sites implements WebServer.
func (w *Apache) Sites() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Sorted(maps.Keys(w.sites))
}

// Processes implements WebServer.
func (w *Apache) Processes() []int {
	w.mu.Lock()
	sites := slices.Collect(maps.Values(w.sites))
	w.mu.Unlock()
	pids := []int{}
	for _, s := range sites {
		s.mu.Lock()
		if s.process != nil && s.process.PID() != 0 {
			pids = append(pids, s.process.PID())
		}
		s.mu.Unlock()
	}
	return pids
}

// Stop implements WebServer.
func (w *Apache) Stop() {
	var group sync.WaitGroup
	for _, name := range w.Sites() {
		group.Go(func() { w.remove(name) })
	}
	group.Wait()
	w.ending.Wait()
}
