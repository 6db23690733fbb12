package trial

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/plan"
)

func TestWhatPHPSaidIsCounted(t *testing.T) {
	log := filepath.Join(t.TempDir(), "php-error.log")
	assert.Empty(t, messagesOf(log, "/srv/moss"))
	require.NoError(t, os.WriteFile(log, []byte(
		`[23-Nov-2026 11:00:00 UTC] PHP Deprecated:  trim(): Passing null is deprecated in /srv/moss/wp-includes/a.php on line 7
[23-Nov-2026 11:00:00 UTC] PHP Deprecated:  trim(): Passing null is deprecated in /srv/moss/wp-includes/a.php on line 7
[23-Nov-2026 11:00:00 UTC] PHP Deprecated:  once in /srv/moss/b.php on line 1
[23-Nov-2026 11:00:01 UTC] PHP Fatal error:  Uncaught Error: Call to undefined function frost() in /srv/moss/c.php:3
Stack trace:
#0 {main}
  thrown in /srv/moss/c.php on line 3
[23-Nov-2026 11:00:01 UTC] PHP Warning:  Undefined array key in /elsewhere/d.php on line 2
`), 0o600))
	assert.Equal(t, []plan.Message{
		{Level: "Fatal error", Text: "Uncaught Error: Call to undefined function frost()", Where: "c.php:3", Count: 1},
		{Level: "Warning", Text: "Undefined array key", Where: "/elsewhere/d.php:2", Count: 1},
		{Level: "Deprecated", Text: "trim(): Passing null is deprecated", Where: "wp-includes/a.php:7", Count: 2},
		{Level: "Deprecated", Text: "once", Where: "b.php:1", Count: 1},
	}, messagesOf(log, "/srv/moss"))
}
