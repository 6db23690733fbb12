package running

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/home"
	"vessik/internal/registry"
)

// unread is a ledger that nobody reads.
type unread struct{}

func (unread) Found(string, string, []netip.Addr, bool) {}
func (unread) Hosts(string, netip.Addr) []string        { return nil }
func (unread) Asked(string, netip.AddrPort, Fate) func(time.Duration, error) {
	return func(time.Duration, error) {}
}

func TestMailReachesNoServerButTheSitesOwn(t *testing.T) {
	book, err := home.NewBook(home.Home{Dir: t.TempDir()}, home.Settings{GatewayPort: 20080})
	require.NoError(t, err)
	own, settings := 4000, site.Settings{Xdebug: 587}
	m := &Machine{Book: book, Registry: registry.New(nil), Ledger: unread{}, Kept: func(port int) bool { return port == 9999 },
		MailPort: func(_ string, to uint16) (int, bool) { return own, to == 25 || to == 587 }}
	reach := m.network(site.Site{Name: "moss", Port: 21000, Settings: settings}).Reach
	asked := func(to string) string {
		route := reach(netip.MustParseAddrPort(to))
		if !route.To.IsValid() {
			return "nowhere"
		}
		return route.To.String()
	}
	assert.Equal(t, "127.0.0.1:4000", asked("198.51.100.7:25"))
	assert.Equal(t, "[::1]:4000", asked("[2001:db8::1]:25"))
	assert.Equal(t, "127.0.0.1:4000", asked("127.0.0.1:25"))
	assert.Equal(t, "127.0.0.1:4000", asked("198.51.100.7:587"), "though a debugger listens on that port here")
	assert.Equal(t, "127.0.0.1:587", asked("127.0.0.1:587"))
	assert.Equal(t, "198.51.100.7:443", asked("198.51.100.7:443"))
	assert.Equal(t, "nowhere", asked("198.51.100.7:8080"), "the usual policy is the web's")
	settings.Reach = []string{"127.0.0.1:9200", "127.0.0.1:9999", "198.51.100.0/24"}
	reach = m.network(site.Site{Name: "moss", Port: 21000, Settings: settings}).Reach
	assert.Equal(t, "198.51.100.7:8080", asked("198.51.100.7:8080"))
	assert.Equal(t, "127.0.0.1:4000", asked("198.51.100.7:25"), "mail is caught although the machine may be asked")
	assert.Equal(t, "127.0.0.1:9200", asked("127.0.0.1:9200"))
	assert.Equal(t, "nowhere", asked("127.0.0.1:9999"), "it is the service's, or another site's")
	own = 0
	assert.Equal(t, "nowhere", asked("198.51.100.7:25"), "it is not delivered where it cannot be caught")
}
