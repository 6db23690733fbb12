package survey

import (
	"context"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"vessik/internal/engine"
	"vessik/internal/home"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func find(r Survey, subject string) Finding {
	i := slices.IndexFunc(r.Findings, func(f Finding) bool { return f.Subject == subject })
	if i < 0 {
		return Finding{}
	}
	return r.Findings[i]
}

func TestAHeldGatewayPortIsAFault(t *testing.T) {
	dir := t.TempDir()
	home, err := home.New(filepath.Join(dir, "home"), filepath.Join(dir, "engines"))
	require.NoError(t, err)
	require.NoError(t, home.Prepare())
	holder, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer holder.Close()
	port := holder.Addr().(*net.TCPAddr).Port
	settings, err := home.ReadSettings()
	require.NoError(t, err)
	settings.GatewayPort, settings.PortRange = port, [2]int{port, port + 20}
	require.NoError(t, home.WriteSettings(settings))

	result := Look(context.Background(), home)
	gateway := find(result, "gateway, "+strconv.Itoa(port))
	assert.Equal(t, Fault, gateway.Verdict)
	assert.Contains(t, gateway.Observed, "held by survey.test (process ", "who holds it")
	assert.NotEmpty(t, gateway.Remedy)
	assert.Positive(t, result.Faults)
	sites := find(result, "sites, "+strconv.Itoa(port)+" to "+strconv.Itoa(port+20))
	assert.Equal(t, Notice, sites.Verdict, "the home's own range, one of which is taken")
	assert.Contains(t, sites.Observed, strconv.Itoa(port)+" by survey.test")
	assert.Contains(t, find(result, "engine store").Observed, "0 of ")

	holder.Close()
	result = Look(context.Background(), home)
	assert.Equal(t, Good, find(result, "gateway, "+strconv.Itoa(port)).Verdict)
}

func TestWhatListensIsFound(t *testing.T) {
	holder, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer holder.Close()
	assert.Contains(t, engine.Listeners()[holder.Addr().(*net.TCPAddr).Port], "survey.test (process ")
	assert.False(t, ofVessik("survey.test (process 1)"))
	assert.Positive(t, meminfo("MemTotal"))
	assert.Zero(t, meminfo("Moss"))
}
