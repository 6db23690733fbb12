package plan

import (
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
