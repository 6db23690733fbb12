// Package plan says what operations, their steps and their journal are, and decides from a journal what is to be undone or resumed.
package plan

import "slices"

// Kind is what an operation is for. Each is owned by a feature, which registers it.
type Kind string

// The kinds that are asked for by their names.
const (
	New    Kind = "new"
	Start  Kind = "start"
	Stop   Kind = "stop"
	Verify Kind = "verify"
	Retire Kind = "retire"
)

// Step names one piece of work. What it is called, how it is done and how it is taken back stand together in its kind.
type Step string

// Reserve is the step that is done with the request itself.
const Reserve Step = "reserve"

// StepState is where a step stands in the journal.
type StepState string

const (
	Pending StepState = "pending"
	Active  StepState = "active"
	Done    StepState = "done"
	Broken  StepState = "failed"
	Undone  StepState = "undone"
)

// Entry is one line of the journal of one site's steps.
type Entry struct {
	Step         Step
	Title        string // in words
	State        StepState
	Note         string // what the step left for its undo, or why it failed
	Milliseconds int64
}

// Undo returns the positions of the steps to take back, last first: all that were begun. A step that failed or was interrupted may have
// done a part of its work, so it is taken back as well; every undo bears being run on nothing.
func Undo(journal []Entry) []int {
	positions := []int{}
	for i, entry := range slices.Backward(journal) {
		if entry.State == Done || entry.State == Active || entry.State == Broken {
			positions = append(positions, i)
		}
	}
	return positions
}

// Recovery is what a restarted service does with an operation that it finds unfinished.
type Recovery string

const (
	Resume   Recovery = "resume"    // go on from the first step that is not done
	TakeBack Recovery = "take-back" // undo what was begun
	GiveUp   Recovery = "give-up"   // nothing is to be undone, and it is easily asked for again
)

// ResumeBefore returns what to do about something that is made anew: where only a step is left that may be done again (it is
// proven), it stands and goes on; where it was half made it is taken back.
func ResumeBefore(last Step) func([]Entry) Recovery {
	return func(journal []Entry) Recovery {
		for _, entry := range journal {
			if entry.Step != last && entry.State != Done {
				return TakeBack
			}
		}
		return Resume
	}
}

// Always is the same for every journal.
func Always(recovery Recovery) func([]Entry) Recovery {
	return func([]Entry) Recovery { return recovery }
}
