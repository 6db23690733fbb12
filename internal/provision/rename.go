package provision

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/kit"
	"vessik/internal/records"
)

// planRename judges a request for another name or domain. Where only a name is asked for, a domain that was derived from the old one
// follows it.
func (p *Provisioner) planRename(name string, r wire.Rename, who string) (plan.Change, site.Problems) {
	s, ok := p.Site(name)
	if !ok {
		return plan.Change{}, noSite(name)
	}
	facts, problems := p.facts(), site.Problems{}
	to := site.ASCII(r.Name)
	if to == "" {
		to = name
	}
	domain := site.ASCII(strings.ToLower(r.Domain))
	if ending, derived := strings.CutPrefix(s.Domain, name+"."); domain == "" && derived {
		domain = to + "." + ending
	} else if domain == "" {
		domain = s.Domain
	}
	if to == name && domain == s.Domain {
		problems = append(problems, site.Problem{Site: name, Field: "name", Message: "it is called so already", Remedy: "give another name, or another domain with -domain"})
	}
	if to != name {
		problems = append(problems, site.CheckRename(s, to, facts)...)
		if fault := p.moveFault(s, to); fault != "" {
			problems = append(problems, site.Problem{Site: name, Field: "name", Message: fault, Remedy: "choose another name, or move that folder away"})
		}
	}
	if s.State != site.Running && s.State != site.Stopped && s.State != site.Failed {
		problems = append(problems, site.Problem{Site: name, Field: "name", Message: "the site is " + string(s.State), Remedy: "wait for it"})
	}
	next := s
	next.Domain, next.Domains = domain, slices.DeleteFunc(slices.Clone(s.Domains), func(d string) bool { return d == domain })
	if domain != s.Domain {
		problems = append(problems, site.CheckDomains(next, r.ForceDomain, facts)...)
		if len(problems) == 0 && !r.Keep && !p.keepsHosts() && !p.finds(domain) {
			problems = append(problems, site.Problem{Site: name, Field: "domain", Message: domain + " does not lead to this machine", Remedy: "let the service keep it in the hosts file first (vessik hosts -allow), or say -keep"})
		}
		next.Forwards = slices.DeleteFunc(slices.Clone(s.Forwards), func(f site.Forward) bool { return f.Domain == domain })
		next.Forwards = append(next.Forwards, site.Forward{Domain: s.Domain, Until: time.Now().UTC().Add(site.ForwardFor).Truncate(time.Second)})
	}
	return plan.Change{Site: name, Before: targetOf(s), After: targetOf(next), Rename: to, Keep: r.Keep, Who: who}, problems
}

func targetOf(s site.Site) plan.Target {
	return plan.Target{Stack: s.Stack, Settings: s.Settings, Domain: s.Domain, Domains: s.Domains, Forwards: s.Forwards}
}

// Rename gives a site another name or domain, and re-addresses everything in it.
func (p *Provisioner) Rename(ctx context.Context, name string, r wire.Rename, who string) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	change, problems := p.planRename(name, r, who)
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	return p.beginChange(ctx, plan.Readdress, change)
}

// RehearseRename goes through a site's database as Rename would, and changes nothing.
func (p *Provisioner) RehearseRename(ctx context.Context, name string, r wire.Rename) (rewrite.Tally, error) {
	change, problems := p.planRename(name, r, "")
	if len(problems) > 0 {
		return rewrite.Tally{}, problems
	}
	s, _ := p.Site(name)
	if change.After.Domain == s.Domain { // another name only
		return rewrite.New("", "").Tally(), nil
	}
	pool, err := p.pool(ctx, s)
	if err != nil {
		return rewrite.Tally{}, err
	}
	defer pool.Close()
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(kit.Dump(ctx, pool, writer)) }()
	next := s
	next.Domain = change.After.Domain
	tally, err := rehearse(reader, p.kitFacts(s).URL, p.kitFacts(next).URL, s.Network == site.NetworkDomains)
	reader.CloseWithError(err)
	return tally, err
}

// rehearse re-addresses a dump into nothing.
func rehearse(dump io.Reader, from, to string, subDomains bool) (rewrite.Tally, error) {
	readdress := rewrite.New(from, to)
	readdress.SubDomains = subDomains
	err := readdress.Dump(io.Discard, dump)
	return readdress.Tally(), err
}

// LoadSQL puts somebody's dump in the place of a site's database; a restore point is taken first.
func (p *Provisioner) LoadSQL(ctx context.Context, name string, l wire.LoadSQL, who string) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	s, problems := p.checkLoad(name, l)
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	return p.beginChange(ctx, plan.LoadSQL, plan.Change{Site: name, Before: targetOf(s), After: targetOf(s), Load: &plan.Loading{SQL: l.SQL, Address: strings.TrimSuffix(l.Address, "/")}, AdminHash: s.AdminHash, Keep: l.Keep, Who: who})
}

func (p *Provisioner) checkLoad(name string, l wire.LoadSQL) (site.Site, site.Problems) {
	s, ok := p.Site(name)
	if !ok {
		return s, noSite(name)
	}
	problems := site.Problems{}
	if fault := unreadable(l.SQL, false); fault != "" {
		problems = append(problems, site.Problem{Site: name, Field: "sql", Message: fault, Remedy: "name a dump, plain or compressed with gzip or Zstandard"})
	}
	if s.State != site.Running && s.State != site.Stopped && s.State != site.Failed {
		problems = append(problems, site.Problem{Site: name, Field: "name", Message: "the site is " + string(s.State), Remedy: "wait for it"})
	}
	return s, problems
}

// RehearseLoad goes through a dump as LoadSQL would, and changes nothing.
func (p *Provisioner) RehearseLoad(ctx context.Context, name string, l wire.LoadSQL) (tally rewrite.Tally, err error) {
	s, problems := p.checkLoad(name, l)
	if len(problems) > 0 {
		return tally, problems
	}
	address := strings.TrimSuffix(l.Address, "/")
	if address == "" {
		dump, err := openDump(l.SQL)
		if err != nil {
			return tally, err
		}
		address, _, err = p.kitOf(s).Dumped(dump)
		dump.Close()
		if err != nil {
			return tally, err
		}
	}
	if address == "" {
		return tally, site.Problems{{Site: name, Field: "address", Message: "the dump does not tell its base address", Remedy: "give it with -address"}}
	}
	dump, err := openDump(l.SQL)
	if err != nil {
		return tally, err
	}
	defer dump.Close()
	return rehearse(dump, address, p.kitFacts(s).URL, false)
}

func (p *Provisioner) heldDump(name, operation string) string {
	return p.Home.path("restore", name, operation, "held.sql")
}

// replaceContent fills a site's database anew, while its requests wait: with the same content at another address, or with a dump.
func (p *Provisioner) replaceContent(ctx context.Context, o *operation, s site.Site, change *plan.Change, note func(string)) error {
	if err := room(p.Home.Dir, 3*p.databaseBytes(ctx, s)); err != nil {
		return err
	}
	if change.Load == nil && change.After.Domain == change.Before.Domain { // another name only
		return nil
	}
	if master := p.master(s.Name); master != nil {
		master.Hold() // until the switch, or until it is taken back
	}
	held := p.heldDump(s.Name, o.recorded.ID)
	if err := p.dumpTo(ctx, s, held); err != nil {
		return err
	}
	note("replaced")
	k := p.kitOf(s)
	var tally rewrite.Tally
	if change.Load != nil {
		if err := p.emptyDatabase(ctx, s); err != nil {
			return err
		}
		var err error
		if tally, err = p.loadDump(ctx, s, change.Load.SQL, change.Load.Address); err != nil {
			return err
		}
		if err := p.change(ctx, s.Name, func(s *site.Site) error { s.AdminHash = ""; return nil }); err != nil { // its users are the dump's
			return err
		}
	} else {
		next := s
		next.Domain = change.After.Domain
		var err error
		if tally, err = p.refill(ctx, s, held, p.kitFacts(s).URL, p.kitFacts(next)); err != nil {
			return err
		}
		if err := k.Redomain(s.Folder, p.kitFacts(next)); err != nil {
			return err
		}
	}
	if err := k.ClearCaches(s.Folder); err != nil {
		return err
	}
	o.found(func(c *plan.Change) { c.Rewritten = &tally })
	if master := p.master(s.Name); master != nil && change.Load != nil {
		return master.Release()
	}
	return nil
}

func (p *Provisioner) emptyDatabase(ctx context.Context, s site.Site) error {
	database, err := p.database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	return database.EmptyDatabase(ctx, s.Database.Name)
}

// refill puts one of our own dumps in the place of a site's database.
func (p *Provisioner) refill(ctx context.Context, s site.Site, file, from string, facts kit.Facts) (rewrite.Tally, error) {
	if err := p.emptyDatabase(ctx, s); err != nil {
		return rewrite.Tally{}, err
	}
	pool, err := p.pool(ctx, s)
	if err != nil {
		return rewrite.Tally{}, err
	}
	defer pool.Close()
	dump, err := os.Open(file)
	if err != nil {
		return rewrite.Tally{}, err
	}
	defer dump.Close()
	return p.kitOf(s).DrawContent(ctx, pool, dump, from, facts.Prefix, facts, func(statement string) (string, error) { return statement, nil })
}

// putBack brings the database back that replaceContent replaced.
func (p *Provisioner) putBack(ctx context.Context, s site.Site, operation string, before plan.Target) error {
	if master := p.master(s.Name); master != nil {
		master.Hold()
	}
	old := s
	old.Domain = before.Domain
	if _, err := p.refill(ctx, s, p.heldDump(s.Name, operation), "", p.kitFacts(old)); err != nil {
		return err
	}
	k := p.kitOf(s)
	return errors.Join(k.Redomain(s.Folder, p.kitFacts(old)), k.ClearCaches(s.Folder))
}

// places are what is kept for a site below its name.
func (p *Provisioner) places(name string) []string {
	return []string{p.Home.path("restore", name), p.Home.path("pictures", name), p.Home.path("run", "php", name), p.Home.path("tmp", name), p.Home.siteLogs(name), p.Home.path("mail", name),
		p.Home.path("kept", name+".configuration")}
}

// folderAs is where a site's folder stands under another name: a folder that is called as the site follows it.
func folderAs(s site.Site, name string) string {
	if filepath.Base(s.Folder) != s.Name || s.Origin.Kind == site.FromFolder {
		return s.Folder
	}
	return filepath.Join(filepath.Dir(s.Folder), name)
}

// moveFault says why a site cannot take another name's places.
func (p *Provisioner) moveFault(s site.Site, name string) string {
	if to := folderAs(s, name); to != s.Folder {
		if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
			return to + " is there already"
		}
	}
	return ""
}

// rename moves everything that bears a site's name. The records change last: before, it can be taken back.
func (p *Provisioner) rename(ctx context.Context, o *operation, s site.Site, name string, note func(string)) error {
	if fault := p.moveFault(s, name); fault != "" {
		return errors.New(fault)
	}
	running := s.State == site.Running
	if failed := p.withdraw(ctx, []string{s.Name}); failed[s.Name] != nil {
		return failed[s.Name]
	}
	p.stopPHP(s)
	note("moving")
	next := s
	next.Name, next.Folder = name, folderAs(s, name)
	if err := p.move(s, next); err != nil {
		return err
	}
	if err := p.records.Rename(ctx, o.recorded.ID, s.Name, next); err != nil {
		return err
	}
	p.mu.Lock()
	delete(p.sites, s.Name)
	p.sites[name], p.busy[name] = next, o.recorded.ID
	p.mu.Unlock()
	p.announce()
	o.found(func(c *plan.Change) {
		c.RestorePoint = strings.Replace(c.RestorePoint, p.Home.path("restore", s.Name), p.Home.path("restore", name), 1)
	})
	if !running {
		return nil
	}
	if err := p.startPHP(ctx, next); err != nil {
		p.fail(name, err)
		return nil // it has its new name; why it failed is told there
	}
	if failed := p.publish(ctx, []string{name}); failed[name] != nil {
		p.fail(name, failed[name])
	}
	return nil
}

// move brings a site's places from one name to another; it bears that some of them have been moved.
func (p *Provisioner) move(from, to site.Site) error {
	pairs := [][2]string{{from.Folder, to.Folder}}
	for i, place := range p.places(from.Name) {
		pairs = append(pairs, [2]string{place, p.places(to.Name)[i]})
	}
	for _, pair := range pairs {
		if pair[0] == pair[1] {
			continue
		}
		if _, err := os.Lstat(pair[0]); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if pair[0] != from.Folder {
			os.RemoveAll(pair[1]) // of a site of that name that is gone
		}
		if err := os.Rename(pair[0], pair[1]); err != nil {
			return fmt.Errorf("move what belongs to the site: %w", err)
		}
	}
	return nil
}

// SetDomains gives a site further domains, and forgets some that it had before.
func (p *Provisioner) SetDomains(ctx context.Context, name string, d wire.Domains) error {
	p.requests.Lock()
	defer p.requests.Unlock()
	s, ok := p.Site(name)
	if !ok {
		return noSite(name)
	}
	next, facts := s, p.facts()
	next.Domains = []string{}
	for _, domain := range d.Domains {
		next.Domains = append(next.Domains, site.ASCII(strings.ToLower(domain)))
	}
	problems := site.CheckDomains(next, d.ForceDomain, facts)
	problems = slices.DeleteFunc(problems, func(each site.Problem) bool { return each.Field == "domain" })
	for _, domain := range d.Forget {
		if !slices.ContainsFunc(s.Forwards, func(f site.Forward) bool { return f.Domain == domain }) {
			problems = append(problems, site.Problem{Site: name, Field: "forget", Message: domain + " is no domain that it had before", Remedy: "see them with: vessik domains " + name})
		}
	}
	if len(problems) > 0 {
		return problems
	}
	next.Forwards = slices.DeleteFunc(slices.Clone(s.Forwards), func(f site.Forward) bool {
		return slices.Contains(d.Forget, f.Domain) || slices.Contains(next.Domains, f.Domain)
	})
	if err := p.redefine(ctx, next); err != nil {
		return err
	}
	if s.State != site.Running {
		return nil
	}
	if failed := p.publish(ctx, []string{name}); failed[name] != nil {
		return errors.Join(failed[name], p.redefine(ctx, s), p.publish(ctx, []string{name})[name])
	}
	return nil
}

// endForwards forgets domains whose time has come.
func (p *Provisioner) endForwards(now time.Time) {
	for _, s := range p.Sites() {
		kept := slices.DeleteFunc(slices.Clone(s.Forwards), func(f site.Forward) bool { return now.After(f.Until) })
		if len(kept) == len(s.Forwards) {
			continue
		}
		s.Forwards = kept
		if err := p.redefine(p.context, s); err != nil {
			p.Log.Error("end a forward", "site", s.Name, "reason", err)
		}
	}
}
