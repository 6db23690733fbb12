package service

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"vessik/console"
	"vessik/internal/api"
	"vessik/internal/authority"
	"vessik/internal/background"
	"vessik/internal/cell"
	"vessik/internal/change"
	"vessik/internal/cms"
	"vessik/internal/command"
	"vessik/internal/core/plan"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/create"
	"vessik/internal/database"
	"vessik/internal/defaults"
	"vessik/internal/engine"
	"vessik/internal/engines"
	"vessik/internal/facts"
	"vessik/internal/fleet"
	"vessik/internal/gateway"
	"vessik/internal/helpers"
	"vessik/internal/home"
	"vessik/internal/hosts"
	"vessik/internal/info"
	"vessik/internal/invite"
	"vessik/internal/lifecycle"
	"vessik/internal/load"
	"vessik/internal/logs"
	"vessik/internal/mailbox"
	"vessik/internal/moving"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/outgoing"
	"vessik/internal/ownfile"
	"vessik/internal/parts"
	"vessik/internal/phperrors"
	"vessik/internal/points"
	"vessik/internal/proc"
	"vessik/internal/records"
	"vessik/internal/registry"
	"vessik/internal/remarks"
	"vessik/internal/rename"
	"vessik/internal/restack"
	"vessik/internal/restore"
	"vessik/internal/running"
	"vessik/internal/saving"
	"vessik/internal/screens"
	"vessik/internal/sending"
	"vessik/internal/settings"
	"vessik/internal/shelf"
	"vessik/internal/standing"
	"vessik/internal/stencil"
	"vessik/internal/trial"
	"vessik/internal/uploads"
	"vessik/internal/users"
	"vessik/internal/verify"
	"vessik/internal/walk"
)

// house is the opened home with everything that works in it.
type house struct {
	lock    *os.File
	work    *background.Work
	rooms   api.Rooms
	own     *engine.DatabaseServer // that keeps the records; nil where they are kept on a server of the user's
	release func()                 // of such a server
}

// opening is what a house is opened with.
type opening struct {
	home      home.Home
	settings  home.Settings
	hostsFile string
	hosts     *os.File // the hosts file if the service may write it, else nil
	apiPort   int
	httpsPort int
	log       *slog.Logger
	progress  engine.Progress
}

// open takes the home, ends what a dead service left in it, opens its records, and puts the rooms together. The gateway's port must be
// settled before.
func open(ctx context.Context, o opening) (opened *house, err error) {
	if err := o.home.Prepare(); err != nil {
		return nil, err
	}
	h := &house{work: background.New(ctx), release: func() {}}
	if h.lock, err = o.home.Lock(); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			h.close()
		}
	}()
	if err := o.home.TakeOn(); err != nil {
		o.log.Warn("files of an earlier version could not be given today's names", "reason", err)
	}
	clearAway(o.home)
	machine, err := h.machine(ctx, o)
	if err != nil {
		return nil, err
	}
	kept, err := h.openRecords(ctx, machine, o.progress)
	if err != nil {
		return nil, err
	}
	if err := h.sites(ctx, machine, kept); err != nil {
		return nil, err
	}
	mail, err := mailbox.Open(machine, kept)
	if err != nil {
		return nil, err
	}
	h.furnish(machine, kept, mail, o)
	if err := machine.LayAuthorities(); err != nil {
		return nil, err
	}
	return h, ownfile.Write(machine.ProbeFile(), []byte(render.Probe()), 0o600)
}

// clearAway removes what a service that was killed left half made.
func clearAway(home home.Home) {
	for _, pattern := range []string{home.Path("stencils", ".partial-*"), home.Path("tmp", ".stencil-*"), home.Path("tmp", ".shelf-*"),
		home.Path("tmp", ".archive-*"), home.Path("tmp", ".parcel-*"), home.Path("shelf", ".partial-*")} {
		for _, path := range ownfile.Find(pattern) {
			ownfile.RemoveAll(path)
		}
	}
}

// machine is one on which nothing runs yet.
func (h *house) machine(ctx context.Context, o opening) (*running.Machine, error) {
	for _, ended := range proc.EndLeftovers(o.home.Path("run", "processes.json")) {
		o.log.Warn("ended what an earlier service left", "process", ended)
	}
	cells, err := cell.Open(o.home.Path("run"))
	if err != nil {
		return nil, err
	}
	store := engine.Store{Dir: o.home.Engines, Cells: cells}
	for _, id := range store.IDs(engine.Web) { // what earlier web servers read; each is written anew
		if err := ownfile.RemoveAll(o.home.Path("run", id)); err != nil {
			return nil, err
		}
	}
	if o.settings.RecordsEngine == "" {
		o.settings.RecordsEngine = store.IDs(engine.Database)[0]
	}
	if o.settings.Passwords["records"] == "" {
		o.settings.Passwords["records"] = cms.Password()
	}
	book, err := home.NewBook(o.home, o.settings)
	if err != nil {
		return nil, err
	}
	book.OpenHTTPS(o.httpsPort)
	m := &running.Machine{Home: o.home, Book: book, Store: store, Abilities: cells.Abilities, Work: h.work, Log: o.log,
		Supervisor: proc.NewSupervisor(cells, o.home.Path("run", "processes.json")), CMS: &cms.Library{Dir: o.home.Path("cms"), Log: o.log}}
	m.Pictures.Dir, m.Pictures.Ports, m.Pictures.Cells = o.home.Path("tmp"), []int{o.settings.GatewayPort, o.httpsPort}, cells
	m.Open()
	if m.Authority, err = authority.Open(o.home.Path("authority")); err != nil {
		return nil, err
	}
	h.rooms.Machine = m
	if m.Bell, err = engine.NewDoorbell(); err != nil {
		return nil, err
	}
	return m, store.Repair(ctx)
}

// openRecords opens the home's own records, or those on the server of the user's that it was told of.
func (h *house) openRecords(ctx context.Context, m *running.Machine, progress engine.Progress) (*records.Records, error) {
	settings := m.Book.Settings()
	key, err := m.Book.Key()
	if err != nil {
		return nil, err
	}
	if settings.RecordsDSN != "" {
		pool, release, err := records.Dial(ctx, settings.RecordsDSN, settings.RecordsPlain)
		if err == nil {
			h.release = release
			var kept *records.Records
			if kept, err = records.Open(ctx, nil, pool, key); err == nil {
				return kept, nil
			}
		}
		return nil, fmt.Errorf("open the records that -records-dsn names: %w; see whether that server runs and lets this user in"+
			", with TLS if it is on another machine (or say -records-plain)", err)
	}
	engines, err := m.Store.Ensure(ctx, []string{settings.RecordsEngine}, progress)
	if err != nil {
		return nil, err
	}
	h.own, err = engine.StartDatabase(ctx, m.Supervisor, engines[settings.RecordsEngine], engine.DatabasePlace{
		Data: m.Home.Path("records", "data"), Run: m.Home.Path("run", "records"), Log: m.Home.Path("logs", "records.log"),
		Password: settings.Passwords["records"], BufferMB: 32})
	if err != nil {
		return nil, fmt.Errorf("start the records: %w", err)
	}
	return records.Open(ctx, h.own.Admin(), h.own.OpenWithTimes(records.Database), key)
}

// sites reads the sites, and finds them again when the home folder has been moved.
func (h *house) sites(ctx context.Context, m *running.Machine, kept *records.Records) error {
	found, err := kept.Sites(ctx)
	if err != nil {
		return err
	}
	m.Registry = registry.New(kept, found...)
	old := m.Book.Settings().Dir
	if old == m.Home.Dir {
		return nil
	}
	for _, s := range m.Registry.All() {
		if relative, err := filepath.Rel(old, s.Folder); old != "" && err == nil && filepath.IsLocal(relative) {
			follow := func(s *site.Site) error { s.Folder = m.Home.Path(relative); return nil }
			if err := m.Registry.Edit(ctx, s.Name, follow); err != nil {
				return fmt.Errorf("follow the home folder from %s: %w", old, err)
			}
		}
	}
	return m.Book.Edit(func(s *home.Settings) error { s.Dir = m.Home.Dir; return nil })
}

// furnish puts the rooms together, and hands the features' kinds of operations to the runner.
func (h *house) furnish(m *running.Machine, kept *records.Records, mail *mailbox.Mailbox, o opening) {
	ops := operation.New(m.Registry, kept, h.work, o.log)
	onShelf := &shelf.Shelf{Dir: m.Home.Path("shelf")}
	saved := stencil.Shelf{Dir: m.Home.Path("stencils")}
	origins := &origin.Origins{Machine: m, Stock: cms.Stock{Dir: m.Home.Engines + "/shelf"}, Shelf: onShelf, Stencils: saved}
	known := &facts.Facts{Machine: m, Origins: origins, APIPort: o.apiPort}
	m.Authority.Endings = known.Endings
	m.Authority.Changed = func() {
		if err := m.LayAuthorities(); err != nil {
			o.log.Error("tell the sites of another certificate", "reason", err)
		}
	}
	names := hosts.New(m, o.hostsFile, o.hosts)
	verifier := &verify.Verifier{Machine: m, Records: kept, Finds: names.Finds, Mail: mail}
	m.MailPort, m.MailAuthorities = mail.Port, []*authority.Authority{mail.Authority}
	ledger := &outgoing.Ledger{}
	walks := &walk.Feature{Machine: m, Verifier: verifier, Axe: console.Axe(), Watch: ledger.Watch}
	changer := &change.Changer{Machine: m, Operations: ops, Verifier: verifier, Points: &points.Points{Machine: m}, Origins: origins,
		Walks: walks}
	m.Failed, m.Busy, m.WhileIdle, m.Each = ops.Fail, ops.Busy, ops.WhileIdle, ops.Each
	m.Ledger, m.Kept = ledger, known.Kept
	m.FreePort = func() int { return site.FreePort(known.Now()) }
	h.rooms = api.Rooms{Machine: m, Operations: ops, Records: kept, Facts: known, Origins: origins, Changer: changer, Own: h.ownEngines,
		Create:    &create.Feature{Machine: m, Operations: ops, Facts: known, Origins: origins, Verifier: verifier},
		Lifecycle: &lifecycle.Feature{Machine: m, Operations: ops, Origins: origins, Verifier: verifier},
		Restack:   &restack.Feature{Changer: changer, Facts: known},
		Settings:  &settings.Feature{Changer: changer, Records: kept},
		Rename:    &rename.Feature{Changer: changer, Facts: known, Finds: names.Finds, Keeps: names.Keeps},
		Load:      &load.Feature{Changer: changer},
		Restore:   &restore.Feature{Changer: changer},
		Sending:   &sending.Feature{Changer: changer},
		Parts:     &parts.Feature{Changer: changer},
		Uploads:   &uploads.Feature{Machine: m, Origins: origins, Shelf: onShelf, Stencils: saved},
		Trial:     &trial.Feature{Machine: m, Operations: ops, Facts: known, Origins: origins, Verifier: verifier, Walks: walks},
		Stencils:  &saving.Feature{Shelf: saved, Machine: m, Operations: ops},
		Shelf:     &shelf.Feature{Shelf: onShelf, Home: m.Home, Store: m.Store, CMS: m.CMS},
		Engines:   &engines.Feature{Machine: m, Operations: ops, Facts: known, Verifier: verifier, Records: kept},
		Hosts:     names,
		Defaults:  &defaults.Feature{Machine: m, Operations: ops, Facts: known},
		Users:     &users.Feature{Machine: m, Operations: ops},
		Info:      &info.Feature{Machine: m, Verifier: verifier},
		Logs:      &logs.Feature{Machine: m},
		Command:   &command.Feature{Machine: m},
		Fleet:     &fleet.Feature{Machine: m, Operations: ops, Facts: known},
		Mail:      mail,
		Database:  &database.Feature{Machine: m},
		Outgoing:  &outgoing.Feature{Machine: m, Verifier: verifier, Records: kept, Ledger: ledger},
		PHPErrors: &phperrors.Feature{Machine: m, Records: kept},
		Helpers:   &helpers.Feature{Machine: m},
		Moving:    &moving.Feature{Machine: m, Operations: ops, Records: kept},
		Invite:    invite.New(m, kept),
		Remarks:   &remarks.Feature{Machine: m, Records: kept},
		Standing:  &standing.Feature{Machine: m, Operations: ops, Records: kept, Mail: mail},
		Screens:   &screens.Feature{Machine: m},
		Walk:      walks}
	h.rooms.Invite.Guests.Extra, h.rooms.Invite.Guests.Script = h.rooms.Remarks.Answer, h.rooms.Remarks.Script
	h.rooms.Standing.Doors, h.rooms.Standing.Pack = h.rooms.Invite.Doors, h.rooms.Sending.Pack
	h.rooms.Uploads.Sweep(0) // of a service that ended, before anybody brings something
	h.rooms.Fleet.Judge = func(requests []site.Request) site.Problems {
		_, problems := h.rooms.Create.Preview(requests)
		return problems
	}
	h.rooms.Fleet.Changes = h.changes()
	ops.Failed = h.rooms.Lifecycle.VerifyAgain
	ops.Register(h.rooms.Lifecycle.Kinds()...)
	ops.Register(h.rooms.Restore.Kinds()...)
	ops.Register(h.rooms.Create.Kind(), h.rooms.Restack.Kind(), h.rooms.Settings.Kind(), h.rooms.Rename.Kind(), h.rooms.Load.Kind(),
		h.rooms.Sending.Kind(),
		h.rooms.Parts.Kind(),
		h.rooms.Trial.Kind(), h.rooms.Stencils.Kind(), h.rooms.Engines.Kind(), h.rooms.Fleet.Kind(),
		h.rooms.Standing.Kind(), h.rooms.Moving.Kind(), h.rooms.Moving.PushKind())
}

// applied is who changes sites where a fleet file says so.
const applied = "fleet file"

// changes are how a fleet file's sites are made and changed.
func (h *house) changes() fleet.Changes {
	return fleet.Changes{Make: h.rooms.Create.New, Domains: h.rooms.Rename.SetDomains,
		Restack: func(ctx context.Context, name string, r wire.Restack) (plan.Operation, error) {
			return h.rooms.Restack.Restack(ctx, name, restack.Request{PHP: r.PHP, Web: r.Web, Database: r.Database, Stay: r.Stay, Walk: r.Walk,
				Who: applied})
		},
		Rename: func(ctx context.Context, name string, r wire.Rename) (plan.Operation, error) {
			return h.rooms.Rename.Rename(ctx, name, r, applied)
		},
		Adjust: func(ctx context.Context, name string, settings site.Settings) (plan.Operation, error) {
			return h.rooms.Settings.Adjust(ctx, name, settings, false, applied)
		},
		Do: func(ctx context.Context, kind plan.Kind, names []string) (plan.Operation, error) {
			return h.rooms.Lifecycle.Do(ctx, kind, names, false)
		}}
}

// ownEngines are the process ids of engines that the service runs for itself, by engine.
func (h *house) ownEngines() map[string]int {
	if h.own == nil {
		return nil
	}
	return map[string]int{h.own.Engine.ID: h.own.PID()}
}

// resume brings the home back to where it was, and looks after it until the service ends. Operations.Judging is held.
func (h *house) resume(ctx context.Context) error {
	h.rooms.Mail.TakeOver()
	h.work.Go(h.rooms.Uploads.LookAfter)
	h.work.Go(h.rooms.Machine.LookAfter)
	h.work.Go(h.rooms.Mail.LookAfter)
	h.work.Go(h.rooms.Outgoing.LookAfter)
	h.work.Go(h.rooms.PHPErrors.LookAfter)
	h.work.Go(h.rooms.Helpers.LookAfter)
	h.work.Go(h.rooms.Restore.LookAfter)
	h.work.Go(h.rooms.Moving.LookAfter)
	h.work.Go(h.rooms.Invite.LookAfter)
	h.work.Go(h.rooms.Standing.LookAfter)
	h.work.Go(h.rooms.Rename.EndForwards)
	h.work.Go(h.rooms.Engines.NoteUse)
	h.work.Go(h.rooms.Lifecycle.AwaitInstallers)
	h.work.Go(func() {
		h.rooms.Operations.Prune(func() (time.Duration, int) {
			days, most := h.rooms.Facts.Defaults().Kept()
			return time.Duration(days) * 24 * time.Hour, most
		})
	})
	h.rooms.Hosts.Open()
	return h.rooms.Lifecycle.Resume(ctx)
}

// close ends operations (they are resumed at the next start) and stops everything that was started. Sites keep their state: what ran
// runs again after the next start.
func (h *house) close() {
	h.work.End()
	m := h.rooms.Machine
	if m != nil && m.Bell != nil {
		m.Bell.Close()
	}
	h.work.Wait()
	if h.rooms.Hosts != nil {
		h.rooms.Hosts.Close()
	}
	if m != nil {
		m.Close()
	}
	if h.own != nil {
		h.own.Stop()
	}
	h.release()
	if m != nil {
		m.Store.Cells.Close()
	}
	h.lock.Close()
}

// gate is the way from domains to sites, also for guests.
func (h *house) gate(console string) *gateway.Gateway {
	gate := gateway.New(visited{h.rooms}, h.rooms.Machine.Gateway(), console)
	h.rooms.Machine.Reloaded, h.rooms.Invite.Pass = gate.DropConnections, gate.Pass
	return gate
}

// visited is what the gateway knows of the sites.
type visited struct{ rooms api.Rooms }

func (v visited) ByDomain(host string) (site.Site, bool) {
	m := v.rooms.Machine
	s, known := m.Registry.ByHost(host, time.Now())
	if s.State == site.Running && m.Settling() && !m.Serves(s) {
		s.State = site.Starting // it ran when the service ended, and has not been brought up again
	}
	return s, known
}

func (v visited) Changed() <-chan struct{} { return v.rooms.Machine.Registry.Changed() }

func (v visited) TakeTicket(s site.Site, token string) (user, secret string, ok bool) {
	return v.rooms.Users.TakeTicket(s, token)
}

func (v visited) CarryOver(r *http.Request, s site.Site) (address, cookie string) {
	return v.rooms.Users.CarryOver(r, s)
}

func (v visited) Certificate(names []string) (*tls.Certificate, error) {
	return v.rooms.Machine.Authority.Certificate(names)
}

func (v visited) Missing(ctx context.Context, s site.Site, address string) {
	v.rooms.Moving.Missing(ctx, s, address)
}

func (v visited) Wake(s site.Site) { v.rooms.Machine.Wake(s) }

func (v visited) Outage(s site.Site, since time.Time) bool { return v.rooms.Machine.Outage(s, since) }
