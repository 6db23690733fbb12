package walk

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

// mostCosts is how many slow pages are asked again, the slowest; settle is for how long is waited, once one has come, for what is told of
// connections a moment later.
const (
	mostCosts = 10
	settle    = 100 * time.Millisecond
)

// costs are what slow pages ask of the database and of other machines, which is watched while they are asked again, one by one.
func (f *Feature) costs(ctx context.Context, s site.Site, w *walker, slow int64, told Told) (map[string]walk.Cost, error) {
	slowest := slices.DeleteFunc(slices.Clone(w.order), func(path string) bool { return w.answers[path].Milliseconds <= slow })
	slices.SortStableFunc(slowest, func(a, b string) int { return cmp.Compare(w.answers[b].Milliseconds, w.answers[a].Milliseconds) })
	slowest = slowest[:min(len(slowest), mostCosts)]
	costs := map[string]walk.Cost{}
	for n, path := range slowest {
		if err := told(wire.WalkProgress{Doing: "slow pages", Asked: n, Known: len(slowest)}); err != nil {
			return nil, err
		}
		cost, err := f.cost(ctx, s, w, path)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			f.Machine.Log.Warn("see what a slow page asks", "site", s.Name, "page", path, "reason", err)
		default:
			costs[path] = cost
		}
	}
	return costs, nil
}

func (f *Feature) cost(ctx context.Context, s site.Site, w *walker, path string) (cost walk.Cost, err error) {
	f.costing.Lock()
	defer f.costing.Unlock()
	cost.Machines = []walk.Machine{}
	asked := f.Watch(s.Name)
	defer func() {
		for _, o := range asked() {
			machine := walk.Machine{Host: cmp.Or(o.Host, o.Address), Port: o.Port, Count: o.Count, Refused: o.Refused}
			if stood := o.Count - o.Refused - o.Failed - o.Caught; stood > 0 {
				machine.Milliseconds = o.Milliseconds / stood
			}
			cost.Machines = append(cost.Machines, machine)
		}
	}()
	server := f.Machine.RunningDatabase(s.Stack.Database)
	if server == nil {
		return cost, errors.New("its database server does not run")
	}
	worked, err := server.WatchUser(ctx, s.Database.User)
	if err != nil {
		return cost, err
	}
	began := time.Now()
	answer := w.ask(ctx, step{path: path, page: true})
	cost.Milliseconds = time.Since(began).Milliseconds()
	work, err := worked()
	if err != nil {
		return cost, err
	}
	if answer.Fault != "" {
		return cost, errors.New(answer.Fault)
	}
	select {
	case <-time.After(settle):
	case <-ctx.Done():
	}
	cost.Statements, cost.Rows, cost.Database = work.Statements, work.Rows, work.Busy.Milliseconds()
	cost.Longest, cost.LongestTook = work.Longest, work.LongestTook.Milliseconds()
	return cost, nil
}
