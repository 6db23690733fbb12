package provision

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/render"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/kit"
)

// do carries out one step for one site. note keeps a word in the journal for the undo, before what it speaks of happens.
func (p *Provisioner) do(o *operation, name string, step plan.Step, note func(string)) error {
	ctx := o.ctx
	if o.recorded.Kind == plan.Fetch {
		_, err := p.Store.Ensure(ctx, []string{name}, func(text string, fraction float64) { o.progress(name, text, fraction) })
		return err
	}
	s, ok := p.Site(name)
	if !ok {
		return fmt.Errorf("the site is gone")
	}
	if o.recorded.Kind.Changes() {
		return p.doChange(o, s, step, note)
	}
	if o.recorded.Kind == plan.TryOut {
		if done, err := p.doTrial(o, s, step, note); done {
			return err
		}
	}
	switch step {
	case plan.FetchEngines:
		_, err := p.Store.Ensure(ctx, p.enginesOf(s), func(text string, fraction float64) { o.progress(name, text, fraction) })
		return err
	case plan.LayOut:
		if done, err := p.layOutOrigin(ctx, o, s, note); done {
			return err
		}
		prepared, err := p.prepared(ctx, s)
		if err != nil {
			return err
		}
		return p.layOut(ctx, o.recorded.ID, s, prepared.Bytes, note, func(partial string) error {
			if err := kit.CopyTree(ctx, prepared.Tree, partial); err != nil {
				return err
			}
			return p.layLanguage(s, partial)
		})
	case plan.CreateDatabase:
		return p.createDatabase(ctx, s, note)
	case plan.Configure:
		database, err := p.database(ctx, s.Stack.Database)
		if err != nil {
			return err
		}
		if done, err := p.configureOrigin(ctx, s, database.Port, note); done {
			return err
		}
		facts := p.kitFacts(s)
		facts.Port, facts.Network = database.Port, "" // it becomes one later
		return p.kitOf(s).Configure(facts)
	case plan.LoadContent:
		if done, err := p.loadOrigin(ctx, o, s); done {
			return err
		}
		return p.loadContent(ctx, s)
	case plan.AddParts:
		return p.addParts(ctx, o, s)
	case plan.MakeNetwork:
		php, err := p.Store.Find(s.Stack.PHP)
		if err != nil {
			return err
		}
		return p.kitOf(s).MakeNetwork(ctx, php, s, p.kitFacts(s))
	case plan.Touch:
		return p.touch(ctx, o, s)
	case plan.SaveStencil:
		return p.saveStencil(ctx, o, s)
	case plan.StartPHP:
		if _, err := p.database(ctx, s.Stack.Database); err != nil {
			return err
		}
		return p.startPHP(ctx, s)
	case plan.Prove:
		return p.prove(ctx, o, s, "")
	case plan.StopPHP:
		p.stopPHP(s)
		if o.recorded.Kind == plan.Stop {
			if err := p.change(ctx, name, func(s *site.Site) error { s.Notice = ""; return nil }); err != nil {
				return err
			}
			return p.setState(ctx, name, site.Stopped, "")
		}
		return nil
	case plan.DropDatabase:
		return p.dropDatabase(ctx, s, o.recorded.KeepFiles, note)
	case plan.RemoveFolder:
		if s.Origin.Kind == site.FromFolder { // it was there before, and stays
			return p.giveBack(s)
		}
		if o.recorded.KeepFiles {
			return nil
		}
		return os.RemoveAll(s.Folder)
	case plan.Release:
		return p.release(ctx, s)
	}
	return fmt.Errorf("no step %q", step)
}

// undo takes one step back. Every undo bears that its step did nothing, or only a part.
func (p *Provisioner) undo(ctx context.Context, o *operation, name string, step plan.Step, note string) error {
	s, ok := p.Site(name)
	if !ok {
		return nil
	}
	switch step {
	case plan.Reserve:
		return p.release(ctx, s)
	case plan.Configure:
		if s.Origin.Kind == site.FromFolder && strings.HasPrefix(note, "wrote ") {
			if err := os.Remove(p.kitOf(s).ConfigurationFile(s)); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			return nil
		}
		return p.giveBack(s)
	case plan.LayOut:
		return undoLayOut(o.recorded.ID, s, note)
	case plan.CreateDatabase:
		if note == "" { // it was not ours to make
			return nil
		}
		database, err := p.database(ctx, s.Stack.Database)
		if err != nil {
			return err
		}
		return database.DropDatabase(ctx, s.Database.Name, s.Database.User)
	case plan.StartPHP:
		p.stopPHP(s)
	case plan.Publish:
		return p.withdraw(ctx, []string{name})[name]
	}
	return nil
}

// laidOut is what lay-out leaves for its undo.
type laidOut struct {
	Inode   uint64   `json:"inode"`
	Existed bool     `json:"existed"` // an empty folder stood in its place
	Parents []string `json:"parents"` // folders made on the way, outermost first
}

func partialFolder(operation string, s site.Site) string {
	return filepath.Join(filepath.Dir(s.Folder), "."+filepath.Base(s.Folder)+".vessik-"+operation)
}

// spare is what stays free on a disk, for the records and the databases that share it, in bytes.
const spare = 200 << 20

// room says whether a disk holds so many bytes more.
func room(place string, bytes int64) error {
	free, err := engine.FreeBytes(place)
	if err == nil && free < uint64(bytes)+spare {
		return fmt.Errorf("the disk of %s has %d MB left, and %d MB are needed; make room on it, then try again", place, free>>20, (bytes+spare)>>20)
	}
	return nil
}

// layOut has a tree made beside the site's folder and renames it there: the folder is whole or absent, and one that was filled
// meanwhile is not touched.
func (p *Provisioner) layOut(ctx context.Context, operation string, s site.Site, bytes int64, note func(string), fill func(partial string) error) error {
	if err := room(s.Folder, bytes); err != nil {
		return err
	}
	left := laidOut{}
	for dir := filepath.Dir(s.Folder); ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		left.Parents = append([]string{dir}, left.Parents...)
	}
	if _, err := os.Stat(s.Folder); err == nil {
		left.Existed = true
	}
	partial := partialFolder(operation, s)
	keep := func() {
		text, _ := json.Marshal(left)
		note(string(text))
	}
	keep()
	if err := os.MkdirAll(filepath.Dir(s.Folder), 0o755); err != nil {
		return err
	}
	if err := os.RemoveAll(partial); err != nil {
		return err
	}
	if err := fill(partial); err != nil {
		return err
	}
	info, err := os.Stat(partial)
	if err != nil {
		return err
	}
	left.Inode = info.Sys().(*syscall.Stat_t).Ino
	keep()
	if err := syscall.Rename(partial, s.Folder); err != nil {
		return fmt.Errorf("the folder %s was filled meanwhile (%w); empty it, or choose another", s.Folder, err)
	}
	return nil
}

func undoLayOut(operation string, s site.Site, note string) error {
	if note == "" {
		return nil
	}
	var left laidOut
	if err := json.Unmarshal([]byte(note), &left); err != nil {
		return err
	}
	for _, path := range []string{partialFolder(operation, s), partialFolder(operation, s) + "-whole"} {
		if err := os.RemoveAll(path); err != nil {
			return err
		}
	}
	if info, err := os.Stat(s.Folder); err == nil && left.Inode != 0 && info.Sys().(*syscall.Stat_t).Ino == left.Inode {
		if err := os.RemoveAll(s.Folder); err != nil {
			return err
		}
		if left.Existed {
			if err := os.Mkdir(s.Folder, 0o755); err != nil {
				return err
			}
		}
	}
	for _, dir := range slices.Backward(left.Parents) {
		os.Remove(dir) // only if empty
	}
	return nil
}

func (p *Provisioner) prepared(ctx context.Context, s site.Site) (*kit.Prepared, error) {
	k, source, version := p.kitOf(s), kit.Source{}, s.Kit.Version
	if item, onShelf := p.shelfRelease(s.Kit); onShelf {
		source = kit.Source{ID: "-" + item.SHA256[:8], Folder: func() (string, func(), error) { return p.unpackItem(ctx, item) }}
	} else if k.FromCatalogue() {
		release, err := p.Store.Find(s.Kit.Release())
		if err != nil {
			return nil, err
		}
		source.Packages, version = release.Root(), release.Version
	}
	php, err := p.Store.Find(s.Stack.PHP)
	if err != nil {
		return nil, err
	}
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return nil, err
	}
	return p.stock.Prepare(ctx, k, source, version, php, database)
}

func (p *Provisioner) createDatabase(ctx context.Context, s site.Site, note func(string)) error {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	exists, err := database.HasDatabase(ctx, s.Database.Name, s.Database.User)
	if err != nil {
		return err
	}
	if exists {
		return fmt.Errorf("%s has a database %q or a user %q already, and no site's; choose others with -database-name and -database-user", s.Stack.Database, s.Database.Name, s.Database.User)
	}
	note("made")
	return database.CreateDatabase(ctx, s.Database.Name, s.Database.User, s.Database.Password)
}

func (p *Provisioner) loadContent(ctx context.Context, s site.Site) error {
	prepared, err := p.prepared(ctx, s)
	if err != nil {
		return err
	}
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	pool := database.Open(s.Database.Name)
	defer pool.Close()
	facts := p.kitFacts(s)
	facts.Hash = p.kitOf(s).HashOf(s.Kit.Version, s.Admin.Password)
	if err := prepared.Load(ctx, pool, facts); err != nil {
		return err
	}
	return p.change(ctx, s.Name, func(s *site.Site) error { s.AdminHash = facts.Hash; return nil })
}

// kitOf is the kit of a site; one that knows nothing where the user took it away.
func (p *Provisioner) kitOf(s site.Site) *kit.Kit {
	if k := p.Kits()[s.Kit.Name]; k != nil {
		return k
	}
	return &kit.Kit{Name: s.Kit.Name, Title: s.Kit.Name}
}

// kitFacts are what a kit's templates may use of a site.
func (p *Provisioner) kitFacts(s site.Site) kit.Facts {
	return kit.Facts{Visible: s.Visible, Language: s.Language, TimeZone: s.TimeZone, Network: s.Network, Site: s, Title: s.Title, URL: strings.TrimSuffix(s.URL(p.settings.GatewayPort), "/"), Domain: s.Domain, Prefix: cmp.Or(s.Prefix, p.kitOf(s).Database.Prefix),
		Database: s.Database, Host: "127.0.0.1", Port: p.DatabasePort(s.Stack.Database), Admin: s.Admin}
}

// enginesOf are the engines of a site's stack, and its CMS's release where that is one of the catalogue.
func (p *Provisioner) enginesOf(s site.Site) []string {
	ids, k := s.Stack.IDs(), p.kitOf(s)
	if _, onShelf := p.shelfRelease(s.Kit); k.FromCatalogue() && (s.Origin.Kind == "" || s.Origin.Newest) && !onShelf {
		ids = append(ids, s.Kit.Release())
	}
	if pack := k.LanguagePack(s.Kit.Version); pack != "" && s.Language != "" && s.Language != k.Languages.Usual {
		if slices.ContainsFunc(p.Store.Rows(), func(row engine.Row) bool { return row.ID == pack }) {
			ids = append(ids, pack)
		}
	}
	return ids
}

// layLanguage adds the files of a site's language where the release does not have them.
func (p *Provisioner) layLanguage(s site.Site, folder string) error {
	k := p.kitOf(s)
	pack := k.LanguagePack(s.Kit.Version)
	if pack == "" || !slices.Contains(p.enginesOf(s), pack) {
		return nil
	}
	e, err := p.Store.Find(pack)
	if err != nil {
		return err
	}
	names := k.LanguagesIn(filepath.Join(e.Root(), k.Languages.Pack))
	language := site.MatchLanguage(names, s.Language)
	if language == "" {
		return fmt.Errorf("%s %s has no language %q; choose one of %s", k.Title, s.Kit.Version, s.Language, strings.Join(names, ", "))
	}
	if language != s.Language { // it was asked for in short, before the languages were here
		if err := p.change(p.context, s.Name, func(s *site.Site) error { s.Language = language; return nil }); err != nil {
			return err
		}
	}
	return k.LayLanguage(e.Root(), folder, language)
}

// languages lists those of a version of a CMS; known is false where they have not been fetched.
func (p *Provisioner) languages(of site.Kit) (names []string, known bool) {
	k := p.Kits()[of.Name]
	if k == nil || k.Languages.Files == "" {
		return nil, true
	}
	if pack := k.LanguagePack(of.Version); pack != "" {
		if e, err := p.Store.Find(pack); err == nil {
			return k.LanguagesIn(filepath.Join(e.Root(), k.Languages.Pack)), true
		}
		return nil, false
	}
	if e, err := p.Store.Find(of.Release()); err == nil {
		return k.LanguagesIn(filepath.Join(e.Root(), k.Layout.Root, k.Languages.Folder)), true
	}
	return nil, false
}

// Languages lists those of a kit's usual version, as far as they have been fetched.
func (p *Provisioner) Languages(kit string) []string {
	releases := p.Releases()[kit]
	if len(releases) == 0 {
		return nil
	}
	names, _ := p.languages(site.Kit{Name: kit, Version: releases[0]})
	return names
}

// startPHP opens a site's PHP unless it is open, and wakes it.
func (p *Provisioner) startPHP(ctx context.Context, s site.Site) error {
	if master := p.master(s.Name); master != nil && (s.State == site.Failed || master.Broken()) {
		p.stopPHP(s)
	}
	if err := p.openPHP(s); err != nil {
		return err
	}
	err := p.master(s.Name).Wake(ctx)
	if err != nil {
		p.stopPHP(s)
	}
	return err
}

func (p *Provisioner) master(name string) *engine.PHPMaster {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.masters[name]
}

// openPHP opens the socket that a site's PHP takes over at the first connection, unless it is open.
func (p *Provisioner) openPHP(s site.Site) error {
	if p.master(s.Name) != nil {
		return nil
	}
	e, err := p.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	if _, err := os.Stat(s.Folder); err != nil {
		return fmt.Errorf("the site's folder %s is not there (%w); put it back, or retire the site", s.Folder, err)
	}
	clearLinks(s)
	master, err := engine.OpenPHP(p.supervisor, p.bell, e, s, p.phpPlace(s), p.Abilities, func(reason error) { p.fail(s.Name, reason) })
	if err != nil {
		return err
	}
	p.mu.Lock()
	p.masters[s.Name] = master
	p.mu.Unlock()
	return nil
}

func (p *Provisioner) stopPHP(s site.Site) {
	p.mu.Lock()
	master := p.masters[s.Name]
	delete(p.masters, s.Name)
	p.mu.Unlock()
	if master != nil {
		master.Stop()
	}
	os.Remove(p.socket(s))
}

// virtualHost is a site's, for the web server of its stack.
func (p *Provisioner) virtualHost(s site.Site) engine.VirtualHost {
	php := render.PHP{Site: s}
	values := map[string]string{}
	for _, d := range php.Directives() {
		values[d.Name] = d.Value
	}
	host := render.Host{Site: s, Socket: p.socket(s), Logs: p.Home.siteLogs(s.Name), BaseURL: strings.TrimSuffix(s.URL(p.settings.GatewayPort), "/"), PublicPort: p.settings.GatewayPort,
		UploadLimit: max(render.Bytes(values["post_max_size"]), render.Bytes(values["upload_max_filesize"])+1<<20), ReadTimeout: cmp.Or(php.LongestRequest(), 3600) + 10,
		FrontController: p.kitOf(s).Web.Front, NoPHP: p.kitOf(s).Web.NoPHP, Private: p.kitOf(s).Web.Private}
	if s.Network == site.NetworkFolders {
		host.Shared, host.Directories = p.kitOf(s).Network.Shared, p.kitOf(s).Network.Directories
	}
	host.Fallback = !slices.ContainsFunc(p.kitOf(s).Layout.Files, func(f kit.Text) bool { return f.Path == ".htaccess" })
	text := host.Nginx()
	if strings.HasPrefix(s.Stack.Web, "apache") {
		text = host.Apache()
	}
	return engine.VirtualHost{Text: text, Port: s.Port, Folders: strings.Join(append([]string{s.Folder}, s.Settings.Allow...), "\n"), Logs: p.Home.siteLogs(s.Name)}
}

// publish gives sites their virtual hosts, with one check and one reload of each web server, and opens their routes. A site whose port
// somebody took while it was stopped gets another one, unless that one was asked for. It returns the sites that could not be
// published, and why.
func (p *Provisioner) publish(ctx context.Context, names []string) map[string]error {
	p.letGo(names...)
	failed := p.publishOnce(ctx, names)
	again := []string{}
	for name, err := range failed {
		if errors.Is(err, engine.ErrPortTaken) && p.otherPort(ctx, name, err) == nil {
			again = append(again, name)
			delete(failed, name)
		}
	}
	if len(again) > 0 {
		maps.Copy(failed, p.publishOnce(ctx, again))
	}
	for _, name := range names {
		if failed[name] == nil {
			if err := p.setState(ctx, name, site.Running, ""); err != nil {
				failed[name] = err
			}
		}
	}
	return failed
}

// otherPort gives a site a free port in place of one that is taken, and says so.
func (p *Provisioner) otherPort(ctx context.Context, name string, reason error) error {
	s, ok := p.Site(name)
	if !ok || s.PortPinned {
		return reason
	}
	taken := s.Port
	if s.Port = site.FreePort(p.facts()); s.Port == 0 {
		return reason
	}
	if err := p.redefine(ctx, s); err != nil {
		return err
	}
	p.Log.Warn("another port", "site", name, "taken", taken, "now", s.Port, "reason", reason)
	return p.change(ctx, name, func(s *site.Site) error {
		s.Notice = fmt.Sprintf("port %d was taken while the site was stopped (%s); its own port is %d now", taken, strings.TrimSuffix(reason.Error(), ": "+engine.ErrPortTaken.Error()), s.Port)
		return nil
	})
}

func (p *Provisioner) publishOnce(ctx context.Context, names []string) map[string]error {
	changes := map[string]map[string]*engine.VirtualHost{}
	failed := map[string]error{}
	for _, name := range names {
		s, ok := p.Site(name)
		if !ok {
			continue
		}
		if changes[s.Stack.Web] == nil {
			changes[s.Stack.Web] = map[string]*engine.VirtualHost{}
		}
		host := p.virtualHost(s)
		changes[s.Stack.Web][name] = &host
	}
	p.apply(ctx, changes, failed)
	if p.Reloaded != nil {
		p.Reloaded()
	}
	return failed
}

func (p *Provisioner) apply(ctx context.Context, changes map[string]map[string]*engine.VirtualHost, failed map[string]error) {
	for id, hosts := range changes {
		web, err := p.web(id)
		broken := map[string]error{}
		if err == nil {
			broken, err = web.Apply(ctx, hosts)
		}
		for name := range hosts {
			if broken[name] != nil {
				failed[name] = broken[name]
			} else if err != nil {
				failed[name] = err
			}
		}
		for name, reason := range broken {
			if _, asked := hosts[name]; !asked {
				p.fail(name, reason)
			}
		}
	}
}

// withdraw takes sites' virtual hosts and routes away.
func (p *Provisioner) withdraw(ctx context.Context, names []string) map[string]error {
	changes := map[string]map[string]*engine.VirtualHost{}
	failed := map[string]error{}
	for _, name := range names {
		s, ok := p.Site(name)
		if !ok {
			continue
		}
		if _, err := p.Store.Find(s.Stack.Web); err != nil {
			continue // no engine, so nothing of it runs
		}
		if changes[s.Stack.Web] == nil {
			changes[s.Stack.Web] = map[string]*engine.VirtualHost{}
		}
		changes[s.Stack.Web][name] = nil
	}
	p.apply(ctx, changes, failed)
	return failed
}

// dropDatabase removes a site's database and user. When the files are kept, the content is kept beside them as a dump.
func (p *Provisioner) dropDatabase(ctx context.Context, s site.Site, keep bool, note func(string)) error {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	if s.Database.Foreign {
		return nil
	}
	exists, err := database.HasDatabase(ctx, s.Database.Name, s.Database.User)
	if err != nil {
		return err
	}
	if keep && exists {
		path := p.Home.path("kept", s.Name+"-"+time.Now().UTC().Format("20060102-150405")+".sql")
		pool := database.Open(s.Database.Name)
		defer pool.Close()
		file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return err
		}
		if err := errors.Join(kit.Dump(ctx, pool, file), file.Close()); err != nil {
			return fmt.Errorf("keep the database as %s: %w", path, err)
		}
		note("files kept in " + s.Folder + ", database kept in " + path)
	}
	return database.DropDatabase(ctx, s.Database.Name, s.Database.User)
}

// release removes what the service kept for a site, and then its records.
func (p *Provisioner) release(ctx context.Context, s site.Site) error {
	name, place := s.Name, p.phpPlace(s)
	p.letGo(name)
	for _, path := range []string{p.Home.path("restore", name), p.Home.path("pictures", name), place.Dir, place.Temp, place.Logs, place.Mail, place.Socket} {
		if err := os.RemoveAll(path); err != nil {
			return err
		}
	}
	if err := p.records.Forget(ctx, name); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.sites, name)
	p.mu.Unlock()
	p.announce()
	return nil
}

// prove verifies a site and records the report. A check that fails does not fail the step: the site stays, to be looked at.
func (p *Provisioner) prove(ctx context.Context, o *operation, s site.Site, stage string) error {
	s, _ = p.Site(s.Name)
	p.waitWhile(ctx, s.Name, site.Starting)
	s, _ = p.Site(s.Name)
	var report check.SiteReport
	switch s.State {
	case site.Running, site.Failed:
		report = p.verify(ctx, s, func(partial check.SiteReport) { partial.Stage = stage; o.report(s.Name, partial) })
	default:
		report = check.Skipped(s.Name, "the site is "+string(s.State))
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	report.Stage = stage
	o.report(s.Name, report)
	return p.records.SaveReport(ctx, o.recorded.ID, report)
}
