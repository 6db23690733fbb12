package provision

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/engine"
	"vessik/internal/kit"
	"vessik/internal/records"
)

// ErrBusy says that an operation works on a site already.
var ErrBusy = errors.New("busy")

// facts gathers what requests are judged by.
func (p *Provisioner) facts() site.Facts {
	kept := map[int]string{p.settings.GatewayPort: "the gateway", p.APIPort: "its API and console"}
	p.settingsMu.Lock()
	for id, port := range p.settings.Ports {
		kept[port] = id
	}
	p.settingsMu.Unlock()
	kits, roots, touches := p.Kits(), map[string]string{}, map[string][]site.TouchFact{}
	own := kit.OwnTouches(p.TouchFolder())
	for name, k := range kits {
		roots[name] = k.Layout.DocumentRoot
		for _, t := range append(slices.Clone(k.Touches), own...) {
			touches[name] = append(touches[name], t.Facts())
		}
	}
	networks := map[string][]string{}
	for name, k := range kits {
		networks[name] = k.Network.Modes
	}
	return site.Facts{Networks: networks, NetworkOf: p.networkOf, Languages: p.languages, Roots: roots, Touches: touches, Found: p.found, Defaults: p.Defaults(), Home: p.Home.Dir, Sites: p.Sites(), Releases: p.Releases(), OnShelf: p.onShelf, KitNames: kits.Names(), Supports: kits.Bear, FirstPort: engine.FirstUnprivilegedPort(), KeptPorts: kept,
		Engines: p.Engines(), PortRange: p.PortRange(),
		PortHolder: engine.PortHolder, FolderFault: folderFault}
}

// Engines are those that a request may name, by kind, the usual one first.
func (p *Provisioner) Engines() map[string][]site.EngineFact {
	versions := map[string]string{}
	for _, e := range p.Store.List() {
		versions[e.ID] = e.Version
	}
	facts := map[string][]site.EngineFact{}
	for _, row := range p.Store.Rows() {
		facts[string(row.Kind)] = append(facts[string(row.Kind)], site.EngineFact{ID: row.ID, Version: versions[row.ID], Age: row.Age()})
	}
	return facts
}

// Kits are all that are known now: the user's own are read again when one of them has changed.
func (p *Provisioner) Kits() kit.Kits {
	p.kitMu.Lock()
	defer p.kitMu.Unlock()
	if state := kit.State(p.Home.path("kits")); p.kits == nil || state != p.kitState {
		p.kits, p.kitFaults = kit.All(p.Home.path("kits"))
		p.kitState = state
		for folder, fault := range p.kitFaults {
			p.Log.Warn("a kit is left out", "folder", folder, "reason", fault)
		}
	}
	return p.kits
}

// KitFolder is where the user's own kits are put.
func (p *Provisioner) KitFolder() string { return p.Home.path("kits") }

// KitFaults are what is wrong with the user's kits, by folder.
func (p *Provisioner) KitFaults() map[string]error {
	p.Kits()
	p.kitMu.Lock()
	defer p.kitMu.Unlock()
	return maps.Clone(p.kitFaults)
}

// PortRange is where sites get their own ports from.
func (p *Provisioner) PortRange() [2]int {
	p.settingsMu.Lock()
	defer p.settingsMu.Unlock()
	if p.settings.PortRange[0] != 0 {
		return p.settings.PortRange
	}
	return site.PortRange
}

// folderFault says why a folder cannot become a site's, as this account sees it.
func folderFault(folder string) string {
	info, err := os.Stat(folder)
	switch {
	case err == nil && !info.IsDir():
		return folder + " is a file"
	case err == nil:
		entries, err := os.ReadDir(folder)
		if err != nil {
			return folder + " cannot be read by the service's account"
		}
		if len(entries) > 0 {
			return folder + " is not empty"
		}
	case !errors.Is(err, os.ErrNotExist):
		return fmt.Sprintf("%s cannot be reached by the service's account (%v)", folder, errors.Unwrap(err))
	}
	// An empty folder is replaced by rename: its parent must be writable in either case.
	for parent := filepath.Dir(folder); ; parent = filepath.Dir(parent) {
		if info, err := os.Stat(parent); err == nil {
			const writeAndEnter = 2 | 1
			if !info.IsDir() {
				return parent + " is a file"
			}
			if syscall.Access(parent, writeAndEnter) != nil {
				return parent + " cannot be written to by the service's account"
			}
			return ""
		}
		if parent == filepath.Dir(parent) {
			return folder + " cannot be reached"
		}
	}
}

// Derive shows what requests would become, and everything that is wrong with them. Nothing is changed.
func (p *Provisioner) Derive(requests []site.Request) ([]site.Site, site.Problems) {
	facts := p.facts()
	sites, problems := []site.Site{}, site.Problems{}
	for _, r := range requests {
		s := site.Derive(r, facts)
		problems = append(problems, site.Check(s, facts)...)
		sites = append(sites, s)
		facts.Sites = append(slices.Clone(facts.Sites), s) // the next one of the same request must differ from this one, too
	}
	return sites, problems
}

// New takes a request for sites: all of them are reserved and their plans recorded, or none.
func (p *Provisioner) New(ctx context.Context, requests []site.Request) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	sites, problems := p.Derive(requests)
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	if len(sites) == 0 {
		return records.Operation{}, site.Problems{{Field: "sites", Message: "none is named", Remedy: "name one or more"}}
	}
	names := []string{}
	plans := map[string][]plan.Step{}
	for i := range sites {
		s := &sites[i]
		s.Admin.Password = cmp.Or(s.Admin.Password, kit.Password())
		s.Database.Password = cmp.Or(s.Database.Password, kit.Password())
		if k := p.kitOf(*s); k.Database.Prefix != "" && s.Prefix == "" && s.Origin.Kind != site.FromFolder && s.Origin.Kind != site.FromArchive {
			s.Prefix = kit.Prefix()
		}
		s.Probe, s.CreatedAt = randomHex(16), time.Now().UTC().Truncate(time.Millisecond)
		names = append(names, s.Name)
		plans[s.Name] = p.stepsFor(*s)
	}
	if problems := p.hold(sites); problems != nil {
		return records.Operation{}, problems
	}
	operation, err := p.begin(ctx, records.Operation{Kind: plan.New}, sites, names, plans)
	if err != nil {
		p.letGo(names...)
	}
	return operation, err
}

// stepsFor are the steps by which a site is made.
func (p *Provisioner) stepsFor(s site.Site) []plan.Step {
	steps := plan.For(plan.New, p.missing(s))
	if s.Network != "" && s.Origin.Kind == "" {
		steps = slices.Insert(steps, slices.Index(steps, plan.LoadContent)+1, plan.MakeNetwork)
	}
	if len(s.Plugins)+len(s.Themes) > 0 || s.Origin.Newest {
		steps = slices.Insert(steps, slices.Index(steps, plan.StartPHP), plan.AddParts)
	}
	if len(s.Touches) > 0 {
		steps = slices.Insert(steps, slices.Index(steps, plan.StartPHP), plan.Touch)
	}
	return steps
}

// Planned tells what would be done for a new site, and all that would change in a folder that is there already.
func (p *Provisioner) Planned(s site.Site) wire.Planned {
	planned := wire.Planned{Site: s.Name, Steps: []string{}}
	for _, step := range p.stepsFor(s) {
		planned.Steps = append(planned.Steps, step.Title())
	}
	if k := p.kitOf(s); s.Origin.Kind == site.FromFolder && k.Configuration.File != "" {
		names, err := k.Named(s.Folder)
		if err != nil {
			planned.Changes = append(planned.Changes, k.Configuration.File+" is written")
		}
		for _, name := range names {
			planned.Changes = append(planned.Changes, k.Configuration.File+": "+name)
		}
	}
	return planned
}

func (p *Provisioner) missing(s site.Site) bool {
	return slices.ContainsFunc(p.enginesOf(s), func(id string) bool { _, err := p.Store.Find(id); return err != nil })
}

// Do takes a request about sites that exist: start, stop, verify or retire.
func (p *Provisioner) Do(ctx context.Context, kind plan.Kind, names []string, keepFiles bool) (records.Operation, error) {
	p.requests.Lock()
	defer p.requests.Unlock()
	problems := site.Problems{}
	plans := map[string][]plan.Step{}
	names = slices.Compact(slices.Sorted(slices.Values(names)))
	for _, name := range names {
		s, ok := p.Site(name)
		if !ok {
			problems = append(problems, site.Problem{Site: name, Field: "name", Message: "there is no such site", Remedy: "see the names with: vessik sites"})
			continue
		}
		plans[name] = plan.For(kind, kind == plan.Start && p.missing(s))
	}
	if len(problems) > 0 {
		return records.Operation{}, problems
	}
	return p.begin(ctx, records.Operation{Kind: kind, KeepFiles: keepFiles}, nil, names, plans)
}

// begin records the operation, marks its sites as busy, and sets it going.
func (p *Provisioner) begin(ctx context.Context, asked records.Operation, sites []site.Site, names []string, plans map[string][]plan.Step) (records.Operation, error) {
	exclusive := asked.Kind != plan.Verify
	p.mu.Lock()
	for _, name := range names {
		if other := p.busy[name]; exclusive && other != "" {
			p.mu.Unlock()
			return records.Operation{}, fmt.Errorf("%s is being worked on by operation %s: %w; wait for it (vessik operations %s), or cancel it", name, other, ErrBusy, other)
		}
	}
	p.mu.Unlock()
	recorded, err := p.records.Begin(ctx, asked, sites, names, plans)
	var taken *records.ErrTaken
	if errors.As(err, &taken) {
		return records.Operation{}, site.Problems{{Site: taken.Site, Field: strings.ReplaceAll(taken.Kind, " ", "_"), Message: fmt.Sprintf("%q was taken meanwhile", taken.Value), Remedy: "choose another"}}
	}
	if err != nil {
		return records.Operation{}, err
	}
	o := newOperation(p, *recorded)
	p.mu.Lock()
	for _, s := range sites {
		p.sites[s.Name] = s
	}
	p.operations[o.recorded.ID] = o
	for _, name := range names {
		if exclusive {
			p.busy[name] = o.recorded.ID
		}
	}
	p.mu.Unlock()
	snapshot := o.Snapshot()
	o.start()
	return snapshot, nil
}

func randomHex(bytes int) string {
	raw := make([]byte, bytes)
	rand.Read(raw)
	return hex.EncodeToString(raw)
}
