package plan

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

var kinds = []Kind{New, Start, Stop, Verify, Retire}

func TestPlansKeepTheirOrder(t *testing.T) {
	before := func(kind Kind, a, b Step) {
		steps := For(kind, true)
		assert.Less(t, slices.Index(steps, a), slices.Index(steps, b), "%s: %s before %s", kind, a, b)
	}
	before(New, Reserve, FetchEngines)
	before(New, LayOut, Configure)
	before(New, CreateDatabase, LoadContent)
	before(New, StartPHP, Publish)
	before(New, Publish, Prove)
	before(Retire, Withdraw, StopPHP)
	before(Retire, StopPHP, DropDatabase)
	before(Retire, RemoveFolder, Release)
	for _, kind := range kinds {
		for _, step := range For(kind, true) {
			assert.NotEmpty(t, step.Title(), step)
		}
	}
	assert.NotContains(t, For(New, false), FetchEngines)
}

// journal draws what a service may leave: finished steps, then perhaps one that was begun, then pending ones.
func journal(t *rapid.T, kind Kind) []Entry {
	entries := []Entry{}
	done := rapid.IntRange(0, len(For(kind, true))).Draw(t, "done")
	last := rapid.SampledFrom([]StepState{Pending, Active, Broken}).Draw(t, "last")
	for i, step := range For(kind, true) {
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
		entries := journal(t, New)
		undo := Undo(entries)
		begun := []Step{}
		for i, e := range entries {
			if e.State != Pending {
				begun = append(begun, e.Step)
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
		kind := rapid.SampledFrom(kinds).Draw(t, "kind")
		entries := journal(t, kind)
		stands := kind != New || !slices.ContainsFunc(entries, func(e Entry) bool { return e.Step != Prove && e.State != Done })
		if got := Recover(kind, entries); (got == Resume) != stands {
			t.Fatalf("%s %v: %s", kind, entries, got)
		}
	})
}
