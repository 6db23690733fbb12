package running

import (
	"context"
	"log/slog"
	"net"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/records"
	"vessik/internal/registry"
)

// taken is a port that somebody listens on, and free one that nobody does.
func taken(t *testing.T) int {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	return listener.Addr().(*net.TCPAddr).Port
}

func free(t *testing.T) int {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}

// Between the look for a free port and its reservation somebody may take it: another program, or another service on this machine.
func TestAPortThatIsTakenMeanwhileIsReplacedUnlessItWasAskedFor(t *testing.T) {
	other := free(t)
	m := &Machine{held: map[string]net.Listener{}, FreePort: func() int { return other }}
	sites := []site.Site{{Name: "roses", Port: taken(t)}, {Name: "tulips", Port: free(t), PortPinned: true}}
	require.Empty(t, m.Hold(sites))
	assert.Equal(t, other, sites[0].Port)
	assert.Len(t, m.held, 2)
	m.LetGo("roses", "tulips")
	assert.Empty(t, m.held)

	sites = []site.Site{{Name: "roses", Port: free(t)}, {Name: "tulips", Port: taken(t), PortPinned: true}}
	problems := m.Hold(sites)
	require.Len(t, problems, 1)
	assert.Equal(t, "tulips", problems[0].Site)
	assert.Equal(t, "port", problems[0].Field)
	assert.Empty(t, m.held)
	listener, err := listen(sites[0].Port)
	require.NoError(t, err, "nothing is kept of a request that is refused")
	listener.Close()
}

// crowded keeps no site whose port is below one that is free.
type crowded struct {
	registry.Store
	free int
}

func (c crowded) Relocate(_ context.Context, s site.Site) error {
	if s.Port < c.free {
		return &records.ErrTaken{Site: s.Name, Kind: "port", Value: strconv.Itoa(s.Port)}
	}
	return nil
}

func TestAnotherPortThatANewSiteTookIsPassedOver(t *testing.T) {
	port := 21000
	m := &Machine{Registry: registry.New(crowded{free: 21002}, site.Site{Name: "roses", Port: port}), Log: slog.New(slog.DiscardHandler),
		FreePort: func() int { port++; return port }}
	require.NoError(t, m.otherPort(context.Background(), "roses", engine.ErrPortTaken))
	roses, _ := m.Registry.Site("roses")
	assert.Equal(t, 21002, roses.Port)
}
