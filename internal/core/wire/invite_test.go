package wire

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatGuestsMayIsJudged(t *testing.T) {
	for want, terms := range map[string]Terms{"": {Password: "pear tree", Only: "/spip.php?article12", ReadOnly: true},
		"open": {Open: true, Password: "pear tree"}, "password": {Password: "12345"}, "only": {Only: "shop"}} {
		field, message, remedy := terms.Wrong()
		assert.Equal(t, want, field)
		assert.Equal(t, want == "", message == "" && remedy == "")
	}
	for _, only := range []string{"/../wp-admin/", "/a\nb", "//elsewhere.example", "shop/", "/\x00", `/\`} {
		field, _, _ := Terms{Only: only}.Wrong()
		assert.Equal(t, "only", field, "%q", only)
	}
}
