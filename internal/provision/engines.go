package provision

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/kit"
	"vessik/internal/records"
)

// matchEngine finds an engine of any kind, releases included, by a part of its id.
func (p *Provisioner) matchEngine(part string) (string, bool) {
	all := []site.EngineFact{}
	for _, facts := range p.Engines() {
		all = append(all, facts...)
	}
	return site.MatchEngine(all, part)
}

// FetchEngines brings engines into the store.
func (p *Provisioner) FetchEngines(ctx context.Context, parts []string) (records.Operation, error) {
	ids, problems, plans := []string{}, site.Problems{}, map[string][]plan.Step{}
	for _, part := range parts {
		id, ok := p.matchEngine(part)
		if !ok {
			problems = append(problems, site.Problem{Field: "ids", Message: fmt.Sprintf("no engine fits %q", part), Remedy: "choose one of " + strings.Join(p.Store.IDs(""), ", ")})
			continue
		}
		if plans[id] == nil {
			ids, plans[id] = append(ids, id), []plan.Step{plan.FetchEngines}
		}
	}
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	p.requests.Lock()
	defer p.requests.Unlock()
	return p.begin(ctx, records.Operation{Kind: plan.Fetch}, nil, ids, plans)
}

// DropEngine removes an engine that nobody uses.
func (p *Provisioner) DropEngine(part string) (id string, err error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	id, ok := p.matchEngine(part)
	if !ok {
		return "", site.Problems{{Field: "ids", Message: fmt.Sprintf("no engine fits %q", part), Remedy: "see them with: vessik engines"}}
	}
	users := []string{}
	for _, s := range p.Sites() {
		if slices.Contains(s.Stack.IDs(), id) || s.Kit.Release() == id {
			users = append(users, s.Name)
		}
	}
	problem := func(message, remedy string) (string, error) {
		return id, site.Problems{{Field: "ids", Message: message, Remedy: remedy}}
	}
	if len(users) > 0 {
		return problem(fmt.Sprintf("%s is used by %s", id, strings.Join(users, ", ")), "put them on another engine with vessik restack, or retire them")
	}
	if id == p.settings.RecordsEngine {
		return problem(id+" keeps the service's own records", "leave it")
	}
	if _, err := p.Store.Find(id); err != nil {
		return problem(id+" is not here", "see those that are with: vessik engines")
	}
	p.mu.Lock()
	working := len(p.operations) > 0
	p.mu.Unlock()
	if working {
		return id, fmt.Errorf("%s: %w; wait until nothing is being done", id, ErrBusy)
	}
	p.engineMu.Lock()
	if d := p.databases[id]; d != nil {
		d.Stop()
		delete(p.databases, id)
	}
	if w := p.webs[id]; w != nil {
		w.Stop()
		delete(p.webs, id)
	}
	p.engineMu.Unlock()
	return id, p.Store.Drop(id)
}

// AdoptEngine takes an engine from a folder of the user's own into the catalogue, once it has told its version and been started.
func (p *Provisioner) AdoptEngine(ctx context.Context, id, path string) (*engine.Engine, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	problem := func(field, message, remedy string) error {
		return site.Problems{{Field: field, Message: message, Remedy: remedy}}
	}
	if slices.Contains(p.Store.IDs(""), id) {
		return nil, problem("id", fmt.Sprintf("there is an engine %q", id), "choose another id, such as "+id+"-own")
	}
	e, err := p.Store.Inspect(ctx, id, path)
	if err != nil {
		return nil, problem("path", err.Error(), "name the folder that holds the engine's bin or sbin, and an id that begins with php-, nginx-, apache- or mariadb- and its version")
	}
	if err := p.tryEngine(ctx, e); err != nil {
		return nil, problem("path", fmt.Sprintf("%s %s does not start: %v", id, e.Version, err), "mend what it says, then adopt it again; nothing was changed")
	}
	return e, p.Store.Keep(e)
}

// tryEngine starts an engine by itself, in a folder that is removed again.
func (p *Provisioner) tryEngine(ctx context.Context, e *engine.Engine) error {
	dir, err := os.MkdirTemp(p.Home.path("run"), "try-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	log := filepath.Join(dir, "log")
	place := func(name string) string { return filepath.Join(dir, name) }
	switch e.Kind {
	case engine.PHP:
		s := site.Site{Name: "trial", Folder: dir, Probe: randomHex(8)}
		master, err := engine.OpenPHP(p.supervisor, p.bell, e, s, engine.PHPPlace{Dir: place("php"), Temp: place("temp"), Logs: place("logs"), Mail: place("mail"), Socket: place("s"), Probe: p.probeFile()}, p.Abilities, func(error) {})
		if err != nil {
			return err
		}
		defer master.Stop()
		return master.Wake(ctx)
	case engine.Web:
		port := site.FreePort(p.facts())
		s := site.Site{Name: "trial", Folder: dir, Domain: "trial.localhost", Port: port}
		s.Stack.Web = e.ID
		web, err := engine.NewWebServer(p.supervisor, e, p.Abilities, place("web"), log)
		if err != nil {
			return err
		}
		defer web.Stop()
		if err := os.WriteFile(place("index.html"), []byte("it serves"), 0o644); err != nil {
			return err
		}
		host := p.virtualHost(s)
		host.Logs = place("logs")
		if err := os.MkdirAll(host.Logs, 0o700); err != nil {
			return err
		}
		host.Text = strings.ReplaceAll(host.Text, p.Home.siteLogs(s.Name), host.Logs)
		broken, err := web.Apply(ctx, map[string]*engine.VirtualHost{s.Name: &host})
		if err != nil || broken[s.Name] != nil {
			return firstError(broken[s.Name], err)
		}
		request, err := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("http://127.0.0.1:%d/index.html", port), nil)
		if err != nil {
			return err
		}
		request.Host = s.Domain
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return err
		}
		response.Body.Close()
		if response.StatusCode != http.StatusOK {
			return fmt.Errorf("it answers %s", response.Status)
		}
		return nil
	case engine.Database:
		d, err := engine.StartDatabase(ctx, p.supervisor, e, engine.DatabasePlace{Data: place("data"), Run: place("run"), Log: log, Password: kit.Password(), BufferMB: 16})
		if err != nil {
			return err
		}
		d.Stop()
	}
	return nil
}

func firstError(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// SetVariables gives a database engine server variables of the user's own; an empty value takes one back. The server reads them
// before anything changes, is started anew while its sites' requests wait, and the sites are asked; what does not work is taken back.
func (p *Provisioner) SetVariables(ctx context.Context, part string, values map[string]string, who string) error {
	p.requests.Lock()
	defer p.requests.Unlock()
	problem := func(field, message, remedy string) error {
		return site.Problems{{Field: field, Message: message, Remedy: remedy}}
	}
	id, err := p.databaseEngine(part)
	if err != nil {
		return err
	}
	e, err := p.Store.Find(id)
	if err != nil {
		return problem("id", err.Error(), "fetch it first: vessik engines fetch "+id)
	}
	next := p.Variables(id)
	if next == nil {
		next = map[string]string{}
	}
	for name, value := range values {
		switch {
		case !variableName(name):
			return problem(name, "is not a variable's name", "write it as the server has it, such as max_connections")
		case slices.Contains(heldVariables, strings.ReplaceAll(name, "-", "_")):
			return problem(name, "keeps the sites apart or in reach, and is set by Vessik", "leave it out")
		case strings.ContainsAny(value, "\n\r\"'#\\"):
			return problem(name, fmt.Sprintf("%q cannot stand in a configuration", value), "write it without quotes and line ends")
		case value == "":
			delete(next, name)
		default:
			next[name] = value
		}
	}
	place := engine.DatabasePlace{Data: p.Home.path("databases", id), Run: p.Home.path("run", id), BufferMB: 128, Variables: next}
	if err := engine.CheckVariables(ctx, e, place); err != nil {
		return problem("variables", err.Error(), "mend what it says; nothing was changed")
	}
	before := p.Variables(id)
	witness, asked := p.witness(id)
	var proven check.SiteReport
	if asked {
		proven = p.verify(ctx, witness, func(check.SiteReport) {})
	}
	err = p.restartWith(ctx, id, next)
	if err == nil && asked {
		now := p.verify(ctx, witness, func(check.SiteReport) {})
		if worse := check.Worse(proven, now); len(worse) > 0 {
			err = fmt.Errorf("with them, %s no longer passes %s: %s", witness.Name, worse[0], now.Result(worse[0]).Observed)
		}
	}
	if err != nil {
		if again := p.restartWith(context.WithoutCancel(ctx), id, before); again != nil {
			return fmt.Errorf("%s does not work with them (%w), and going back failed: %w", id, err, again)
		}
		return problem("variables", err.Error(), "mend what it says; the server runs as before")
	}
	if maps.Equal(before, next) {
		return nil
	}
	return p.records.SaveVariables(ctx, plan.VariablesEntry{Engine: id, Who: who, Variables: next})
}

// VariablesPage shows what a database engine's server variables are set to, and what they were.
func (p *Provisioner) VariablesPage(ctx context.Context, part string) (wire.VariablesPage, error) {
	id, err := p.databaseEngine(part)
	if err != nil {
		return wire.VariablesPage{}, err
	}
	page := wire.VariablesPage{Engine: id, Variables: p.Variables(id)}
	if page.Variables == nil {
		page.Variables = map[string]string{}
	}
	page.History, err = p.records.VariablesHistory(ctx, id)
	return page, err
}

func (p *Provisioner) databaseEngine(part string) (id string, err error) {
	id, ok := site.MatchEngine(p.Engines()["database"], part)
	if !ok {
		return "", site.Problems{{Field: "id", Message: fmt.Sprintf("no database engine fits %q", part), Remedy: "choose one of " + strings.Join(p.Store.IDs(engine.Database), ", ")}}
	}
	return id, nil
}

// witness is a running site on a database engine, by which a change of that engine is proven.
func (p *Provisioner) witness(database string) (site.Site, bool) {
	sites := p.Sites()
	i := slices.IndexFunc(sites, func(s site.Site) bool {
		return s.Stack.Database == database && s.State == site.Running && s.TrialOf == ""
	})
	if i < 0 {
		return site.Site{}, false
	}
	return sites[i], true
}

func variableName(name string) bool {
	return name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_-") == ""
}

var heldVariables = []string{"port", "socket", "datadir", "basedir", "pid_file", "tmpdir", "bind_address", "skip_networking", "skip_name_resolve", "skip_grant_tables", "secure_file_priv", "local_infile",
	"init_file", "plugin_dir", "plugin_load", "plugin_load_add", "user", "lc_messages_dir", "character_sets_dir", "defaults_file", "log_error"}

func (p *Provisioner) restartWith(ctx context.Context, id string, variables map[string]string) error {
	p.settingsMu.Lock()
	if p.settings.Variables == nil {
		p.settings.Variables = map[string]map[string]string{}
	}
	p.settings.Variables[id] = maps.Clone(variables)
	err := p.Home.WriteSettings(p.settings)
	p.settingsMu.Unlock()
	if err != nil {
		return err
	}
	masters := []*engine.PHPMaster{}
	p.mu.Lock()
	for name, m := range p.masters {
		if p.sites[name].Stack.Database == id {
			masters = append(masters, m)
		}
	}
	p.mu.Unlock()
	p.engineMu.Lock()
	running := p.databases[id]
	if running == nil {
		p.engineMu.Unlock()
		return nil
	}
	for _, m := range masters {
		m.Hold()
	}
	running.Stop()
	delete(p.databases, id)
	p.engineMu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	_, err = p.database(ctx, id)
	for _, m := range masters {
		if released := m.Release(); err == nil {
			err = released
		}
	}
	return err
}
