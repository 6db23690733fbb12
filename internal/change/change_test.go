package change

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

func TestAChangeIsToldInWords(t *testing.T) {
	before := plan.Target{Stack: site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.11"}}
	after := before
	after.Stack.PHP, after.Stack.Database = "php-8.4", "mariadb-11.8"
	assert.Equal(t, "php-8.4 and mariadb-11.8", targetWords(plan.Change{Before: before, After: after}))
	after = before
	after.Settings.PHP = map[string]string{"memory_limit": "4M"}
	assert.Equal(t, "the new settings (memory_limit: 4M)", targetWords(plan.Change{Before: before, After: after}))
}
