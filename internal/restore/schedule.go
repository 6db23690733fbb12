package restore

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/operation"
	"vessik/internal/points"
)

// scheduled is who takes points at times, and look how often it is seen whether one is due; shortest is the least time between two.
const (
	scheduled = "schedule"
	look      = 5 * time.Second
	shortest  = 10 * time.Second

	longestLook = 10 * time.Minute // at one site
	sitesAtOnce = 2
)

// LookAfter takes the points that are due, until the service ends. A site that keeps its database from being read keeps no other one
// waiting.
func (f *Feature) LookAfter() {
	ctx := f.Changer.Machine.Work.Context()
	ticker := time.NewTicker(look)
	defer ticker.Stop()
	due := &schedule{looked: map[string]time.Time{}, slots: make(chan struct{}, sitesAtOnce)}
	for {
		select {
		case now := <-ticker.C:
			for _, s := range f.Changer.Machine.Registry.All() {
				if f.due(s, now, due) {
					f.Changer.Machine.Work.Go(func() { f.takeIfChanged(ctx, s, due) })
				}
			}
		case <-ctx.Done():
			return
		}
	}
}

// schedule is what is known of the sites that have points taken at times.
type schedule struct {
	mu     sync.Mutex
	looked map[string]time.Time // by site, when it was seen last whether anything had changed
	slots  chan struct{}
}

// due tells whether it is time to look at a site, and notes it.
func (f *Feature) due(s site.Site, now time.Time, due *schedule) bool {
	due.mu.Lock()
	defer due.mu.Unlock()
	every := f.Changer.Points.Rules(s.Name).Every
	if every == 0 || now.Sub(due.looked[s.Name]) < every || len(site.CheckSettled(s)) > 0 || f.Changer.Operations.Busy(s.Name) {
		return false
	}
	all, err := f.Changer.Points.List(s)
	if err != nil || len(all) > 0 && now.Sub(all[0].At) < every {
		return false
	}
	due.looked[s.Name] = now
	return true
}

// takeIfChanged takes a site's next point if anything has changed since the last.
func (f *Feature) takeIfChanged(ctx context.Context, s site.Site, due *schedule) {
	due.slots <- struct{}{}
	defer func() { <-due.slots }()
	ctx, cancel := context.WithTimeout(ctx, longestLook)
	defer cancel()
	changed, err := f.Changer.Points.Changed(ctx, s, f.Changer.Machine.CMS.Of(s).Layout.Caches...)
	if err == nil && changed {
		every := f.Changer.Points.Rules(s.Name).Every
		_, err = f.begin(ctx, s.Name, points.Point{Who: scheduled, Note: "every " + words(every)})
	}
	if err != nil && !errors.Is(err, context.Canceled) && !errors.Is(err, operation.ErrBusy) {
		f.Changer.Machine.Log.Error("take a restore point that is due", "site", s.Name, "reason", err)
	}
}

// words are a time as people write it: 1h, not 1h0m0s.
func words(every time.Duration) string {
	for _, each := range []struct {
		unit time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}} {
		if every%each.unit == 0 {
			return fmt.Sprintf("%d%s", every/each.unit, each.name)
		}
	}
	return every.String()
}

// begin begins taking a point; the operation goes on after it returns.
func (f *Feature) begin(ctx context.Context, name string, point points.Point) (plan.Operation, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	if _, err := f.ready(name); err != nil {
		return plan.Operation{}, err
	}
	return f.Changer.Operations.Begin(ctx, operation.Request{Kind: Make, Names: []string{name}, Payload: point,
		Steps: map[string][]plan.Step{name: {points.Step}}})
}

// Rules are what was asked for of a site's points.
func (f *Feature) Rules(name string) (wire.RestoreRules, error) {
	if _, ok := f.Changer.Machine.Registry.Site(name); !ok {
		return wire.RestoreRules{}, site.NoSite(name)
	}
	rules := f.Changer.Points.Rules(name)
	return wire.RestoreRules{Every: int64(rules.Every / time.Second), Most: rules.MostBytes()}, nil
}

// SetRules asks for others; what is left out of them stays.
func (f *Feature) SetRules(name string, asked wire.SetRestoreRules) (wire.RestoreRules, error) {
	f.Changer.Operations.Judging.Lock()
	defer f.Changer.Operations.Judging.Unlock()
	if _, err := f.ready(name); err != nil {
		return wire.RestoreRules{}, err
	}
	rules, problems := f.Changer.Points.Rules(name), site.Problems{}
	if asked.Every != nil {
		rules.Every = time.Duration(*asked.Every) * time.Second
		if rules.Every != 0 && (rules.Every < shortest || rules.Every > 366*24*time.Hour) {
			problems = append(problems, site.Problem{Site: name, Field: "every", Message: fmt.Sprintf("%s cannot be used", rules.Every),
				Remedy: fmt.Sprintf("choose a time from %s to a year, such as 1h, or off", words(shortest))})
		}
	}
	if asked.Most != nil {
		const least = 1 << 20
		if rules.Most = *asked.Most; rules.Most < 0 || rules.Most != 0 && rules.Most < least {
			problems = append(problems, site.Problem{Site: name, Field: "most", Message: fmt.Sprintf("%d bytes are too little", rules.Most),
				Remedy: "choose 1M or more, such as 10G"})
		}
	}
	if len(problems) > 0 {
		return wire.RestoreRules{}, problems
	}
	if err := f.Changer.Points.SetRules(name, rules); err != nil {
		return wire.RestoreRules{}, err
	}
	return f.Rules(name)
}
