package provision

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestATaskThatStaysOverdueIsAskedForEverMoreRarely(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	overdue := now.Add(-time.Hour)
	next := task{}.after(overdue, now)
	assert.Equal(t, overdue, next.next, "never asked: at once")
	next.ran = now
	for _, wait := range []time.Duration{15 * time.Second, 30 * time.Second, time.Minute} {
		next = next.after(overdue, now)
		assert.Equal(t, now.Add(wait), next.next)
	}
	for range 10 {
		next = next.after(overdue, now)
	}
	assert.Equal(t, now.Add(15*time.Minute), next.next)
	assert.Equal(t, task{next: now.Add(time.Hour)}, next.after(now.Add(time.Hour), now), "it was done: no more waiting")
	assert.True(t, next.after(time.Time{}, now).next.IsZero())
}
