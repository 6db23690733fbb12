package outgoing

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWhatASiteMayAsk(t *testing.T) {
	api := []string{"api.fernhollow.example"}
	for _, each := range []struct {
		usual, allow, refuse string
		hosts                []string
		to                   string
		may                  bool
	}{
		{"", "", "", nil, "203.0.113.7:443", true},
		{Web, "", "", nil, "[2001:db8::7]:80", true},
		{Web, "", "", nil, "203.0.113.7:22", false},
		{Open, "", "", nil, "203.0.113.7:22", true},
		{Open, "", ":22", nil, "203.0.113.7:22", false},
		{Closed, "", "", nil, "203.0.113.7:443", false},
		{Closed, "api.fernhollow.example", "", api, "203.0.113.7:8443", true},
		{Closed, "api.fernhollow.example:443", "", api, "203.0.113.7:8443", false},
		{Closed, "api.fernhollow.example", "", nil, "203.0.113.7:443", false},
		{Closed, "*.fernhollow.example", "", api, "203.0.113.7:443", true},
		{Closed, "*.api.fernhollow.example", "", api, "203.0.113.7:443", false},
		{Closed, "203.0.113.0/24", "", nil, "203.0.113.7:25", true},
		{Closed, "203.0.113.0/24", "203.0.113.7", nil, "203.0.113.7:25", false},
		{Closed, "203.0.113.7", "", nil, "[::ffff:203.0.113.7]:443", true},
		{Web, "", "*.fernhollow.example", api, "203.0.113.7:443", false},
		{Web, ":8080", "", nil, "203.0.113.7:8080", true},
		{Web, "[2001:db8::]:8080", "", nil, "[2001:db8::]:8080", true},
	} {
		p := Of(each.usual, strings.Fields(each.allow), strings.Fields(each.refuse))
		assert.Equal(t, each.may, p.Connection(each.hosts, netip.MustParseAddrPort(each.to)), each)
	}
}

func TestWhichNamesMayBeLookedUp(t *testing.T) {
	for _, each := range []struct {
		usual, allow, refuse, host string
		may                        bool
	}{
		{Web, "", "", "api.fernhollow.example", true},
		{Web, "", "api.fernhollow.example", "API.fernhollow.example.", false},
		{Web, "", "api.fernhollow.example:8080", "api.fernhollow.example", true},
		{Closed, "", "", "api.fernhollow.example", false},
		{Closed, "*.fernhollow.example", "", "api.fernhollow.example", true},
		{Closed, "*.fernhollow.example", "", "fernhollow.example", false},
		{Closed, "203.0.113.0/24", "", "fernhollow.example", true},
	} {
		assert.Equal(t, each.may, Of(each.usual, strings.Fields(each.allow), strings.Fields(each.refuse)).Name(each.host), each)
	}
}

func TestOnlyNamedPortsOfThisMachineAreOpen(t *testing.T) {
	search := netip.MustParseAddrPort("127.0.0.1:9200")
	for entry, open := range map[string]bool{"127.0.0.1:9200": true, "localhost:9200": true, "127.0.0.1": false, "127.0.0.0/8": false,
		":9200": false, "0.0.0.0/0": false, "127.0.0.0/8:9200": false, "127.0.0.1:9201": false, "[::1]:9200": false} {
		assert.Equal(t, open, Of(Open, []string{entry}, nil).Here(search), entry)
	}
	assert.True(t, Of(Closed, []string{"[::1]:9200"}, nil).Here(netip.MustParseAddrPort("[::1]:9200")))
}

func TestEntriesThatAreNone(t *testing.T) {
	for _, text := range []string{"", "*", "*.", ":", ":0", ":65536", "a b", "http://fern.example", "fern.example/path", "fern..example",
		"*.*.example", "10.0.0.0/33", "-fern.example"} {
		_, err := Parse(text)
		assert.Error(t, err, text)
	}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String().Draw(t, "text")
		if e, err := Parse(text); err == nil {
			require.True(t, e.host != "" || e.network.IsValid() || e.port != 0, "%q is about everything", text)
		}
	})
}
