package rewrite

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const (
	hereBase  = "http://orchard-days.localhost:20080"
	guestBase = "https://k3v9x2mq.guests.example"
)

var page = `<!doctype html><a href="http://orchard-days.localhost:20080/about/">About</a>
<script>var api = {"root":"http:\/\/orchard-days.localhost:20080\/wp-json\/", "live": "ws://orchard-days.localhost:20080/live"};</script>
<style>body { background: url(//orchard-days.localhost:20080/apple.jpg) }</style>
<a href="https://example.org/?u=http%3A%2F%2Forchard-days.localhost%3A20080%2F">share</a>
<p>An orchard-days.localhost:20081 of somebody else, http://orchard-days.localhost:20081/.</p>`

func TestAPageIsLedToItsGuestsAddress(t *testing.T) {
	led := New(hereBase, guestBase).Text(page)
	for _, want := range []string{`href="https://k3v9x2mq.guests.example/about/"`, `"https:\/\/k3v9x2mq.guests.example\/wp-json\/"`,
		`"wss://k3v9x2mq.guests.example/live"`, `url(//k3v9x2mq.guests.example/apple.jpg)`, `u=https%3A%2F%2Fk3v9x2mq.guests.example%2F"`,
		"http://orchard-days.localhost:20081/"} {
		require.Contains(t, led, want)
	}
	require.Equal(t, page, New(guestBase, hereBase).Text(led), "and back again nothing is lost")
}

func TestAStreamLeadsAddressesHoweverTheyAreCut(t *testing.T) {
	want := New(hereBase, guestBase).Text(page)
	rapid.Check(t, func(t *rapid.T) {
		var out strings.Builder
		stream := NewStream(&out, New(hereBase, guestBase))
		for rest := page; rest != ""; {
			n := rapid.IntRange(1, min(len(rest), 60)).Draw(t, "piece")
			written, err := stream.Write([]byte(rest[:n]))
			require.NoError(t, err)
			require.Equal(t, n, written)
			rest = rest[n:]
		}
		require.NoError(t, stream.Close())
		require.Equal(t, want, out.String())
	})
}

func TestAStreamKeepsNoMoreThanItMust(t *testing.T) {
	var out strings.Builder
	stream := NewStream(&out, New(hereBase, guestBase))
	long := strings.Repeat("A", 10*longestHeld)
	for range 10 {
		stream.Write([]byte(long))
	}
	require.Less(t, len(stream.held), 2*longestHeld)
	require.NoError(t, stream.Close())
	require.Equal(t, 10*len(long), out.Len())
	stream.Write([]byte("data: now\n\n"))
	require.True(t, strings.HasSuffix(out.String(), "data: now\n\n"), "an event goes on as soon as it is there")
}

func BenchmarkGuestPage(b *testing.B) {
	text := []byte(strings.Repeat(page, 100<<10/len(page)+1)[:100<<10])
	b.SetBytes(int64(len(text)))
	r := New(hereBase, guestBase)
	for b.Loop() {
		var out strings.Builder
		stream := NewStream(&out, r)
		stream.Write(text)
		stream.Close()
	}
}
