package provision

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/kit"
	"vessik/internal/records"
)

// Restack asks for another stack for a site. Parts that are empty stay as they are.
type Restack struct {
	PHP, Web, Database string
	Keep               bool // the new stack stays although a check fails on it
	Who                string
}

// planRestack judges a request for another stack.
func (p *Provisioner) planRestack(name string, r Restack) (site.Site, plan.Change, site.Problems) {
	s, ok := p.Site(name)
	if !ok {
		return s, plan.Change{}, noSite(name)
	}
	facts := p.facts()
	after, problems := s.Stack, site.Problems{}
	for _, part := range []struct {
		field, asked string
		target       *string
	}{{"php", r.PHP, &after.PHP}, {"web", r.Web, &after.Web}, {"database", r.Database, &after.Database}} {
		if part.asked == "" {
			continue
		}
		id, ok := site.MatchEngine(facts.Engines[part.field], part.asked)
		if !ok {
			ids := []string{}
			for _, e := range facts.Engines[part.field] {
				ids = append(ids, e.ID)
			}
			problems = append(problems, site.Problem{Site: name, Field: part.field, Message: fmt.Sprintf("no %s engine fits %q", part.field, part.asked), Remedy: "choose one of " + strings.Join(ids, ", ")})
			continue
		}
		*part.target = id
	}
	if len(problems) == 0 && after == s.Stack {
		problems = append(problems, site.Problem{Site: name, Field: "stack", Message: "it runs on " + strings.Join(after.IDs(), ", ") + " already", Remedy: "name another engine with -php, -web or -database"})
	}
	if after.Database != s.Stack.Database {
		moved := s
		moved.Stack = after
		for _, problem := range site.Check(moved, facts) {
			if problem.Field == "database_name" || problem.Field == "database_user" {
				problems = append(problems, problem)
			}
		}
	}
	if s.State == site.Provisioning || s.State == site.Retiring {
		problems = append(problems, site.Problem{Site: name, Field: "name", Message: "the site is " + string(s.State), Remedy: "wait for it"})
	}
	return s, plan.Change{Site: name, Before: plan.Target{Stack: s.Stack, Settings: s.Settings}, After: plan.Target{Stack: after, Settings: s.Settings}, Keep: r.Keep, Who: r.Who}, problems
}

func noSite(name string) site.Problems {
	return site.Problems{{Site: name, Field: "name", Message: "there is no such site", Remedy: "see the names with: vessik sites"}}
}

// PreviewRestack says what a change of stack would do; nothing is changed.
func (p *Provisioner) PreviewRestack(ctx context.Context, name string, r Restack) (wire.Preview, error) {
	s, change, problems := p.planRestack(name, r)
	if len(problems) > 0 {
		return wire.Preview{}, problems
	}
	preview := wire.Preview{Before: change.Before.Stack, After: change.After.Stack, Steps: []string{}, Fetch: []string{}}
	for _, id := range change.After.Stack.IDs() {
		if _, err := p.Store.Find(id); err != nil {
			preview.Fetch = append(preview.Fetch, id)
		}
	}
	for _, step := range plan.ForChange(plan.Restack, change, len(preview.Fetch) > 0) {
		preview.Steps = append(preview.Steps, step.Title())
	}
	preview.Supported, preview.Warning = supportWords(p.Kits(), s.Kit, change.After.Stack.PHP)
	preview.Downtime = "nothing: what is asked for meanwhile waits for a moment and is answered, well under a second"
	switch {
	case s.State != site.Running:
		preview.Downtime = "nothing: the site is " + string(s.State)
	case change.Before.Stack.Database != change.After.Stack.Database:
		bytes := p.databaseBytes(ctx, s)
		const bytesPerSecond = 20 << 20 // dumped, loaded, and read twice to be compared
		preview.Downtime = fmt.Sprintf("a pause of about %s: requests wait while the database (%.1f MB) is moved and compared, and are then answered",
			(time.Duration(float64(bytes)/bytesPerSecond*float64(time.Second)) + 500*time.Millisecond).Round(100*time.Millisecond), float64(bytes)/(1<<20))
	}
	return preview, nil
}

// databaseBytes is the size of a site's tables; 0 where their server does not tell.
func (p *Provisioner) databaseBytes(ctx context.Context, s site.Site) (bytes int64) {
	if database, err := p.database(ctx, s.Stack.Database); err == nil {
		database.Admin().QueryRowContext(ctx, "SELECT COALESCE(SUM(DATA_LENGTH + INDEX_LENGTH), 0) FROM information_schema.TABLES WHERE TABLE_SCHEMA=?", s.Database.Name).Scan(&bytes)
	}
	return bytes
}

// supportWords say what a CMS's version is known to support, and whether a PHP is not among it.
func supportWords(kits kit.Kits, k site.Kit, php string) (known, warning string) {
	of := kits[k.Name]
	if of == nil {
		return "nothing is known of " + k.Name + " " + k.Version, ""
	}
	from, to := of.Range(k.Version)
	if from == "" {
		return "nothing is known of " + k.Name + " " + k.Version, ""
	}
	known = fmt.Sprintf("%s %s is known to work on PHP %s to %s", k.Name, k.Version, from, to)
	if !of.Bears(k.Version, php) {
		warning = fmt.Sprintf("%s %s is not known to work on %s", k.Name, k.Version, php)
	}
	return known, warning
}

// Restack changes a site's stack.
func (p *Provisioner) Restack(ctx context.Context, name string, r Restack) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	_, change, problems := p.planRestack(name, r)
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	return p.beginChange(ctx, plan.Restack, change)
}

// Adjust changes the settings of a site's engines.
func (p *Provisioner) Adjust(ctx context.Context, name string, settings site.Settings, keep bool, who string) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	s, ok := p.Site(name)
	if !ok {
		return records.Operation{}, noSite(name)
	}
	problems := p.checkSettings(ctx, s, settings)
	if settings.Equal(s.Settings) {
		problems = append(problems, site.Problem{Site: name, Field: "settings", Message: "they are so already", Remedy: "name what is to be different"})
	}
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	return p.beginChange(ctx, plan.Adjust, plan.Change{Site: name, Before: plan.Target{Stack: s.Stack, Settings: s.Settings}, After: plan.Target{Stack: s.Stack, Settings: settings}, Keep: keep, Who: who})
}

// checkSettings judges settings by what the site's PHP knows.
func (p *Provisioner) checkSettings(ctx context.Context, s site.Site, settings site.Settings) site.Problems {
	var directives, extensions []string
	if e, err := p.Store.Find(s.Stack.PHP); err == nil {
		directives, _ = p.Directives(ctx, e)
		extensions, _ = engine.Switchable(e)
	}
	problems := site.CheckSettings(s.Name, settings, directives, extensions, p.Home.Dir)
	for _, dir := range settings.Allow {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			problems = append(problems, site.Problem{Site: s.Name, Field: "allow", Message: dir + " is not a folder that the service's account can reach", Remedy: "make it, or let that account enter it"})
		}
	}
	if settings.Xdebug > 0 {
		if e, err := p.Store.Find(s.Stack.PHP); err == nil && !engine.HasXdebug(e) {
			problems = append(problems, site.Problem{Site: s.Name, Field: "xdebug", Message: e.ID + " brings no Xdebug", Remedy: "leave it out, or fetch that engine again"})
		}
	}
	return problems
}

// Directives are the names that a PHP knows, as it tells them itself.
func (p *Provisioner) Directives(ctx context.Context, e *engine.Engine) ([]string, error) {
	key := e.ID + " " + e.Version
	p.knownMu.Lock()
	defer p.knownMu.Unlock()
	if names := p.known[key]; names != nil {
		return names, nil
	}
	names, err := engine.Directives(ctx, e, p.Home.path("tmp"))
	if err == nil {
		p.known[key] = names
	}
	return names, err
}

func (p *Provisioner) beginChange(ctx context.Context, kind plan.Kind, change plan.Change) (records.Operation, error) {
	next, _ := p.Site(change.Site)
	next.Stack = change.After.Stack
	steps := plan.ForChange(kind, change, p.missing(next))
	return p.begin(ctx, records.Operation{Kind: kind, Change: &change}, nil, []string{change.Site}, map[string][]plan.Step{change.Site: steps})
}

// doChange carries out one step of a change.
func (p *Provisioner) doChange(o *operation, s site.Site, step plan.Step, note func(string)) error {
	ctx, change := o.ctx, o.Snapshot().Change
	switch step {
	case plan.FetchEngines:
		_, err := p.Store.Ensure(ctx, change.After.Stack.IDs(), func(text string, fraction float64) { o.progress(s.Name, text, fraction) })
		return err
	case plan.Baseline:
		return p.prove(ctx, o, s, "before")
	case plan.CheckChange:
		return p.checkChange(ctx, s, change.After)
	case plan.RestorePoint:
		return p.takeRestorePoint(ctx, o, s)
	case plan.MoveDatabase:
		return p.moveDatabase(ctx, o, s, change, note)
	case plan.Switch:
		return p.measured(o, s, func() error { return p.switchTo(ctx, s, change.After) })
	case plan.Prove:
		return p.prove(ctx, o, s, "after")
	case plan.ReplaceContent:
		return p.replaceContent(ctx, o, s, change, note)
	case plan.Rename:
		return p.rename(ctx, o, s, change.Rename, note)
	case plan.Settle:
		return p.settle(o, s, change)
	}
	return fmt.Errorf("no step %q", step)
}

// checkChange has the engines themselves read the configuration that a target leads to. Nothing is changed.
func (p *Provisioner) checkChange(ctx context.Context, s site.Site, target plan.Target) error {
	s.Stack, s.Settings = target.Stack, target.Settings
	e, err := p.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	if problems := p.checkSettings(ctx, s, s.Settings); len(problems) > 0 {
		return problems
	}
	if err := engine.CheckPHP(ctx, e, s, p.phpPlace(s), p.Abilities); err != nil {
		return err
	}
	web, err := p.web(s.Stack.Web)
	if err != nil {
		return err
	}
	return web.Check(ctx, s.Name, p.virtualHost(s))
}

// switchTo puts a site on a target: PHP takes the socket over from its predecessor, and the web server its port.
func (p *Provisioner) switchTo(ctx context.Context, s site.Site, target plan.Target) error {
	s, _ = p.Site(s.Name)
	before, next := s, s
	next.Stack, next.Settings = target.Stack, target.Settings
	if target.Domain != "" {
		next.Domain, next.Domains, next.Forwards = target.Domain, target.Domains, target.Forwards
	}
	if s.State != site.Running && s.State != site.Failed {
		return p.redefine(ctx, next)
	}
	e, err := p.Store.Find(next.Stack.PHP)
	if err != nil {
		return err
	}
	if _, err := p.database(ctx, next.Stack.Database); err != nil {
		return err
	}
	if master := p.master(s.Name); master != nil && s.State == site.Running {
		err = master.Change(ctx, e, next)
	} else {
		p.stopPHP(s)
		err = p.startPHP(ctx, next)
	}
	if err != nil {
		return err
	}
	if err := p.redefine(ctx, next); err != nil {
		return err
	}
	if before.Stack.Web != next.Stack.Web {
		if old, err := p.web(before.Stack.Web); err == nil {
			if _, err := old.Apply(ctx, map[string]*engine.VirtualHost{s.Name: nil}); err != nil {
				return err
			}
		}
	}
	return p.publish(ctx, []string{s.Name})[s.Name]
}

// redefine writes what a site runs on.
func (p *Provisioner) redefine(ctx context.Context, next site.Site) error {
	p.saving.Lock()
	defer p.saving.Unlock()
	p.mu.Lock()
	s, ok := p.sites[next.Name]
	p.mu.Unlock()
	if !ok {
		return fmt.Errorf("site %s: %w", next.Name, records.ErrNotFound)
	}
	s.Stack, s.Settings, s.Port = next.Stack, next.Settings, next.Port
	s.Domain, s.Domains, s.Forwards = next.Domain, next.Domains, next.Forwards
	if err := p.records.Relocate(ctx, s); err != nil {
		return err
	}
	p.mu.Lock()
	p.sites[s.Name] = s
	p.mu.Unlock()
	p.announce()
	return nil
}

// measured carries out a piece of work while the site is asked without pause, and keeps the longest time without an answer.
func (p *Provisioner) measured(o *operation, s site.Site, work func() error) error {
	if s.State != site.Running {
		return work()
	}
	ctx, cancel := context.WithCancel(o.ctx)
	var longest atomic.Int64
	done := make(chan struct{})
	go func() {
		defer close(done)
		client := &http.Client{Transport: &http.Transport{DialContext: dialLoopback, DisableKeepAlives: true}, Timeout: 60 * time.Second}
		i := &inspection{p: p, ctx: ctx, site: s, base: s.URL(p.settings.GatewayPort), client: client}
		last, final := time.Now(), false
		for {
			_, _, err := i.askProbe(i.base, probeAsk{})
			if err == nil {
				longest.Store(max(longest.Load(), time.Since(last).Milliseconds()))
				last = time.Now()
				if final {
					return
				}
			}
			final = ctx.Err() != nil // one more, after the work is done
			if final {
				var end context.CancelFunc
				i.ctx, end = context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
				defer end()
				if time.Since(last) > 5*time.Second {
					longest.Store(max(longest.Load(), time.Since(last).Milliseconds()))
					return
				}
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	err := work()
	cancel()
	<-done
	o.found(func(c *plan.Change) { c.DowntimeMilliseconds = max(c.DowntimeMilliseconds, longest.Load()) })
	return err
}

// found keeps what carrying a change out has learned.
func (o *operation) found(edit func(*plan.Change)) {
	o.mu.Lock()
	if o.recorded.Change == nil {
		o.mu.Unlock()
		return
	}
	change := *o.recorded.Change
	edit(&change)
	o.recorded.Change = &change
	o.mu.Unlock()
	if err := o.p.records.SaveDetails(context.WithoutCancel(o.ctx), o.Snapshot()); err != nil {
		o.p.Log.Error("journal", "operation", o.recorded.ID, "reason", err)
	}
}

const restorePointsKept = 2

// takeRestorePoint copies a site's files and dumps its database.
func (p *Provisioner) takeRestorePoint(ctx context.Context, o *operation, s site.Site) error {
	dir := p.Home.path("restore", s.Name)
	place := filepath.Join(dir, o.recorded.ID)
	if err := room(p.Home.Dir, kit.TreeBytes(s.Folder)+p.databaseBytes(ctx, s)); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := os.RemoveAll(place); err != nil {
		return err
	}
	if err := os.Mkdir(place, 0o700); err != nil {
		return err
	}
	if err := p.dumpTo(ctx, s, filepath.Join(place, "database.sql")); err != nil {
		return err
	}
	if err := kit.CopySite(ctx, s.Folder, filepath.Join(place, "files")); err != nil {
		return err
	}
	o.found(func(c *plan.Change) { c.RestorePoint = place })
	older, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	slices.SortFunc(older, func(a, b os.DirEntry) int { return site.CompareVersions(b.Name(), a.Name()) })
	for _, entry := range older[min(len(older), restorePointsKept):] {
		if err := os.RemoveAll(filepath.Join(dir, entry.Name())); err != nil {
			return err
		}
	}
	return nil
}

func (p *Provisioner) dumpTo(ctx context.Context, s site.Site, path string) error {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	pool := database.Open(s.Database.Name)
	defer pool.Close()
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(kit.Dump(ctx, pool, file), file.Close())
}

// moveDatabase copies a site's database to another server while its requests wait, and compares the two, table by table.
func (p *Provisioner) moveDatabase(ctx context.Context, o *operation, s site.Site, change *plan.Change, note func(string)) error {
	from, err := p.database(ctx, change.Before.Stack.Database)
	if err != nil {
		return err
	}
	const moved, server = 3, 200 << 20 // tables, their log and what is sorted; a new server's own files
	if err := room(p.Home.Dir, moved*p.databaseBytes(ctx, s)+server); err != nil {
		return err
	}
	to, err := p.database(ctx, change.After.Stack.Database)
	if err != nil {
		return err
	}
	exists, err := to.HasDatabase(ctx, s.Database.Name, s.Database.User)
	if err != nil {
		return err
	}
	if exists {
		return fmt.Errorf("%s has a database %q or a user %q already, and no site's; drop or rename them there first", change.After.Stack.Database, s.Database.Name, s.Database.User)
	}
	note("made")
	if err := to.CreateDatabase(ctx, s.Database.Name, s.Database.User, s.Database.Password); err != nil {
		return err
	}
	if master := p.master(s.Name); master != nil {
		master.Hold() // until the switch, or until it is taken back
	}
	started := time.Now()
	old, next := from.Open(s.Database.Name), to.Open(s.Database.Name)
	defer old.Close()
	defer next.Close()
	replaced := []string{}
	fit := kit.Fitting(ctx, to, func(a, b string) { replaced = append(replaced, a+" became "+b) })
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(kit.Dump(ctx, old, writer)) }()
	err = kit.Load(ctx, next, reader, fit)
	reader.CloseWithError(err)
	if err != nil {
		return err
	}
	o.progress(s.Name, "comparing the databases", -1)
	before, err := kit.Sums(ctx, old)
	if err != nil {
		return err
	}
	after, err := kit.Sums(ctx, next)
	if err != nil {
		return err
	}
	if differences := kit.Compare(before, after); len(differences) > 0 {
		return fmt.Errorf("the copy on %s differs: %s", change.After.Stack.Database, strings.Join(differences, ", "))
	}
	rows := int64(0)
	for _, sum := range before {
		rows += sum.Rows
	}
	words := fmt.Sprintf("%d tables with %d rows, all alike, in %d ms", len(before), rows, time.Since(started).Milliseconds())
	if len(replaced) > 0 {
		words += "; collations: " + strings.Join(replaced, ", ")
	}
	o.found(func(c *plan.Change) { c.Moved = words })
	return p.kitOf(s).Repoint(s.Folder, to.Port)
}

// wentBack says that a change was taken back because the site no longer worked.
type wentBack struct{ text string }

func (e *wentBack) Error() string { return e.text }

// settle compares the reports before and after: a site that is worse off goes back, and is proven again.
func (p *Provisioner) settle(o *operation, s site.Site, change *plan.Change) error {
	ctx := o.ctx
	before, after := o.stage(s.Name, "before"), o.stage(s.Name, "after")
	worse := []string{}
	for _, id := range check.Worse(before, after) {
		worse = append(worse, string(id))
	}
	o.found(func(c *plan.Change) { c.Worse = worse })
	if len(worse) > 0 && !change.Keep {
		first := after.Result(check.ID(worse[0]))
		reason := fmt.Sprintf("on %s, %s no longer passed: %s", targetWords(*change), strings.Join(worse, ", "), first.Observed)
		if err := p.goBack(o, s.Name); err != nil {
			return err
		}
		s, _ = p.Site(s.Name)
		if err := p.prove(ctx, o, s, "back"); err != nil {
			return err
		}
		words := "the site went back to what it was"
		if back := o.stage(s.Name, "back"); len(check.Worse(before, back)) == 0 {
			words += ", proven by a second report"
		}
		return &wentBack{reason + "; " + words}
	}
	if change.Before.Stack.Database != change.After.Stack.Database {
		old, err := p.database(ctx, change.Before.Stack.Database)
		if err != nil {
			return err
		}
		if err := old.DropDatabase(ctx, s.Database.Name, s.Database.User); err != nil {
			return err
		}
	}
	if o.recorded.Kind == plan.Adjust {
		return p.records.SaveSettings(ctx, plan.SettingsEntry{Site: s.Name, Who: change.Who, Settings: change.After.Settings})
	}
	return nil
}

// targetWords name what is new.
func targetWords(c plan.Change) string {
	if c.Load != nil {
		return "the loaded dump"
	}
	if c.Before.Domain != c.After.Domain {
		return c.After.Domain
	}
	words := []string{}
	before := c.Before.Stack.IDs()
	for i, id := range c.After.Stack.IDs() {
		if id != before[i] {
			words = append(words, id)
		}
	}
	if len(words) == 0 {
		return "the new settings (" + strings.Join(c.Before.Settings.Differences(c.After.Settings), "; ") + ")"
	}
	return strings.Join(words, " and ")
}

// stage is an operation's report of one stage.
func (o *operation) stage(name, stage string) check.SiteReport {
	part := o.part(name)
	if part.Report != nil && part.Report.Stage == stage {
		return *part.Report
	}
	for _, report := range part.Earlier {
		if report.Stage == stage {
			return report
		}
	}
	return check.SiteReport{}
}

// goBack brings a site back to what it was before a change, from wherever the change has got to. It bears being run twice.
func (p *Provisioner) goBack(o *operation, name string) error {
	ctx := context.WithoutCancel(o.ctx)
	change := o.Snapshot().Change
	s, ok := p.Site(name)
	if !ok || change == nil {
		return nil
	}
	made, switched, replaced, moving := false, false, false, false
	for _, entry := range o.part(name).Steps {
		made = made || entry.Step == plan.MoveDatabase && entry.Note == "made"
		switched = switched || entry.Step == plan.Switch && entry.State != plan.Pending
		replaced = replaced || entry.Step == plan.ReplaceContent && entry.Note == "replaced"
		moving = moving || entry.Step == plan.Rename && entry.Note == "moving"
	}
	if moving {
		next := s
		next.Name, next.Folder = change.Rename, folderAs(s, change.Rename)
		if err := p.move(next, s); err != nil {
			return err
		}
	}
	if replaced {
		if err := p.putBack(ctx, s, o.recorded.ID, change.Before); err != nil {
			return err
		}
		if change.Load != nil {
			if err := p.change(ctx, name, func(s *site.Site) error { s.AdminHash = change.AdminHash; return nil }); err != nil {
				return err
			}
		}
	}
	if change.RestorePoint == "" { // it was not finished
		if err := os.RemoveAll(p.Home.path("restore", name, o.recorded.ID)); err != nil {
			return err
		}
	}
	if made {
		if err := p.kitOf(s).Repoint(s.Folder, p.DatabasePort(change.Before.Stack.Database)); err != nil {
			return err
		}
	}
	if switched {
		if err := p.switchTo(ctx, s, change.Before); err != nil {
			return fmt.Errorf("go back: %w", err)
		}
	} else if master := p.master(name); master != nil {
		if err := master.Release(); err != nil {
			return err
		}
	}
	if made {
		database, err := p.database(ctx, change.After.Stack.Database)
		if err != nil {
			return err
		}
		if err := database.DropDatabase(ctx, s.Database.Name, s.Database.User); err != nil {
			return err
		}
	}
	o.found(func(c *plan.Change) { c.WentBack = true })
	return nil
}
