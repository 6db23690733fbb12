// Package trial tries one site on many stacks, on temporary copies.
package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/check"
	"vessik/internal/core/dump"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/facts"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/picture"
	"vessik/internal/running"
	"vessik/internal/safefile"
	"vessik/internal/verify"
	"vessik/internal/walk"
)

// Kind is that of trials, Sample its step that asks a copy's pages.
const (
	Kind   plan.Kind = "trial"
	Sample plan.Step = "sample"
)

// Feature tries sites.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Facts      *facts.Facts
	Origins    *origin.Origins
	Verifier   *verify.Verifier
	Walks      *walk.Feature

	walking sync.Mutex // one copy at a time has the site itself walked
}

// Kind is how copies are tried: each goes its own way, and is gone before another one comes.
func (f *Feature) Kind() operation.Kind {
	m, g := f.Machine, f.Origins
	never := func(*operation.Part) bool { return false }
	layOut := of(origin.LayOut, "laying out files", f.layOut)
	layOut.Undo = origin.UndoLayOut
	return operation.Kind{Name: Kind, OnFailure: operation.TakeBack, Recover: plan.Always(plan.TakeBack), Broken: f.failed,
		Show: operation.ShowAs[plan.Trial],
		Steps: []operation.Step{m.ReserveStep(), m.FetchStep(g.EnginesOf, nil),
			layOut, m.DatabaseStep(), of(origin.Configure, "writing configuration", f.configure),
			of(origin.LoadContent, "loading content", f.copyContent), m.StartStep(), running.Alone(m.PublishStep()), f.Verifier.Step(),
			of(Sample, "asking pages and taking pictures", f.trySite),
			running.Alone(m.WithdrawStep()), m.StopStep(), m.DropStep(never), g.RemoveStep(never), m.ReleaseStep()}}
}

// of is a step that knows the copy and the site that it is one of.
func of(name plan.Step, title string, do func(ctx context.Context, w *operation.Part, source, s site.Site) error) operation.Step {
	return operation.Step{Name: name, Title: title, Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		source, _ := w.Other(s.TrialOf)
		return do(ctx, w, source, s)
	}}
}

func (f *Feature) layOut(ctx context.Context, w *operation.Part, source, s site.Site) error {
	if source.Name == "" {
		return gone(s)
	}
	learn(w, func(c *plan.Cell) { c.Summary = "being tried" })
	return f.Origins.LayOut(ctx, w, s, safefile.Bytes(source.Folder), func(partial string) error {
		return f.Origins.CopySite(ctx, source, partial)
	})
}

func gone(s site.Site) error { return fmt.Errorf("the site %s is gone", s.TrialOf) }

func (f *Feature) configure(ctx context.Context, _ *operation.Part, _, s site.Site) error {
	database, err := f.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	k := f.Machine.CMS.Of(s)
	return errors.Join(k.Reconfigure(s.Folder, s.Database, database.Port), k.Redomain(s.Folder, f.Machine.CMSFacts(s)))
}

// trySite asks a copy's pages; one that is to be kept becomes a site like others.
func (f *Feature) trySite(ctx context.Context, w *operation.Part, source, s site.Site) error {
	if err := f.sample(ctx, w, source, s); err != nil {
		return err
	}
	asked, err := operation.Payload[plan.Trial](w)
	if err != nil || !asked.KeepCopies {
		return err
	}
	return f.Machine.Registry.Edit(ctx, s.Name, func(s *site.Site) error { s.TrialOf = ""; return nil })
}

// learn keeps what a trial has learned of one copy.
func learn(w *operation.Part, edit func(*plan.Cell)) {
	operation.Learn(w, func(trial *plan.Trial) {
		for i := range trial.Cells {
			if trial.Cells[i].Copy == w.Name {
				edit(&trial.Cells[i])
			}
		}
	})
}

// failed says why a copy could not even be tried.
func (f *Feature) failed(w *operation.Part, reason error) {
	learn(w, func(c *plan.Cell) {
		if c.Report == nil {
			c.Verdict, c.Summary = check.Fail, reason.Error()
		}
	})
}

// stepsOf are those of one copy.
func (f *Feature) stepsOf(c site.Site, keep bool) []plan.Step {
	left := []plan.Step{}
	if !f.Origins.Missing(c) {
		left = append(left, running.FetchEngines)
	}
	if keep {
		left = append(left, running.Withdraw, running.StopPHP, running.DropDatabase, origin.RemoveFolder, running.Release)
	}
	return f.Operations.Kind(Kind).Without(left...)
}

// Request asks for one site to be tried on many stacks. Lists are parts of engine ids, joined by commas, or "all"; an empty one is the
// site's own engine.
type Request struct {
	PHP, Web, Database string
	Visit              []string
	KeepCopies         bool
	NoPicture          bool
	Walk               bool
}

// mostCells bounds one trial.
const mostCells = 60

// Start draws a temporary copy of a site for every combination of engines, and has each verified.
func (f *Feature) Start(ctx context.Context, name string, r Request) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	return operation.UnlessTaken(func() (plan.Operation, error) { return f.begin(ctx, name, r) })
}

func (f *Feature) begin(ctx context.Context, name string, r Request) (plan.Operation, error) {
	source, ok := f.Machine.Registry.Site(name)
	if !ok {
		return plan.Operation{}, site.NoSite(name)
	}
	facts := f.Facts.Now()
	stacks, problems := stacksOf(source, r, facts)
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	trial := plan.Trial{Site: name, Visit: append([]string{}, r.Visit...), KeepCopies: r.KeepCopies, Walk: r.Walk, Picture: !r.NoPicture &&
		picture.Browser() != "",
		Cells: []plan.Cell{}}
	copies, names, plans := []site.Site{}, []string{}, map[string][]plan.Step{}
	for n, stack := range stacks {
		c := f.copyOf(source, stack, n+1, facts)
		if c.Port == 0 {
			return plan.Operation{}, site.Problems{{Site: name, Field: "port", Message: "no port is left for the copies",
				Remedy: "name fewer engines"}}
		}
		facts.Sites = append(slices.Clone(facts.Sites), c)
		copies, names = append(copies, c), append(names, c.Name)
		plans[c.Name] = f.stepsOf(c, r.KeepCopies)
		cell := plan.Cell{Copy: c.Name, Stack: stack, Verdict: check.Skip, Summary: "waits", Visits: []plan.Visit{}, Messages: []plan.Message{}}
		if known, warning := f.Machine.CMS.Definitions().SupportWords(c.CMS, stack.PHP); warning != "" {
			cell.Supported = known
		}
		trial.Cells = append(trial.Cells, cell)
	}
	if problems := f.Machine.Hold(copies); problems != nil {
		return plan.Operation{}, problems
	}
	begun, err := f.Operations.Begin(ctx, operation.Request{Kind: Kind, Payload: trial, Reserve: copies, Names: names, Steps: plans})
	if err != nil {
		f.Machine.LetGo(names...)
		return begun, err
	}
	if trial.Picture {
		err = f.makeRoomForPictures(name, begun.ID)
	}
	return begun, err
}

// stacksOf are the combinations that a request names.
func stacksOf(source site.Site, r Request, facts site.Facts) (stacks []site.Stack, problems site.Problems) {
	problem := func(field, message, remedy string) {
		problems = append(problems, site.Problem{Site: source.Name, Field: field, Message: message, Remedy: remedy})
	}
	if source.State != site.Running {
		problem("name", "the site is "+string(source.State), "start it first: vessik start "+source.Name)
	}
	lists := map[string][]string{}
	for _, part := range []struct{ kind, list, own string }{
		{"php", r.PHP, source.Stack.PHP}, {"web", r.Web, source.Stack.Web}, {"database", r.Database, source.Stack.Database}} {
		if strings.TrimSpace(part.list) == "" {
			lists[part.kind] = []string{part.own}
			continue
		}
		ids, err := site.MatchEngines(facts.Engines[part.kind], part.list)
		if err != nil {
			problem(part.kind, err.Error(), "see the engines with: vessik engines, or write all")
		}
		lists[part.kind] = ids
	}
	for _, path := range r.Visit {
		if !strings.HasPrefix(path, "/") || strings.ContainsAny(path, " \r\n") {
			problem("visit", fmt.Sprintf("%q is not a path of the site", path), "write it as /path")
		}
	}
	for _, database := range lists["database"] {
		for _, web := range lists["web"] {
			for _, php := range lists["php"] {
				stacks = append(stacks, site.Stack{PHP: php, Web: web, Database: database})
			}
		}
	}
	if len(stacks) > mostCells {
		problem("php", fmt.Sprintf("that makes %d combinations, and %d is the most", len(stacks), mostCells), "name fewer engines")
	}
	return stacks, problems
}

// copyOf is a temporary copy of a site on a stack, that tells everything that PHP has to say.
func (f *Feature) copyOf(source site.Site, stack site.Stack, number int, facts site.Facts) site.Site {
	c := source
	for stem := source.Name[:min(len(source.Name), 45)]; ; number++ {
		c.Name = fmt.Sprintf("%s-trial-%d", stem, number)
		if !slices.ContainsFunc(facts.Sites, func(s site.Site) bool { return s.Name == c.Name }) {
			break
		}
	}
	c.Origin, c.Touches = site.Origin{Kind: site.FromSite, From: source.Name}, nil
	c.State, c.Reason, c.TrialOf, c.Stack = site.Making, "", source.Name, stack
	c.Domain, c.Folder, c.Port, c.PortPinned = c.Name+".localhost", f.Machine.Home.Path("sites", c.Name), site.FreePort(facts), false
	token := running.RandomHex(6)
	c.Database = site.Database{Name: "trial_" + token, User: "trial_" + token, Password: cms.Password()}
	c.Probe, c.CreatedAt = running.RandomHex(16), time.Now().UTC().Truncate(time.Millisecond)
	values := map[string]string{}
	maps.Copy(values, source.Settings.PHP)
	values["error_reporting"], values["log_errors"] = "32767", "On"
	c.Settings.PHP, c.Settings.Debug = values, false
	return c
}

// copyContent loads one site's database into another's, re-addressed.
func (f *Feature) copyContent(ctx context.Context, _ *operation.Part, source, s site.Site) error {
	if source.Name == "" {
		return gone(s)
	}
	from, err := f.Machine.Database(ctx, source.Stack.Database)
	if err != nil {
		return err
	}
	to, err := f.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	old, next := from.OpenAs(source.Database), to.OpenAs(s.Database)
	defer old.Close()
	defer next.Close()
	readdress := rewrite.New(f.Machine.URL(source), f.Machine.URL(s))
	readdress.Folders(source.Folder, s.Folder)
	readdress.SubDomains = source.Network == site.NetworkDomains
	fit := cms.Fitting(ctx, to, func(string, string) {})
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(cms.Dump(ctx, old, writer)) }()
	err = cms.Load(ctx, next, reader, new(dump.Judge), fit, func(statement string, kind dump.Kind) (string, error) {
		if kind != dump.Rows {
			return statement, nil
		}
		return readdress.Statement(statement)
	})
	reader.CloseWithError(err)
	return err
}
