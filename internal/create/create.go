// Package create makes sites: what a request leaves open is derived, everything is judged and reserved, and then laid out, loaded,
// started and proven.
package create

import (
	"cmp"
	"context"
	"slices"
	"time"

	"vessik/internal/cms"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/facts"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/running"
	"vessik/internal/verify"
)

// Touch applies finishing touches.
const Touch plan.Step = "finishing-touches"

// Feature makes the sites of one machine.
type Feature struct {
	Machine    *running.Machine
	Operations *operation.Runner
	Facts      *facts.Facts
	Origins    *origin.Origins
	Verifier   *verify.Verifier
}

// Kind is how a site is made: half made, it is taken back.
func (f *Feature) Kind() operation.Kind {
	m, g := f.Machine, f.Origins
	fetch := m.FetchStep(g.EnginesOf, nil)
	touch := operation.Step{Name: Touch, Title: "finishing touches", Do: func(ctx context.Context, w *operation.Part) error {
		s, err := w.Site()
		if err != nil {
			return err
		}
		return f.touch(ctx, w, s)
	}}
	return operation.Kind{Name: plan.New, Resumed: site.Starting, OnFailure: operation.TakeBack, Left: m.KeepForeign,
		Recover: plan.ResumeBefore(verify.Prove),
		Steps: []operation.Step{m.ReserveStep(), fetch, g.LayOutStep(), m.DatabaseStep(), g.ConfigureStep(), g.LoadStep(), g.NetworkStep(),
			g.PartsStep(), touch, m.StartStep(), m.PublishStep(), f.Verifier.Step()}}
}

// Preview shows what requests would become, and everything that is wrong with them. Nothing is changed.
func (f *Feature) Preview(requests []site.Request) ([]site.Site, site.Problems) {
	facts := f.Facts.Now()
	sites, problems := []site.Site{}, site.Problems{}
	for _, r := range requests {
		s := site.Complete(r, facts)
		problems = append(problems, site.Check(s, facts)...)
		sites = append(sites, s)
		facts.Sites = append(slices.Clone(facts.Sites), s) // the next one of the same request must differ from this one, too
	}
	return sites, problems
}

// New takes a request for sites: all of them are reserved and their plans recorded, or none.
func (f *Feature) New(ctx context.Context, requests []site.Request) (plan.Operation, error) {
	f.Operations.Judging.Lock()
	defer f.Operations.Judging.Unlock()
	return operation.UnlessTaken(func() (plan.Operation, error) { return f.begin(ctx, requests) })
}

func (f *Feature) begin(ctx context.Context, requests []site.Request) (plan.Operation, error) {
	sites, problems := f.Preview(requests)
	if len(problems) > 0 {
		return plan.Operation{}, problems
	}
	if len(sites) == 0 {
		return plan.Operation{}, site.Problems{{Field: "sites", Message: "none is named", Remedy: "name one or more"}}
	}
	names := []string{}
	plans := map[string][]plan.Step{}
	for i := range sites {
		s := &sites[i]
		s.Administrator.Password = cmp.Or(s.Administrator.Password, cms.Password())
		s.Database.Password = cmp.Or(s.Database.Password, cms.Password())
		if k := f.Machine.CMS.Of(*s); k.Database.Prefix != "" && s.Prefix == "" && s.Origin.Kind != site.FromFolder &&
			s.Origin.Kind != site.FromArchive {
			s.Prefix = cms.Prefix()
		}
		// By when a site was made it is told from one that has its name later: no two of a request were made at the same moment.
		s.Probe, s.CreatedAt = running.RandomHex(16), time.Now().UTC().Truncate(time.Millisecond).Add(time.Duration(i)*time.Millisecond)
		names = append(names, s.Name)
		plans[s.Name] = f.stepsFor(*s)
	}
	if problems := f.Machine.Hold(sites); problems != nil {
		return plan.Operation{}, problems
	}
	begun, err := f.Operations.Begin(ctx, operation.Request{Kind: plan.New, Reserve: sites, Names: names, Steps: plans})
	if err != nil {
		f.Machine.LetGo(names...)
	}
	return begun, err
}

// stepsFor are the steps by which a site is made.
func (f *Feature) stepsFor(s site.Site) []plan.Step {
	left := []plan.Step{}
	for step, needed := range map[plan.Step]bool{
		running.FetchEngines: f.Origins.Missing(s),
		origin.MakeNetwork:   s.Network != "" && (s.Origin.Kind == "" || s.Origin.Kind == site.FromRepository),
		origin.AddParts:      len(s.Plugins)+len(s.Themes) > 0 || s.Origin.Newest,
		Touch:                len(s.Touches) > 0,
	} {
		if !needed {
			left = append(left, step)
		}
	}
	return f.Operations.Kind(plan.New).Without(left...)
}

// Planned tells what would be done for a new site, and all that would change in a folder that is there already.
func (f *Feature) Planned(s site.Site) wire.Planned {
	return wire.Planned{Site: s.Name, Steps: f.Operations.Kind(plan.New).Titles(f.stepsFor(s)), Changes: f.Origins.Changes(s),
		Holds: f.Origins.Holds(s)}
}

// touch applies the finishing touches that a site was asked to be made with, as the site's own database user.
func (f *Feature) touch(ctx context.Context, w *operation.Part, s site.Site) error {
	database, err := f.Machine.Database(ctx, s.Stack.Database)
	if err != nil {
		return err
	}
	pool := database.OpenAs(s.Database)
	defer pool.Close()
	php, err := f.Machine.Store.Find(s.Stack.PHP)
	if err != nil {
		return err
	}
	toucher := cms.Toucher{Definition: f.Machine.CMS.Of(s), Own: cms.OwnTouches(f.Origins.TouchFolder()), Pool: pool, PHP: php, Site: s,
		Facts:   f.Machine.CMSFacts(s),
		Command: func(ctx context.Context, file string) ([]byte, error) { return f.Machine.RunScript(ctx, s, file) }}
	for _, asked := range s.Touches {
		w.Progress(asked, -1)
		if err := toucher.Apply(ctx, asked); err != nil {
			return err
		}
	}
	return nil
}
