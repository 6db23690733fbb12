package hosts

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/registry"
	"vessik/internal/running/runningtest"
)

// told is a feature for sites, with a hosts file of its own.
func told(t *testing.T, sites ...site.Site) *Feature {
	t.Helper()
	m := runningtest.Machine(t, sites...)
	file := m.Home.Path("hosts")
	require.NoError(t, os.WriteFile(file, []byte("127.0.0.1 known.test\n"), 0o600))
	return New(m, file, nil)
}

func TestDomainsThatThisMachineHasToBeToldOf(t *testing.T) {
	f := told(t,
		site.Site{Name: "moss", Domain: "moss.test", Domains: []string{"mosses.localhost", "mosses.example"}, Network: site.NetworkDomains,
			SubSites: []string{"north"}},
		site.Site{Name: "fern", Domain: "fern.localhost", Forwards: []site.Forward{{Domain: "old.test", Until: time.Now().Add(time.Hour)}},
			Network: site.NetworkFolders, SubSites: []string{"south"}})
	assert.Equal(t, []string{"moss.test", "mosses.example", "north.moss.test", "old.test"}, f.foreignDomains())
	page := f.Page()
	assert.False(t, page.Current)
	assert.Equal(t, []string{"test", "example"}, page.Endings)
	assert.Contains(t, page.NotFound, "moss.test")
	assert.True(t, f.Finds("any.localhost") && f.Finds("known.test"))
	for host, name := range map[string]string{"moss.test": "moss", "mosses.localhost": "moss", "north.moss.test": "moss",
		"anything.moss.test": "moss", "old.test": "fern", "fern.localhost": "fern"} {
		found, ok := f.Machine.Registry.ByHost(host, time.Now())
		assert.True(t, ok, host)
		assert.Equal(t, name, found.Name, host)
	}
	for _, host := range []string{"north.fern.localhost", "test", "xmoss.test"} {
		_, ok := f.Machine.Registry.ByHost(host, time.Now())
		assert.False(t, ok, host)
	}
	s, _ := f.Machine.Registry.Site("fern")
	s.Forwards[0].Until = time.Now().Add(-time.Second)
	f.Machine.Registry.Add(s)
	_, ok := f.Machine.Registry.ByHost("old.test", time.Now())
	assert.False(t, ok, "its time is over")
}

func TestTheHostsBlockIsKeptOnlyWhereItIsAllowed(t *testing.T) {
	f := told(t, site.Site{Name: "moss", Domain: "moss.test"})
	read := func() string {
		text, err := os.ReadFile(f.File)
		require.NoError(t, err)
		return string(text)
	}
	f.sync()
	assert.Equal(t, "127.0.0.1 known.test\n", read())
	require.NoError(t, f.Allow(true))
	assert.Contains(t, read(), "127.0.0.1 moss.test\n::1 moss.test\n")
	assert.True(t, f.Keeps())
	assert.True(t, f.Page().Current)
	f.Machine.Registry = registry.New(nil)
	f.sync()
	assert.Equal(t, "127.0.0.1 known.test\n", read())
	require.NoError(t, f.Allow(false))
	settings, err := f.Machine.Home.ReadSettings()
	require.NoError(t, err)
	assert.False(t, settings.HostsAllowed)
}
