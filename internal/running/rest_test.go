package running

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLogsAreRotated(t *testing.T) {
	path := filepath.Join(t.TempDir(), "access.log")
	require.NoError(t, os.WriteFile(path, []byte("visitor 1 came\n"), 0o600))
	writer, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0) // as an engine holds it
	require.NoError(t, err)
	defer writer.Close()
	for n := range 5 {
		require.NoError(t, rotate(path))
		fmt.Fprintf(writer, "after rotation %d\n", n)
	}
	now, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "after rotation 4\n", string(now), "who writes it goes on in the emptied file")
	kept, err := filepath.Glob(path + ".*")
	require.NoError(t, err)
	assert.Len(t, kept, logsKept)
	last, err := os.ReadFile(path + ".1")
	require.NoError(t, err)
	assert.Equal(t, "after rotation 3\n", string(last))
}

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
