package outgoing

import (
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/records"
	"vessik/internal/running"
)

var (
	press  = netip.MustParseAddr("203.0.113.7")
	always = func(string) bool { return true }
)

func TestTheLedgerKeepsWhatSitesAsk(t *testing.T) {
	l := &Ledger{}
	l.Found("moss", "www.fernhollow.example", []netip.Addr{press}, true)
	l.Found("moss", "api.fernhollow.example", []netip.Addr{press}, true)
	l.Found("moss", "gone.fernhollow.example", nil, true)
	l.Found("moss", "secret.fernhollow.example", nil, false)
	assert.Equal(t, []string{"www.fernhollow.example", "api.fernhollow.example"}, l.Hosts("moss", netip.MustParseAddr("::ffff:203.0.113.7")))
	assert.Empty(t, l.Hosts("fern", press), "what another site looked up is no business of this one")
	done := l.Watch("moss")
	web := netip.AddrPortFrom(press, 443)
	l.Asked("moss", web, running.Through)(20*time.Millisecond, nil)
	l.Asked("moss", web, running.Through)(0, errors.New("nobody is there"))
	l.Asked("moss", netip.AddrPortFrom(press, 22), running.Refused)
	l.Asked("moss", netip.AddrPortFrom(press, 25), running.Caught)
	l.Asked("fern", web, running.Through)
	seen := done()
	l.Asked("moss", web, running.Refused)
	lines := []string{}
	for _, o := range seen {
		lines = append(lines, fmt.Sprint(o.Host, " ", o.Port, " ", o.Count, o.Refused, o.Failed, o.Caught, o.Milliseconds))
	}
	assert.Equal(t, []string{"api.fernhollow.example 22 1 1 0 0 0", "api.fernhollow.example 25 1 0 0 1 0",
		"api.fernhollow.example 443 2 0 1 0 20"}, lines)
	assert.Len(t, l.sheets["moss"].rows, 5, "two names and three ports")
}

// A site may ask for as much as it wants to; what is kept of it stays small.
func TestTheLedgerOfAHostileSiteStaysSmall(t *testing.T) {
	l := &Ledger{}
	done := l.Watch("moss")
	var group sync.WaitGroup
	for n := range 8 {
		group.Go(func() {
			for i := range 1000 {
				address := netip.AddrFrom4([4]byte{203, byte(n), byte(i >> 8), byte(i)})
				l.Found("moss", fmt.Sprintf("%d.%d.example", n, i), []netip.Addr{address}, true)
				l.Found("moss", fmt.Sprintf("%d.example", i), []netip.Addr{press}, true)
				l.Asked("moss", netip.AddrPortFrom(address, 443), running.Through)
			}
		})
	}
	group.Wait()
	s := l.sheets["moss"]
	assert.LessOrEqual(t, len(s.rows), mostRows+1)
	assert.LessOrEqual(t, len(s.names), mostNames)
	assert.LessOrEqual(t, len(s.names[press]), namesOfOne)
	count := int64(0)
	for _, o := range done() {
		count += o.Count
	}
	assert.Equal(t, int64(8000), count, "what has no line of its own is counted all the same")
}

func TestTheLedgerIsWritten(t *testing.T) {
	l := &Ledger{}
	ask := func(site string, ports ...uint16) {
		for _, port := range ports {
			l.Asked(site, netip.AddrPortFrom(press, port), running.Refused)
		}
	}
	var written []records.Outgoing
	fault := errors.New("the records are away")
	record := func(all []records.Outgoing) error { written = all; return fault }
	ask("moss", 22, 23)
	require.ErrorIs(t, l.write(always, record), fault)
	ask("moss", 22)
	ask("fern", 22)
	fault = nil
	require.NoError(t, l.write(func(site string) bool { return site == "moss" }, record))
	require.Len(t, written, 2)
	assert.Equal(t, int64(2), written[0].Count, "what could not be written was kept")
	assert.True(t, written[0].FirstAt.Before(written[0].LastAt))
	written = nil
	require.NoError(t, l.write(always, record))
	assert.Empty(t, written, "nothing is written twice")
	assert.NotContains(t, l.sheets, "fern", "of one that is gone nothing is kept")
}
