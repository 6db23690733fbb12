package test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// This file's name puts it last: by then the ticket that was drawn first is long over.
func TestATicketIsNoGoodAfterAMinute(t *testing.T) {
	shared(t)
	time.Sleep(time.Until(earlyTicket.ExpiresAt) + time.Second)
	status, text, answer := get(t, earlyTicket.URL)
	assert.Equal(t, 403, status)
	assert.Contains(t, text, "within a minute")
	assert.Empty(t, answer.Values("Set-Cookie"))
}
