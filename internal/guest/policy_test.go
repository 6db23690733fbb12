package guest

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPolicyAdmitsTheScriptAndNothingElse(t *testing.T) {
	for policy, want := range map[string]string{
		"default-src 'self'": "default-src 'self'; script-src 'self'; connect-src 'self'",
		"script-src 'none'; connect-src https://a.example": "script-src 'self'; connect-src https://a.example 'self'",
		"script-src 'self' 'unsafe-inline'; img-src *":     "script-src 'self' 'unsafe-inline'; img-src *",
		"default-src https://a.example; script-src-elem 'self'": "default-src https://a.example; script-src-elem 'self'; connect-src " +
			"https://a.example 'self'",
		"frame-ancestors 'none'; upgrade-insecure-requests;": "frame-ancestors 'none'; upgrade-insecure-requests",
		"script-src 'strict-dynamic' 'nonce-abc'":            "script-src 'strict-dynamic' 'nonce-abc' 'nonce-once'",
	} {
		assert.Equal(t, want, admitIn(policy, "once"), policy)
	}
	head := http.Header{policyField: {"script-src 'strict-dynamic'", "img-src *"}}
	assert.Regexp(t, `^<script nonce="[A-Z2-7]{26}" src=x>$`, admit(head, "<script src=x>"))
	assert.Equal(t, "<script src=x>", admit(http.Header{}, "<script src=x>"))
}
