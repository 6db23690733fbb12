package service

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/change"
	"vessik/internal/core/plan"
	"vessik/internal/engines"
	"vessik/internal/load"
	"vessik/internal/mailbox"
	"vessik/internal/operation"
	"vessik/internal/origin"
	"vessik/internal/points"
	"vessik/internal/rename"
	"vessik/internal/restack"
	"vessik/internal/running"
	"vessik/internal/running/runningtest"
	"vessik/internal/saving"
	"vessik/internal/settings"
	"vessik/internal/trial"
	"vessik/internal/verify"
)

// furnished is a house with all its rooms, in which nothing can be done.
func furnished(t *testing.T) *house {
	t.Helper()
	m := runningtest.Machine(t)
	h := &house{work: m.Work}
	mail, err := mailbox.Open(m, nil)
	require.NoError(t, err)
	h.furnish(m, nil, mail, opening{log: m.Log})
	return h
}

func TestKindsOfOperationsAreWhole(t *testing.T) {
	ops := furnished(t).rooms.Operations
	for _, name := range []plan.Kind{plan.New, plan.Start, plan.Stop, plan.Verify, plan.Retire, restack.Kind, settings.Kind, rename.Kind,
		load.Kind,
		trial.Kind, saving.Kind, engines.Fetch} {
		kind := ops.Kind(name)
		require.NotEmpty(t, kind.Steps, name)
		seen := map[plan.Step]bool{}
		for _, step := range kind.Steps {
			assert.NotEmpty(t, step.Title, "%s: %s", name, step.Name)
			assert.False(t, seen[step.Name], "%s: %s twice", name, step.Name)
			assert.True(t, step.Name == plan.Reserve || (step.Do == nil) != (step.All == nil), "%s: %s is done in one way", name, step.Name)
			seen[step.Name] = true
		}
		assert.Equal(t, kind.OnFailure == operation.GoBack, kind.GoBack != nil, name)
		if kind.OnFailure == operation.GoBack {
			assert.Equal(t, plan.TakeBack, kind.Recover(nil), "%s: half changed is neither", name)
		}
	}
}

func TestPlansKeepTheirOrder(t *testing.T) {
	ops := furnished(t).rooms.Operations
	before := func(kind plan.Kind, a, b plan.Step) {
		steps := ops.Kind(kind).Without()
		require.Contains(t, steps, a)
		assert.Less(t, slices.Index(steps, a), slices.Index(steps, b), "%s: %s before %s", kind, a, b)
	}
	before(plan.New, plan.Reserve, running.FetchEngines)
	before(plan.New, origin.LayOut, origin.Configure)
	before(plan.New, running.CreateDatabase, origin.LoadContent)
	before(plan.New, running.StartPHP, running.Publish)
	before(plan.New, running.Publish, verify.Prove)
	before(plan.Retire, running.Withdraw, running.StopPHP)
	before(plan.Retire, running.StopPHP, running.DropDatabase)
	before(plan.Retire, origin.RemoveFolder, running.Release)
	before(restack.Kind, points.Step, restack.MoveDatabase)
	before(restack.Kind, restack.MoveDatabase, change.Switch)
	before(rename.Kind, change.Settle, rename.Move)
	before(trial.Kind, trial.Sample, running.DropDatabase)
	assert.NotContains(t, ops.Kind(plan.New).Without(running.FetchEngines), running.FetchEngines)
	assert.NotContains(t, ops.Kind(settings.Kind).Without(), points.Step, "settings need no restore point")
}
