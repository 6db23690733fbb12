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
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"vessik/internal/core/render"
	"vessik/internal/proc"
)

// WebServer serves the sites that chose one version of one web server, each with its own virtual host on its own port.
type WebServer interface {
	// Apply adds, changes (a virtual host) and removes (nil) sites. What the engine refuses, or whose port is taken, is left out and
	// named in broken; all others are served, and were all the time. Once it returns, what it names listens.
	Apply(ctx context.Context, changes map[string]*VirtualHost) (broken map[string]error, err error)
	// Check has the engine read a virtual host, and returns its own words where it refuses; nothing changes.
	Check(ctx context.Context, name string, host VirtualHost) error
	// Rest ends what runs for single sites that are at rest, if nobody uses it; the next visitor brings it back.
	Rest(resting func(name string) bool)
	// Sites lists the sites that are served.
	Sites() []string
	// Processes are the main processes' ids.
	Processes() []int
	Stop()
}

// NewWebServer prepares the one of an engine; it starts with the first virtual host.
func NewWebServer(supervisor *proc.Supervisor, e *Engine, abilities proc.Abilities, runDir, log string) (WebServer, error) {
	if e.IsApache() {
		return newApache(supervisor, e, abilities, runDir, log)
	}
	w := &Nginx{Engine: e, supervisor: supervisor, dir: runDir, log: log, hosts: map[string]VirtualHost{}}
	return w, os.MkdirAll(filepath.Join(runDir, "temp"), 0o700)
}

// VirtualHost is one site's configuration text, the port that it listens on, and what the web server needs of the site.
type VirtualHost struct {
	Text    string
	Port    int
	Folders string // the site's folders, joined by newlines
	Logs    string // its log folder
}

// Nginx is one nginx, shared by all its sites.
type Nginx struct {
	Engine     *Engine
	supervisor *proc.Supervisor
	dir, log   string

	mu      sync.Mutex
	hosts   map[string]VirtualHost // what is loaded
	process *proc.Process
}

// ErrPortTaken says that something else listens on a site's port.
var ErrPortTaken = errors.New("port is taken")

// Apply costs one configuration check and one graceful reload.
func (w *Nginx) Apply(ctx context.Context, changes map[string]*VirtualHost) (broken map[string]error, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	broken = map[string]error{}
	wanted := maps.Clone(w.hosts)
	for name, host := range changes {
		delete(wanted, name)
		if host == nil {
			continue
		}
		if loaded, ok := w.hosts[name]; !ok || loaded.Port != host.Port || w.process == nil {
			if holder := PortHolder(host.Port); holder != "" {
				broken[name] = fmt.Errorf("port %d is held by %s: %w", host.Port, holder, ErrPortTaken)
				continue
			}
		}
		wanted[name] = *host
	}
	if maps.Equal(wanted, w.hosts) { // such as taking out what never came in
		return broken, nil
	}
	if err := w.check(ctx, wanted, broken); err != nil {
		return broken, err
	}
	if maps.Equal(wanted, w.hosts) {
		return broken, nil
	}
	gone := w.hosts
	if err := w.load(ctx, wanted); err != nil {
		return broken, err
	}
	w.hosts = wanted
	return broken, w.settle(ctx, gone)
}

var faultyFile = regexp.MustCompile(`in \S*/hosts\.next/([a-z0-9-]+)\.conf:(\d+)`)

// check writes the virtual hosts aside and has nginx read them; one that it refuses is taken out, and the rest is tried again.
func (w *Nginx) check(ctx context.Context, wanted map[string]VirtualHost, broken map[string]error) error {
	next := filepath.Join(w.dir, "hosts.next")
	if err := os.RemoveAll(next); err != nil {
		return err
	}
	if err := os.MkdirAll(next, 0o700); err != nil {
		return err
	}
	for name, host := range wanted {
		if err := os.WriteFile(filepath.Join(next, name+".conf"), []byte(host.Text), 0o600); err != nil {
			return err
		}
	}
	file, err := w.writeMain("nginx.next.conf", next)
	if err != nil {
		return err
	}
	for {
		out, err := w.test(ctx, file)
		if err == nil {
			return nil
		}
		fault := faultyFile.FindStringSubmatch(string(out))
		if fault == nil || ctx.Err() != nil {
			return fmt.Errorf("%s refuses its configuration: %s", w.Engine.ID, bytes.TrimSpace(out))
		}
		name := fault[1]
		broken[name] = refusal(out, wanted[name].Text, fault[2])
		delete(wanted, name)
		if err := os.Remove(filepath.Join(next, name+".conf")); err != nil {
			return err
		}
	}
}

func (w *Nginx) test(ctx context.Context, file string) ([]byte, error) {
	return exec.CommandContext(ctx, w.Engine.Program("nginx"), append(w.arguments(file), "-t", "-q")...).CombinedOutput()
}

// arguments name the log before the configuration does, where nginx knows how (since 1.19.5): else it tries its built-in place first,
// and says so.
func (w *Nginx) arguments(file string) []string {
	arguments := []string{"-p", w.dir, "-c", file}
	if w.Engine.atLeast("1.19.5") {
		arguments = append(arguments, "-e", w.log)
	}
	return arguments
}

func refusal(out []byte, text, line string) error {
	words := logFileAlert.ReplaceAll(out, nil)
	return fmt.Errorf("nginx refuses the virtual host: %s%s", bytes.TrimSpace(words), quoteLine(text, line))
}

var logFileAlert = regexp.MustCompile(`(?m)^nginx: \[alert\] could not open error log file.*\n`)

// Check implements WebServer.
func (w *Nginx) Check(ctx context.Context, name string, host VirtualHost) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	broken := map[string]error{}
	err := w.check(ctx, map[string]VirtualHost{name: host}, broken)
	return cmp.Or(broken[name], err)
}

// Rest implements WebServer: an nginx is shared, and nothing of it is one site's alone.
func (w *Nginx) Rest(func(string) bool) {}

func quoteLine(text, number string) string {
	n, _ := strconv.Atoi(number)
	lines := bytes.Split([]byte(text), []byte("\n"))
	if n < 1 || n > len(lines) {
		return ""
	}
	return fmt.Sprintf(" (line %d: %s)", n, bytes.TrimSpace(lines[n-1]))
}

func (w *Nginx) writeMain(name, hosts string) (string, error) {
	file := filepath.Join(w.dir, name)
	text := render.Nginx{Types: mediaTypes(w.Engine, "etc/nginx/mime.types", "conf/mime.types"), Dir: w.dir, Hosts: hosts, Log: w.log, Workers: 2}.String()
	return file, os.WriteFile(file, []byte(text), 0o600)
}

// load puts the checked virtual hosts in place and starts or reloads nginx.
func (w *Nginx) load(ctx context.Context, wanted map[string]VirtualHost) error {
	hosts := filepath.Join(w.dir, "hosts")
	if err := os.RemoveAll(hosts); err != nil {
		return err
	}
	if err := os.Rename(filepath.Join(w.dir, "hosts.next"), hosts); err != nil {
		return err
	}
	file, err := w.writeMain("nginx.conf", hosts)
	if err != nil {
		return err
	}
	if w.process != nil && len(wanted) == 0 { // nobody is left to be served
		w.process.Stop()
		w.process = nil
		return nil
	}
	if w.process != nil && w.process.PID() != 0 {
		return w.reload(ctx)
	}
	if w.process != nil || len(wanted) == 0 { // it is being restarted, with these files
		return nil
	}
	w.process, err = w.supervisor.Start(ctx, proc.Spec{Name: w.Engine.ID, Program: w.Engine.Program("nginx"),
		Arguments: w.arguments(file), Env: []string{"PATH=/usr/bin:/bin"}, Log: w.log,
		StartWithin: 20 * time.Second, StopSignal: syscall.SIGTERM,
		Ready: func(context.Context) error {
			_, err := os.Stat(filepath.Join(w.dir, "nginx.pid"))
			return err
		}})
	return err
}

// reloadWithin is for how long nginx may take to take up a configuration, on a machine that is busy with other things.
const reloadWithin = 30 * time.Second

// reload returns once every new connection is served by what was loaded: nginx starts new workers first, and those before them call
// themselves "shutting down" as they leave the ports.
func (w *Nginx) reload(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, reloadWithin)
	defer cancel()
	pid := w.process.PID()
	before := children(pid)
	if err := w.process.Signal(syscall.SIGHUP); err != nil || len(before) == 0 { // a kernel that does not tell who a process's children are
		return err
	}
	err := waitFor(ctx, func() bool {
		accepting := children(pid)
		fresh := slices.ContainsFunc(accepting, func(worker string) bool { return !slices.Contains(before, worker) })
		left := !slices.ContainsFunc(accepting, func(worker string) bool {
			title, _ := os.ReadFile(filepath.Join("/proc", worker, "cmdline"))
			return slices.Contains(before, worker) && len(title) > 0 && !bytes.Contains(title, []byte("shutting down"))
		})
		return fresh && left || w.process.PID() != pid // or it was killed meanwhile, and comes back with these files
	})
	if err != nil {
		return fmt.Errorf("%s does not take over what was loaded: %w; see %s", w.Engine.ID, err, w.log)
	}
	return nil
}

// settle waits until what was loaded listens and what was taken out does not.
func (w *Nginx) settle(ctx context.Context, before map[string]VirtualHost) error {
	ctx, cancel := context.WithTimeout(ctx, reloadWithin)
	defer cancel()
	kept := map[int]bool{}
	for name, host := range w.hosts {
		kept[host.Port] = true
		if old, ok := before[name]; ok && old.Port == host.Port {
			continue
		}
		if err := waitFor(ctx, func() bool { return Listens(host.Port) }); err != nil {
			return fmt.Errorf("%s does not listen on port %d: %w", name, host.Port, err)
		}
	}
	for name, host := range before {
		if !kept[host.Port] {
			if err := waitFor(ctx, func() bool { return !Listens(host.Port) }); err != nil {
				return fmt.Errorf("%s still listens on port %d: %w", name, host.Port, err)
			}
		}
	}
	return nil
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

// Sites implements WebServer.
func (w *Nginx) Sites() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Sorted(maps.Keys(w.hosts))
}

// Processes implements WebServer.
func (w *Nginx) Processes() []int {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.process == nil || w.process.PID() == 0 {
		return nil
	}
	return []int{w.process.PID()}
}

// Stop ends nginx.
func (w *Nginx) Stop() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.process != nil {
		w.process.Stop()
	}
}

func mediaTypes(e *Engine, places ...string) string {
	for _, place := range places {
		if path := filepath.Join(e.Root(), place); fileExists(path) {
			return path
		}
	}
	return filepath.Join(e.Root(), places[0])
}

func fileExists(path string) bool { _, err := os.Stat(path); return err == nil }
