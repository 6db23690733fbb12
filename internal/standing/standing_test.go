package standing

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesThatARelayTellsCanBeCopiedIntoCommands(t *testing.T) {
	for told, want := range map[string]string{"orchard-days": "orchard-days", "xn--grten-hra": "xn--grten-hra", "": "",
		"x; rm -rf ~": "x--rm--rf--", "a$(b)`c`\n\x1b[2J": "a--b--c----2-", "moss\u202e": "moss-"} {
		assert.Equal(t, want, plain(told))
	}
}
