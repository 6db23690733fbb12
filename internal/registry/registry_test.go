package registry

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

var ctx = context.Background()

// notebook is a store that keeps what was said to it, or fails.
type notebook struct {
	mu    sync.Mutex
	lines []string
	fault error
	slow  func() // before each line
}

func (n *notebook) write(line string) error {
	if n.slow != nil {
		n.slow()
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.fault == nil {
		n.lines = append(n.lines, line)
	}
	return n.fault
}

func (n *notebook) SaveSite(_ context.Context, s site.Site) error { return n.write("save " + s.Name) }
func (n *notebook) Relocate(_ context.Context, s site.Site) error {
	return n.write("relocate " + s.Name)
}
func (n *notebook) Rename(_ context.Context, _, old string, s site.Site) error {
	return n.write("rename " + old + " to " + s.Name)
}
func (n *notebook) Drop(_ context.Context, name string) error { return n.write("forget " + name) }

func TestAnEditIsRecordedBeforeItIsSeen(t *testing.T) {
	n := &notebook{}
	r := New(n, site.Site{Name: "fern", Domain: "fern.localhost", Title: "Fern"})
	n.slow = func() {
		s, _ := r.Site("fern")
		assert.Equal(t, "Fern", s.Title, "not before it is recorded")
	}
	changed := r.Changed()
	require.NoError(t, r.Edit(ctx, "fern", func(s *site.Site) error { s.Title = "Ferns"; return nil }))
	<-changed
	s, _ := r.Site("fern")
	assert.Equal(t, "Ferns", s.Title)
	require.NoError(t, r.Edit(ctx, "fern", func(*site.Site) error { return nil }))
	n.slow = nil
	require.NoError(t, r.Edit(ctx, "fern", func(s *site.Site) error { s.Domains = []string{"ferns.test"}; return nil }))
	assert.Equal(t, []string{"save fern", "relocate fern"}, n.lines, "nothing for what changes nothing")

	n.fault = errors.New("the disk is full")
	assert.ErrorIs(t, r.Edit(ctx, "fern", func(s *site.Site) error { s.Title = "lost"; return nil }), n.fault)
	assert.ErrorIs(t, r.Rename(ctx, "7", "fern", func(s *site.Site) { s.Name = "lost" }), n.fault)
	assert.ErrorIs(t, r.Drop(ctx, "fern"), n.fault)
	refused := errors.New("no")
	assert.ErrorIs(t, r.Edit(ctx, "fern", func(s *site.Site) error { s.Title = "lost"; return refused }), refused)
	assert.ErrorIs(t, r.Edit(ctx, "moss", nil), ErrNoSite)
	s, _ = r.Site("fern")
	assert.Equal(t, "Ferns", s.Title)
}

func TestEditsSideBySideLoseNothing(t *testing.T) {
	r := New(&notebook{}, site.Site{Name: "fern"})
	var group sync.WaitGroup
	for range 50 {
		group.Go(func() { r.Edit(ctx, "fern", func(s *site.Site) error { s.Port++; return nil }) })
		group.Go(func() { r.Edit(ctx, "fern", func(s *site.Site) error { s.Title += "x"; return nil }) })
		group.Go(func() { r.All(); r.ByHost("fern.localhost", time.Now()) })
	}
	group.Wait()
	s, _ := r.Site("fern")
	assert.Equal(t, 50, s.Port)
	assert.Len(t, s.Title, 50)
}

func TestSitesAreFoundByTheirHosts(t *testing.T) {
	now := time.Now()
	r := New(&notebook{}, site.Site{Name: "moss", Domain: "moss.test", Domains: []string{"mosses.example"}, Network: site.NetworkDomains},
		site.Site{Name: "fern", Domain: "fern.localhost", Forwards: []site.Forward{{Domain: "old.test", Until: now.Add(time.Hour)}}})
	for host, name := range map[string]string{"moss.test": "moss", "mosses.example": "moss", "north.moss.test": "moss",
		"a.b.moss.test":  "moss",
		"fern.localhost": "fern", "old.test": "fern"} {
		s, ok := r.ByHost(host, now)
		assert.True(t, ok, host)
		assert.Equal(t, name, s.Name, host)
	}
	for _, host := range []string{"", "test", "xmoss.test", "north.fern.localhost", "localhost"} {
		_, ok := r.ByHost(host, now)
		assert.False(t, ok, host)
	}
	_, ok := r.ByHost("old.test", now.Add(2*time.Hour))
	assert.False(t, ok, "its time is over")
	require.NoError(t, r.Rename(ctx, "7", "fern", func(s *site.Site) { s.Name, s.Domain = "tree-fern", "tree.localhost" }))
	_, ok = r.ByHost("fern.localhost", now)
	assert.False(t, ok)
	s, _ := r.ByHost("tree.localhost", now)
	assert.Equal(t, "tree-fern", s.Name)
	require.NoError(t, r.Drop(ctx, "tree-fern"))
	assert.Len(t, r.All(), 1)
	r.Add(site.Site{Name: "old", Domain: "old.test"})
	r.Presume("old", site.Starting, "")
	s, _ = r.ByHost("old.test", now)
	assert.Equal(t, site.Starting, s.State)
}
