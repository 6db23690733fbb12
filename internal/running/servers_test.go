package running

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var ctx = context.Background()

// lamp is a server that tells how many of its kind are lit.
type lamp struct{ lit *atomic.Int32 }

func (l *lamp) Stop() { l.lit.Add(-1) }

func lamps(lit *atomic.Int32) *Servers[*lamp] {
	return New(func(_ context.Context, id string) (*lamp, error) {
		if id == "broken" {
			return nil, errors.New("no bulb")
		}
		lit.Add(1)
		return &lamp{lit}, nil
	})
}

func TestAServerIsStartedOnceAndStoppedWhenNobodyNeedsIt(t *testing.T) {
	var lit atomic.Int32
	s := lamps(&lit)
	var group sync.WaitGroup
	for range 20 {
		group.Go(func() {
			_, err := s.Use(ctx, "a")
			assert.NoError(t, err)
		})
	}
	group.Wait()
	assert.EqualValues(t, 1, lit.Load())
	_, release, err := s.Lease(ctx, "a")
	require.NoError(t, err)
	nobody := func(string) bool { return false }
	stopUnused := func(needed func(string) bool) []string {
		ids, stop := s.Unused(needed)
		stop()
		return ids
	}
	assert.Empty(t, stopUnused(nobody), "on lease")
	release()
	release() // twice does no harm
	assert.Empty(t, stopUnused(func(id string) bool { return id == "a" }), "needed")
	assert.Equal(t, []string{"a"}, stopUnused(nobody))
	assert.Zero(t, lit.Load())
	assert.Nil(t, s.Running("a"))
	again, err := s.Use(ctx, "a")
	require.NoError(t, err)
	assert.Same(t, again, s.All()["a"])
	assert.True(t, s.Stop("a"))
	assert.False(t, s.Stop("a"))

	_, _, err = s.Lease(ctx, "broken")
	assert.ErrorContains(t, err, "no bulb")
	_, release, err = s.Lease(ctx, "b")
	require.NoError(t, err)
	s.Close()
	assert.Zero(t, lit.Load(), "also those on lease")
	release()
}

func TestASlowStartKeepsNobodyFromAnother(t *testing.T) {
	begun, slow := make(chan struct{}), make(chan struct{})
	s := New(func(_ context.Context, id string) (*lamp, error) {
		if id == "slow" {
			close(begun)
			<-slow
		}
		return &lamp{new(atomic.Int32)}, nil
	})
	started := make(chan error)
	go func() { _, err := s.Use(ctx, "slow"); started <- err }()
	<-begun
	within := time.AfterFunc(5*time.Second, func() { panic("somebody waits for the slow one") })
	_, err := s.Use(ctx, "quick")
	require.NoError(t, err)
	assert.Len(t, s.All(), 1)
	assert.Nil(t, s.Running("slow"))
	ids, stop := s.Unused(func(string) bool { return false })
	assert.Equal(t, []string{"quick"}, ids)
	assert.Empty(t, s.All(), "nobody is given one that is about to stop")
	again := make(chan error)
	go func() { _, err := s.Use(ctx, "quick"); again <- err }()
	stop()
	require.NoError(t, <-again, "it starts anew")
	within.Stop()
	close(slow)
	require.NoError(t, <-started)
}
