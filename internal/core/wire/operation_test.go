package wire

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"

	"vessik/internal/core/plan"
)

// Whoever merges the changes of an operation sees what somebody sees who asks for all of it.
func TestChangesOfAnOperationAreMerged(t *testing.T) {
	part := func(name string, state plan.OperationState) OperationSite {
		return OperationSite{Site: name, State: state}
	}
	whole := Watched{Operation: Operation{ID: "7", State: plan.OperationRunning,
		Sites:   []OperationSite{part("fern", plan.OperationRunning), part("moss", plan.OperationRunning)},
		Details: json.RawMessage(`{"keep_copies":true}`)}, Activity: map[string]Activity{"fern": {Text: "waits"},
		"moss": {Text: "waits"}}, Version: 3}
	next := whole.With(Watched{Operation: Operation{ID: "7", State: plan.OperationRunning, Sites: []OperationSite{part("moss",
		plan.OperationDone)}},
		Activity: map[string]Activity{}, Version: 5})
	assert.Equal(t, []OperationSite{part("fern", plan.OperationRunning), part("moss", plan.OperationDone)}, next.Sites)
	assert.Equal(t, map[string]Activity{"fern": {Text: "waits"}}, next.Activity)
	assert.True(t, DetailsOf[plan.Trial](next.Operation).KeepCopies, "details stay as long as none are told")
	assert.Equal(t, plan.OperationRunning, whole.Sites[1].State, "what was seen stays as it was")
	over := next.With(Watched{Operation: Operation{ID: "7", State: plan.OperationDone, Sites: []OperationSite{part("fern",
		plan.OperationDone)},
		Details: json.RawMessage(`{"keep_copies":false}`)}, Activity: map[string]Activity{}})
	assert.Empty(t, over.Activity)
	assert.False(t, DetailsOf[plan.Trial](over.Operation).KeepCopies)
	assert.Zero(t, DetailsOf[plan.Change](Operation{}))
}
