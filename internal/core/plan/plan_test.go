package plan

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

var steps = []Step{Reserve, "fetch", "lay-out", "create-database", "start", "prove"}

// journal draws what a service may leave: finished steps, then perhaps one that was begun, then pending ones.
func journal(t *rapid.T) []Entry {
	entries := []Entry{}
	done := rapid.IntRange(0, len(steps)).Draw(t, "done")
	last := rapid.SampledFrom([]StepState{Pending, Active, Broken}).Draw(t, "last")
	for i, step := range steps {
		state := Pending
		if i < done {
			state = Done
		} else if i == done {
			state = last
		}
		entries = append(entries, Entry{Step: step, State: state})
	}
	return entries
}

// Undo takes back exactly what was begun, last first; what was undone is not undone again.
func TestUndoIsTheReverseOfWhatWasBegun(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		entries := journal(t)
		undo := Undo(entries)
		begun := []int{}
		for i, e := range entries {
			if e.State != Pending {
				begun = append(begun, i)
				entries[i].State = Undone
			}
		}
		slices.Reverse(begun)
		if !slices.Equal(begun, undo) {
			t.Fatalf("begun %v, undone %v", begun, undo)
		}
		if again := Undo(entries); len(again) > 0 {
			t.Fatalf("undone twice: %v", again)
		}
	})
}

func TestRecoveryNeverLosesASiteThatStands(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		entries := journal(t)
		stands := !slices.ContainsFunc(entries, func(e Entry) bool { return e.Step != "prove" && e.State != Done })
		if got := ResumeBefore("prove")(entries); (got == Resume) != stands {
			t.Fatalf("%v: %s", entries, got)
		}
	})
	assert.Equal(t, TakeBack, Always(TakeBack)([]Entry{{Step: "switch", State: Active}}))
}

// Whoever merges the changes of an operation sees what somebody sees who asks for all of it.
func TestChangesOfAnOperationAreMerged(t *testing.T) {
	part := func(name string, state OperationState) OperationSite { return OperationSite{Site: name, State: state} }
	whole := Watched{Operation: Operation{ID: "7", State: OperationRunning,
		Sites:   []OperationSite{part("fern", OperationRunning), part("moss", OperationRunning)},
		Details: json.RawMessage(`{"keep_copies":true}`)}, Activity: map[string]Activity{"fern": {Text: "waits"},
		"moss": {Text: "waits"}}, Version: 3}
	next := whole.With(Watched{Operation: Operation{ID: "7", State: OperationRunning, Sites: []OperationSite{part("moss", OperationDone)}},
		Activity: map[string]Activity{}, Version: 5})
	assert.Equal(t, []OperationSite{part("fern", OperationRunning), part("moss", OperationDone)}, next.Sites)
	assert.Equal(t, map[string]Activity{"fern": {Text: "waits"}}, next.Activity)
	assert.True(t, DetailsOf[Trial](next.Operation).KeepCopies, "details stay as long as none are told")
	assert.Equal(t, OperationRunning, whole.Sites[1].State, "what was seen stays as it was")
	over := next.With(Watched{Operation: Operation{ID: "7", State: OperationDone, Sites: []OperationSite{part("fern", OperationDone)},
		Details: json.RawMessage(`{"keep_copies":false}`)}, Activity: map[string]Activity{}})
	assert.Empty(t, over.Activity)
	assert.False(t, DetailsOf[Trial](over.Operation).KeepCopies)
	assert.Zero(t, DetailsOf[Change](Operation{}))
}
