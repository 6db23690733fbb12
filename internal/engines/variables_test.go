package engines

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesOfVariables(t *testing.T) {
	for name, good := range map[string]bool{"max_connections": true, "innodb-buffer-pool-size": true, "": false, "a b": false, "x;y": false,
		"Max": false} {
		assert.Equal(t, good, variableName(name), name)
	}
}
