// Package provision carries out plans: it makes sites, starts, stops, verifies and retires them, many at a time. What it does is
// journalled first, taken back when it fails, and resumed or taken back after a crash.
package provision

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vessik/internal/core/plan"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/kit"
	"vessik/internal/names"
	"vessik/internal/picture"
	"vessik/internal/proc"
	"vessik/internal/records"
	"vessik/internal/shelf"
	"vessik/internal/stencil"
)

// Provisioner is the heart of one service.
type Provisioner struct {
	Home      Home
	Store     engine.Store
	Abilities proc.Abilities
	Log       *slog.Logger
	APIPort   int
	HostsFile string // the machine's, see hosts(5)
	// Reloaded is told when web servers have other virtual hosts than before; nil for nobody.
	Reloaded func()

	hostsMu      sync.Mutex
	hostsHandle  *os.File // open for writing; nil where the service may not
	hostsAsked   chan struct{}
	hostsWritten string
	responder    *names.Responder

	settings       Settings
	homeLock       *os.File
	supervisor     *proc.Supervisor
	bell           *engine.Doorbell
	recordsDB      *engine.DatabaseServer // nil where the records are kept on a server of the user's
	releaseRecords func()
	records        *records.Records
	stock          kit.Stock
	kits           kit.Kits
	kitFaults      map[string]error // of the user's kits, by folder
	kitState       string
	kitMu          sync.Mutex // guards the three
	tickets        ticketBook
	// Shelf keeps releases, plugins and themes.
	Shelf shelf.Shelf
	// Stencils are the saved sites.
	Stencils stencil.Shelf
	pictures picture.Taker
	slots    chan struct{} // bounds the heavy steps
	work     sync.WaitGroup
	context  context.Context // ends with the service
	end      context.CancelFunc

	knownMu sync.Mutex
	known   map[string][]string // directives by PHP

	settingsMu sync.Mutex // held for moments only: whoever lists sites asks for ports while an engine starts

	engineMu  sync.Mutex // starting of shared engines
	databases map[string]*engine.DatabaseServer
	webs      map[string]engine.WebServer

	saving      sync.Mutex // a site's changes reach the records in the order in which they were made
	mu          sync.Mutex
	requests    sync.Mutex // one request is judged and reserved at a time
	sites       map[string]site.Site
	masters     map[string]*engine.PHPMaster
	busy        map[string]string       // operation by site
	wokenByTask map[string]time.Time    // sites whose PHP runs for a scheduled task only
	settling    bool                    // sites are being brought up
	held        map[string]net.Listener // ports of sites that are being made, kept from others until the web server takes them
	operations  map[string]*operation
	changed     chan struct{} // closed and replaced at each change
}

// Open takes the home, ends what a dead service left in it, and opens its records. The gateway's port must be settled before.
// hosts is the hosts file if the service may write it, else nil.
func Open(ctx context.Context, home Home, settings Settings, hosts *os.File, log *slog.Logger, progress engine.Progress) (*Provisioner, error) {
	if err := home.Prepare(); err != nil {
		return nil, err
	}
	lock, err := home.lock()
	if err != nil {
		return nil, err
	}
	p := &Provisioner{Home: home, Store: engine.Store{Dir: home.Engines}, Abilities: proc.FindAbilities(), Log: log, settings: settings, homeLock: lock, hostsHandle: hosts, hostsAsked: make(chan struct{}, 1), settling: true, HostsFile: names.HostsFile,
		stock: kit.Stock{Dir: home.Engines + "/shelf"}, slots: make(chan struct{}, max(4, 2*runtime.NumCPU())),
		databases: map[string]*engine.DatabaseServer{}, webs: map[string]engine.WebServer{}, sites: map[string]site.Site{},
		masters: map[string]*engine.PHPMaster{}, busy: map[string]string{}, held: map[string]net.Listener{}, operations: map[string]*operation{}, changed: make(chan struct{}), known: map[string][]string{}, wokenByTask: map[string]time.Time{}}
	p.pictures.Dir = home.path("tmp")
	p.Stencils.Dir = home.path("stencils")
	p.Shelf.Dir = home.path("shelf")
	for _, pattern := range []string{home.path("stencils", ".partial-*"), home.path("tmp", "stencil-*"), home.path("tmp", "shelf-*"), home.path("shelf", ".partial-*")} { // of a service that was killed
		left, _ := filepath.Glob(pattern)
		for _, path := range left {
			os.RemoveAll(path)
		}
	}
	p.context, p.end = context.WithCancel(context.WithoutCancel(ctx))
	for _, ended := range proc.EndLeftovers(home.path("run", "processes.json")) {
		log.Warn("ended what an earlier service left", "process", ended)
	}
	p.supervisor = proc.NewSupervisor(home.path("run", "processes.json"))
	if p.bell, err = engine.NewDoorbell(); err != nil {
		lock.Close()
		return nil, err
	}
	if err := p.openRecords(ctx, progress); err != nil {
		lock.Close()
		return nil, err
	}
	if err := os.WriteFile(p.probeFile(), []byte(render.Probe()), 0o600); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

func (p *Provisioner) openRecords(ctx context.Context, progress engine.Progress) error {
	if p.settings.RecordsEngine == "" {
		p.settings.RecordsEngine = p.Store.IDs(engine.Database)[0]
	}
	if p.settings.Passwords["records"] == "" {
		p.settings.Passwords["records"] = kit.Password()
	}
	if err := p.Home.WriteSettings(p.settings); err != nil {
		return err
	}
	if err := p.Store.Repair(ctx); err != nil {
		return err
	}
	if p.settings.RecordsDSN != "" {
		return p.openForeignRecords(ctx)
	}
	engines, err := p.Store.Ensure(ctx, []string{p.settings.RecordsEngine}, progress)
	if err != nil {
		return err
	}
	p.recordsDB, err = engine.StartDatabase(ctx, p.supervisor, engines[p.settings.RecordsEngine], engine.DatabasePlace{Data: p.Home.path("records", "data"),
		Run: p.Home.path("run", "records"), Log: p.Home.path("logs", "records.log"), Password: p.settings.Passwords["records"], BufferMB: 32})
	if err != nil {
		return fmt.Errorf("start the records: %w", err)
	}
	p.records, err = records.Open(ctx, p.recordsDB.Admin(), p.recordsDB.OpenWithTimes(records.Database))
	if err != nil {
		return err
	}
	return p.readSites(ctx)
}

// openForeignRecords opens records that are kept on a server of the user's.
func (p *Provisioner) openForeignRecords(ctx context.Context) error {
	pool, release, err := records.Dial(ctx, p.settings.RecordsDSN)
	if err == nil {
		p.releaseRecords = release
		p.records, err = records.Open(ctx, nil, pool)
	}
	if err != nil {
		return fmt.Errorf("open the records that -records-dsn names: %w; see whether that server runs and lets this user in", err)
	}
	return p.readSites(ctx)
}

func (p *Provisioner) readSites(ctx context.Context) error {
	found, err := p.records.Sites(ctx)
	if err != nil {
		return err
	}
	for _, s := range found {
		p.sites[s.Name] = s
	}
	return p.followMove(ctx)
}

// followMove finds the sites again when the home folder has been moved.
func (p *Provisioner) followMove(ctx context.Context) error {
	old := p.settings.Dir
	if old == p.Home.Dir {
		return nil
	}
	for name, s := range p.sites {
		if relative, err := filepath.Rel(old, s.Folder); old != "" && err == nil && filepath.IsLocal(relative) {
			s.Folder = p.Home.path(relative)
			if err := p.records.Relocate(ctx, s); err != nil {
				return fmt.Errorf("follow the home folder from %s: %w", old, err)
			}
			p.sites[name] = s
		}
	}
	p.settings.Dir = p.Home.Dir
	return p.Home.WriteSettings(p.settings)
}

// Records are for reading; changes go through the provisioner.
func (p *Provisioner) Records() *records.Records { return p.records }

// GatewayPort stands in every URL.
func (p *Provisioner) GatewayPort() int { return p.settings.GatewayPort }

// Close ends operations (they are resumed at the next start) and stops everything that was started. Sites keep their state: what
// ran runs again after the next start.
func (p *Provisioner) Close() {
	p.end()
	p.work.Wait()
	p.pictures.Close()
	if p.responder != nil {
		p.responder.Close()
	}
	var group sync.WaitGroup
	p.mu.Lock()
	masters := slices.Collect(maps.Values(p.masters))
	p.mu.Unlock()
	p.letGo(slices.Collect(maps.Keys(p.held))...)
	for _, w := range p.webs {
		w.Stop()
	}
	for _, m := range masters {
		group.Go(m.Stop)
	}
	group.Wait()
	for _, d := range p.databases {
		group.Go(d.Stop)
	}
	if p.recordsDB != nil {
		group.Go(p.recordsDB.Stop)
	}
	group.Wait()
	if p.releaseRecords != nil {
		p.releaseRecords()
	}
	p.homeLock.Close()
}

// Sites returns all sites by name.
func (p *Provisioner) Sites() []site.Site {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.SortedFunc(maps.Values(p.sites), func(a, b site.Site) int { return cmp.Compare(a.Name, b.Name) })
}

// Site returns one.
func (p *Provisioner) Site(name string) (site.Site, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	s, ok := p.sites[name]
	return s, ok
}

// ByDomain finds the site that a host name belongs to.
func (p *Provisioner) ByDomain(host string) (site.Site, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.sites {
		if slices.Contains(s.Hosts(), host) {
			return s, true
		}
	}
	for _, s := range p.sites {
		if s.InNetwork(host) || slices.ContainsFunc(s.Forwards, func(f site.Forward) bool { return f.Domain == host && time.Now().Before(f.Until) }) {
			return s, true
		}
	}
	return site.Site{}, false
}

// Changed returns a channel that is closed at the next change of any site or operation.
func (p *Provisioner) Changed() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.changed
}

func (p *Provisioner) announce() {
	p.mu.Lock()
	defer p.mu.Unlock()
	close(p.changed)
	p.changed = make(chan struct{})
}

// setState moves a site to a state, in memory and in the records.
func (p *Provisioner) setState(ctx context.Context, name string, state site.State, reason string) error {
	return p.change(ctx, name, func(s *site.Site) error {
		if err := site.Move(s.State, state); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		s.State, s.Reason = state, reason
		return nil
	})
}

func (p *Provisioner) change(ctx context.Context, name string, edit func(*site.Site) error) error {
	p.saving.Lock()
	defer p.saving.Unlock()
	p.mu.Lock()
	s, ok := p.sites[name]
	if !ok {
		p.mu.Unlock()
		return fmt.Errorf("site %s: %w", name, records.ErrNotFound)
	}
	if err := edit(&s); err != nil {
		p.mu.Unlock()
		return err
	}
	p.sites[name] = s
	p.mu.Unlock()
	p.announce()
	return p.records.SaveSite(ctx, s)
}

func (p *Provisioner) probeFile() string { return p.Home.path("run", "probe.php") }

// socket is where a site's PHP listens. Its name cannot be guessed: a site's Apache may open unix sockets, and a path is all that it
// would need to speak to a neighbour's PHP. unix(7) leaves a path 107 bytes.
func (p *Provisioner) socket(s site.Site) string {
	sum := sha256.Sum256([]byte("socket of " + s.Name + " " + s.Probe))
	return p.Home.path("run", "sockets", hex.EncodeToString(sum[:8])+".sock")
}

func (p *Provisioner) phpPlace(s site.Site) engine.PHPPlace {
	name := s.Name
	ticket, _ := p.kitOf(s).Script(p.kitOf(s).Ticket.Script) // its kit was judged
	return engine.PHPPlace{Port: p.DatabasePort(s.Stack.Database), Ticket: string(ticket), Prepend: p.kitOf(s).Prepend, Dir: p.Home.path("run", "php", name), Temp: p.Home.path("tmp", name), Logs: p.Home.siteLogs(name),
		Mail: p.Home.path("mail", name), Socket: p.socket(s), Probe: p.probeFile()}
}

// database returns the running server of an engine, starting it at its first use. Its port is chosen once and recorded.
func (p *Provisioner) database(ctx context.Context, id string) (*engine.DatabaseServer, error) {
	p.engineMu.Lock()
	defer p.engineMu.Unlock()
	if d := p.databases[id]; d != nil {
		return d, nil
	}
	e, err := p.Store.Find(id)
	if err != nil {
		return nil, err
	}
	port := p.DatabasePort(id)
	if port == 0 {
		if port, err = p.chooseDatabasePort(id); err != nil {
			return nil, err
		}
	} else if holder := engine.PortHolder(port); holder != "" {
		return nil, fmt.Errorf("port %d, which the configuration of every site on %s names, is held by %s; end that program and start again", port, id, holder)
	}
	d, err := engine.StartDatabase(ctx, p.supervisor, e, engine.DatabasePlace{Data: p.Home.path("databases", id), Run: p.Home.path("run", id),
		Log: p.Home.path("logs", id+".log"), Port: port, Password: p.settings.Passwords[id], BufferMB: 128, Variables: p.Variables(id)})
	if err != nil {
		return nil, err
	}
	own := []string{}
	for _, s := range p.Sites() {
		own = append(own, s.Database.Name, s.Database.User)
	}
	if err := kit.ClearScratch(ctx, d, own); err != nil {
		d.Stop()
		return nil, err
	}
	p.databases[id] = d
	return d, nil
}

var databasePorts = [2]int{22000, 22099}

// chooseDatabasePort takes a port for an engine for all the home's life: it stands in every site's configuration.
func (p *Provisioner) chooseDatabasePort(id string) (int, error) {
	p.settingsMu.Lock()
	defer p.settingsMu.Unlock()
	taken := slices.Collect(maps.Values(p.settings.Ports))
	for port := databasePorts[0]; port <= databasePorts[1]; port++ {
		if slices.Contains(taken, port) || engine.PortHolder(port) != "" {
			continue
		}
		p.settings.Ports[id], p.settings.Passwords[id] = port, kit.Password()
		return port, p.Home.WriteSettings(p.settings)
	}
	return 0, fmt.Errorf("no port from %d to %d is free for %s", databasePorts[0], databasePorts[1], id)
}

// web returns the web server of an engine.
func (p *Provisioner) web(id string) (engine.WebServer, error) {
	p.engineMu.Lock()
	defer p.engineMu.Unlock()
	if w := p.webs[id]; w != nil {
		return w, nil
	}
	e, err := p.Store.Find(id)
	if err != nil {
		return nil, err
	}
	w, err := engine.NewWebServer(p.supervisor, e, p.Abilities, p.Home.path("run", id), p.Home.path("logs", id+".log"))
	if err != nil {
		return nil, err
	}
	p.webs[id] = w
	return w, nil
}

// Running is the process ids of running engines, by engine.
func (p *Provisioner) Running() map[string][]int {
	running := map[string][]int{}
	p.engineMu.Lock()
	for id, d := range p.databases {
		running[id] = append(running[id], d.PID())
	}
	for id, w := range p.webs {
		running[id] = append(running[id], w.Processes()...)
	}
	p.engineMu.Unlock()
	if p.recordsDB != nil {
		running[p.recordsDB.Engine.ID] = append(running[p.recordsDB.Engine.ID], p.recordsDB.PID())
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for name, m := range p.masters {
		if pid := m.PID(); pid != 0 {
			id := p.sites[name].Stack.PHP
			running[id] = append(running[id], pid)
		}
	}
	return running
}

// each runs a function for every name, as many at a time as the machine bears, and returns when all are through.
func (p *Provisioner) each(names []string, do func(name string)) {
	var group errgroup.Group
	for _, name := range names {
		group.Go(func() error {
			p.slots <- struct{}{}
			defer func() { <-p.slots }()
			do(name)
			return nil
		})
	}
	group.Wait()
}

// hold keeps the ports of new sites from everybody else until they are published.
func (p *Provisioner) hold(sites []site.Site) site.Problems {
	held := map[string]net.Listener{}
	for _, s := range sites {
		listener, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port)))
		if err != nil {
			for _, each := range held {
				each.Close()
			}
			return site.Problems{{Site: s.Name, Field: "port", Message: fmt.Sprintf("%d was taken meanwhile by %s", s.Port, engine.Listener(s.Port)), Remedy: "ask again, or choose another port"}}
		}
		held[s.Name] = listener
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.Copy(p.held, held)
	return nil
}

// letGo frees the ports that are held for sites.
func (p *Provisioner) letGo(names ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, name := range names {
		if listener := p.held[name]; listener != nil {
			listener.Close()
			delete(p.held, name)
		}
	}
}

// Resume brings the home back to where it was: unfinished operations go on or are taken back, and sites that ran answer again.
// It returns once that is under way for all and done for the operations.
func (p *Provisioner) Resume(ctx context.Context) error {
	p.requests.Lock() // nothing new is begun before what was begun is settled
	defer p.requests.Unlock()
	p.work.Go(p.lookAfter)
	p.openNames()
	unfinished, err := p.records.Unfinished(ctx)
	if err != nil {
		return err
	}
	handled := map[string]bool{}
	for _, o := range unfinished {
		names, err := p.recover(ctx, o)
		if err != nil {
			return fmt.Errorf("resume operation %s: %w", o.ID, err)
		}
		for _, name := range names {
			handled[name] = true
		}
	}
	names := []string{}
	for _, s := range p.Sites() {
		if handled[s.Name] {
			continue
		}
		if s.State == site.Running || s.State == site.Starting || s.State == site.Failed || s.State == site.Stopping {
			names = append(names, s.Name)
			p.mu.Lock()
			s.State, s.Reason = site.Starting, ""
			p.sites[s.Name] = s
			p.mu.Unlock()
		}
	}
	if len(names) == 0 {
		p.unsettled(false)
		return nil
	}
	p.work.Add(1)
	go func() {
		defer p.work.Done()
		defer p.unsettled(false)
		started := time.Now()
		for name, err := range p.bringUp(p.context, names) {
			if p.context.Err() == nil {
				p.fail(name, err)
			}
		}
		p.Log.Info("sites are back", "sites", len(names), "milliseconds", time.Since(started).Milliseconds())
	}()
	return nil
}

// bringUp starts sites that are laid out already: PHP for each, then one reload of each web server for all.
func (p *Provisioner) bringUp(ctx context.Context, names []string) map[string]error {
	var mu sync.Mutex
	failed := map[string]error{}
	note := func(name string, err error) {
		mu.Lock()
		defer mu.Unlock()
		failed[name] = err
	}
	p.each(names, func(name string) {
		s, ok := p.Site(name)
		if !ok {
			return
		}
		if _, err := p.database(ctx, s.Stack.Database); err != nil {
			note(name, err)
			return
		}
		if err := p.openPHP(s); err != nil {
			note(name, err)
		}
	})
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool { return failed[name] != nil })
	for name, err := range p.publish(ctx, names) {
		note(name, err)
	}
	return failed
}

// fail marks a site as failed, with the reason, and has it verified, so that its report shows what still answers. What runs of it
// stays.
func (p *Provisioner) fail(name string, reason error) {
	p.Log.Error("site failed", "site", name, "reason", reason)
	if err := p.setState(context.WithoutCancel(p.context), name, site.Failed, reason.Error()); err != nil {
		if !errors.Is(err, records.ErrNotFound) {
			p.Log.Error("record the failure", "site", name, "reason", err)
		}
		return
	}
	p.work.Go(func() {
		if _, err := p.Do(p.context, plan.Verify, []string{name}, false); err != nil && p.context.Err() == nil {
			p.Log.Error("verify what failed", "site", name, "reason", err)
		}
	})
}

// Variables are the server variables that the user set for a database engine.
func (p *Provisioner) Variables(id string) map[string]string {
	p.settingsMu.Lock()
	defer p.settingsMu.Unlock()
	return maps.Clone(p.settings.Variables[id])
}

// Outage tells whether a site's database server was down at any moment since a time.
func (p *Provisioner) Outage(s site.Site, since time.Time) bool {
	p.engineMu.Lock()
	d := p.databases[s.Stack.Database]
	p.engineMu.Unlock()
	if d == nil {
		return false
	}
	up := d.RunningSince()
	return up.IsZero() || up.After(since) || !engine.Listens(d.Port) // killed just now, which its visitors know before we do
}

// DatabasePort is where the sites on a database engine reach it; 0 before its first start.
func (p *Provisioner) DatabasePort(id string) int {
	p.settingsMu.Lock()
	defer p.settingsMu.Unlock()
	return p.settings.Ports[id]
}
