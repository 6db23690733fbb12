package users

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vessik/internal/core/site"
)

func TestATicketIsGoodOnceAndForItsSite(t *testing.T) {
	f := &Feature{}
	fern, moss := site.Site{Name: "fern", Probe: "of fern"}, site.Site{Name: "moss"}
	draw := func(until time.Time) {
		f.tickets.valid = map[string]ticket{"token": {"fern", "ines", until}}
	}
	draw(time.Now().Add(time.Minute))
	user, secret, ok := f.TakeTicket(fern, "token")
	assert.True(t, ok)
	assert.Equal(t, "ines of fern", user+" "+secret)
	_, _, ok = f.TakeTicket(fern, "token")
	assert.False(t, ok, "used")
	draw(time.Now().Add(time.Minute))
	_, _, ok = f.TakeTicket(moss, "token")
	assert.False(t, ok, "of another site")
	_, _, ok = f.TakeTicket(fern, "token")
	assert.False(t, ok, "and used up by it")
	draw(time.Now().Add(-time.Second))
	_, _, ok = f.TakeTicket(fern, "token")
	assert.False(t, ok, "too late")
}
