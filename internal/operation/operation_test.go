package operation_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/background"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/operation"
	"vessik/internal/records"
	"vessik/internal/registry"
	"vessik/internal/seal"
	"vessik/test/ground"
)

func TestMain(m *testing.M) { os.Exit(ground.Main(m)) }

var ctx = context.Background()

const (
	making   plan.Kind = "making"   // taken back when it fails
	changing plan.Kind = "changing" // goes back when it fails
)

// workshop is a runner on real records whose steps do nothing but tell, and fail, hang or are cut off where they are asked to.
type workshop struct {
	t      *testing.T
	kept   *records.Records
	sites  *registry.Registry
	work   *background.Work
	runner *operation.Runner

	mu    sync.Mutex
	told  []string
	at    string // "step before" or "step after"
	point func(ctx context.Context) error
}

func (w *workshop) tell(words string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.told = append(w.told, words)
}

func (w *workshop) pass(ctx context.Context, at string) error {
	w.mu.Lock()
	point := w.point
	here := w.at == at
	w.mu.Unlock()
	if here && point != nil {
		return point(ctx)
	}
	return nil
}

func (w *workshop) step(name plan.Step) operation.Step {
	return operation.Step{Name: name, Title: string(name),
		Do: func(ctx context.Context, p *operation.Part) error {
			if err := p.Note("of " + string(name)); err != nil {
				return err
			}
			if err := w.pass(ctx, string(name)+" before"); err != nil {
				return err
			}
			w.tell("do " + string(name))
			return w.pass(ctx, string(name)+" after")
		},
		Undo: func(_ context.Context, _ *operation.Part, note string) error {
			w.tell("undo " + string(name) + " " + note)
			return nil
		}}
}

var steps = []plan.Step{"lay", "load", "together", "prove"}

func openWorkshop(t *testing.T) *workshop {
	t.Helper()
	server := ground.Database(t)
	_, err := server.Admin().Exec("DROP DATABASE IF EXISTS " + records.Database)
	require.NoError(t, err)
	key, err := seal.ReadOrMake(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	w := &workshop{t: t}
	w.kept, err = records.Open(ctx, server.Admin(), server.OpenWithTimes(records.Database), key)
	require.NoError(t, err)
	w.open()
	return w
}

// open begins a service on the records that are there, and returns what its Resume did.
func (w *workshop) open() {
	w.t.Helper()
	sites, err := w.kept.Sites(ctx)
	require.NoError(w.t, err)
	w.sites, w.work = registry.New(w.kept, sites...), background.New(ctx)
	w.runner = operation.New(w.sites, w.kept, w.work, slog.New(slog.DiscardHandler))
	together := operation.Step{Name: "together", Title: "together", All: func(ctx context.Context, names []string) map[string]error {
		failed := map[string]error{}
		for _, name := range names {
			if err := errors.Join(w.pass(ctx, "together before"), w.pass(ctx, "together after")); err != nil {
				failed[name] = err
			}
		}
		w.tell("do together")
		return failed
	}, Passing: true}
	all := []operation.Step{w.step("lay"), w.step("load"), together, w.step("prove")}
	w.runner.Register(
		operation.Kind{Name: making, Steps: all, OnFailure: operation.TakeBack, Recover: plan.ResumeBefore("prove")},
		operation.Kind{Name: changing, Steps: all, OnFailure: operation.GoBack, Recover: plan.Always(plan.TakeBack),
			GoBack: func(context.Context, *operation.Part) error { w.tell("go back"); return nil }})
}

func (w *workshop) resume() {
	w.t.Helper()
	w.runner.Judging.Lock()
	defer w.runner.Judging.Unlock()
	unfinished, err := w.runner.Unfinished(ctx)
	require.NoError(w.t, err)
	w.runner.Resume(unfinished)
}

// begin begins an operation on a site that is there.
func (w *workshop) begin(kind plan.Kind) plan.Operation {
	w.t.Helper()
	w.runner.Judging.Lock()
	defer w.runner.Judging.Unlock()
	begun, err := w.runner.Begin(ctx, operation.Request{Kind: kind, Payload: map[string]int{"turn": 1}, Names: []string{"fern"},
		Steps: map[string][]plan.Step{"fern": steps}})
	require.NoError(w.t, err)
	return begun
}

func (w *workshop) ended(id string) plan.OperationSite {
	w.t.Helper()
	limit, end := context.WithTimeout(ctx, 20*time.Second)
	defer end()
	over, err := w.runner.Follow(limit, id)
	require.NoError(w.t, err)
	assert.NoError(w.t, w.runner.Free("fern"), "nobody is at it any more")
	return over.Sites[0]
}

// Wherever an operation is made to fail, is cancelled, or is cut off with its service, it ends as its kind has it: what was begun is taken
// back, last first, or led back once, and nothing is done twice that must not be.
func TestEveryPointOfAnOperation(t *testing.T) {
	w := openWorkshop(t)
	_, err := w.kept.Begin(ctx, plan.Operation{Kind: "new"},
		[]site.Site{{Name: "fern", State: site.Running, Port: 21000, Folder: "/srv/fern"}},
		nil, nil)
	require.NoError(t, err)
	_, err = w.kept.Unfinished(ctx)
	require.NoError(t, err)
	w.open()
	w.resume()
	for _, kind := range []plan.Kind{making, changing} {
		for position, step := range steps {
			for _, when := range []string{"before", "after"} {
				for _, what := range []string{"fail", "cancel", "cut off"} {
					t.Run(fmt.Sprintf("%s/%s_%s/%s", kind, step, when, what), func(t *testing.T) {
						w.t = t
						w.try(kind, position, string(step)+" "+when, what)
					})
				}
			}
		}
	}
}

func (w *workshop) try(kind plan.Kind, position int, at, what string) {
	reached := make(chan struct{})
	w.mu.Lock()
	w.told, w.at = nil, at
	w.point = func(ctx context.Context) error {
		close(reached)
		if what == "fail" {
			return errors.New("frost")
		}
		<-ctx.Done() // until it is cancelled, or its service ends
		return ctx.Err()
	}
	w.mu.Unlock()
	begun := w.begin(kind)
	select {
	case <-reached:
	case <-time.After(20 * time.Second):
		require.Fail(w.t, "never got there")
	}
	switch what {
	case "cancel":
		require.NoError(w.t, w.runner.Cancel(begun.ID))
	case "cut off":
		w.work.End()
		w.work.Wait()
		w.mu.Lock()
		w.point = nil
		w.mu.Unlock()
		w.open()
		w.resume()
	}
	part := w.ended(begun.ID)
	w.mu.Lock()
	defer w.mu.Unlock()
	finished := what == "cut off" && kind == making && steps[position] == "prove" // it stood, and was only to be proven
	switch {
	case finished:
		assert.Equal(w.t, plan.OperationDone, part.State, part.Problem)
		assert.NotContains(w.t, fmt.Sprint(w.told), "undo")
		return
	case what == "cancel":
		assert.Equal(w.t, plan.OperationCancelled, part.State)
	default:
		assert.Equal(w.t, plan.OperationFailed, part.State)
	}
	undone := slices.DeleteFunc(slices.Clone(w.told), func(words string) bool { return words[:2] == "do" })
	if kind == changing {
		assert.Equal(w.t, []string{"go back"}, undone)
		return
	}
	want := []string{}
	for _, step := range slices.Backward(steps[:position+1]) {
		if step != "together" { // it has no undo
			want = append(want, fmt.Sprintf("undo %s of %s", step, step))
		}
	}
	assert.Equal(w.t, want, undone)
}

func TestOneOperationASiteAndWhatItCarries(t *testing.T) {
	w := openWorkshop(t)
	_, err := w.kept.Begin(ctx, plan.Operation{Kind: "new"},
		[]site.Site{{Name: "fern", State: site.Running, Port: 21000, Folder: "/srv/fern"}},
		nil, nil)
	require.NoError(t, err)
	w.open()
	hold := make(chan struct{})
	w.runner.Register(operation.Kind{Name: "telling", Show: operation.ShowAs[struct{ Shown string }], Steps: []operation.Step{
		{Name: "tell", Title: "telling", Do: func(_ context.Context, p *operation.Part) error {
			operation.Learn(p, func(payload *map[string]string) { (*payload)["Shown"] = "leaves" })
			<-hold
			return nil
		}}}})
	request := operation.Request{Kind: "telling", Payload: map[string]string{"Shown": "buds", "hidden": "roots"}, Names: []string{"fern"},
		Steps: map[string][]plan.Step{"fern": {"tell"}}}
	begun, err := w.runner.Begin(ctx, request)
	require.NoError(t, err)
	assert.JSONEq(t, `{"Shown":"buds"}`, string(begun.Details), "what its kind does not show stays hidden")
	_, err = w.runner.Begin(ctx, request)
	assert.ErrorIs(t, err, operation.ErrBusy)
	assert.True(t, w.runner.Working())
	idle := false
	w.runner.WhileIdle(func() { idle = true })
	assert.False(t, idle)
	var first plan.Watched
	require.Eventually(t, func() bool {
		first, _, err = w.runner.Watch(ctx, begun.ID, 0)
		return err == nil && string(first.Details) == `{"Shown":"leaves"}`
	}, 5*time.Second, 5*time.Millisecond)
	same, _, err := w.runner.Watch(ctx, begun.ID, first.Version)
	require.NoError(t, err)
	assert.Empty(t, same.Sites, "nothing has changed since")
	assert.Empty(t, same.Details)
	close(hold)
	assert.Equal(t, plan.OperationDone, w.ended(begun.ID).State)
	ids, _, known := w.runner.Since(0)
	assert.True(t, known)
	assert.Equal(t, []string{begun.ID}, ids, "it was begun, and is over: told once")
	payload, err := operation.PayloadOf[map[string]string](ctx, w.runner, begun.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"Shown": "leaves", "hidden": "roots"}, payload)
	text, err := json.Marshal(first)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "roots")
	assert.Error(t, w.runner.Cancel(begun.ID), "it is over")
}

func TestWhatAnotherSiteTookMeanwhileIsJudgedAgain(t *testing.T) {
	times := 0
	begin := func(fault error, until int) func() (plan.Operation, error) {
		times = 0
		return func() (plan.Operation, error) {
			if times++; times < until {
				return plan.Operation{}, errors.Join(fault, site.Problems{{Field: "port"}})
			}
			return plan.Operation{ID: "7"}, nil
		}
	}
	begun, err := operation.UnlessTaken(begin(&records.ErrTaken{Kind: "port"}, 3))
	require.NoError(t, err)
	assert.Equal(t, "7", begun.ID)
	_, err = operation.UnlessTaken(begin(&records.ErrTaken{Kind: "port"}, 9))
	assert.ErrorAs(t, err, &site.Problems{}, "in the end it is told")
	_, err = operation.UnlessTaken(begin(errors.New("no disk"), 2))
	assert.ErrorContains(t, err, "no disk")
	assert.Equal(t, 1, times, "nothing else is tried again")
}
