package provision

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/kit"
)

func TestLogsAreReadFromTheirEndAndRotated(t *testing.T) {
	path := filepath.Join(t.TempDir(), "access.log")
	lines, end := lastLines(path, 5)
	assert.Empty(t, lines)
	assert.Zero(t, end)
	var text strings.Builder
	for i := range 9000 {
		fmt.Fprintf(&text, "visitor %d came to see the ferns\n", i)
	}
	require.NoError(t, os.WriteFile(path, []byte(text.String()+"half a li"), 0o600))
	lines, end = lastLines(path, 2)
	assert.Equal(t, []string{"visitor 8998 came to see the ferns", "visitor 8999 came to see the ferns"}, lines)
	assert.Equal(t, int64(text.Len()), end, "a line that is still being written comes later")
	lines, _ = lastLines(path, 1<<20)
	assert.Less(t, len(lines), 9000, "only the end of a long file is read")
	assert.Regexp(t, `^visitor \d+ came`, lines[0], "no line is cut in two")
	rest, err := readFrom(path, end, 100)
	require.NoError(t, err)
	assert.Equal(t, "half a li", rest)

	writer, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0) // as an engine holds it
	require.NoError(t, err)
	defer writer.Close()
	for n := range 5 {
		require.NoError(t, rotate(path))
		fmt.Fprintf(writer, "after rotation %d\n", n)
	}
	now, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "after rotation 4\n", string(now), "who writes it goes on in the emptied file")
	kept, err := filepath.Glob(path + ".*")
	require.NoError(t, err)
	assert.Len(t, kept, logsKept)
	last, err := os.ReadFile(path + ".1")
	require.NoError(t, err)
	assert.Equal(t, "after rotation 3\n", string(last))
}

func TestWhatPHPSaidIsCounted(t *testing.T) {
	log := filepath.Join(t.TempDir(), "php-error.log")
	assert.Empty(t, messagesOf(log, "/srv/moss"))
	require.NoError(t, os.WriteFile(log, []byte(`[23-Nov-2026 11:00:00 UTC] PHP Deprecated:  trim(): Passing null is deprecated in /srv/moss/wp-includes/a.php on line 7
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

func TestWhatIsKnownOfACMS(t *testing.T) {
	kits, _ := kit.All("")
	known, warning := supportWords(kits, site.Kit{Name: "wordpress", Version: "6.1"}, "php-8.2")
	assert.Equal(t, "wordpress 6.1 is known to work on PHP 5.6 to 8.2", known)
	assert.Empty(t, warning)
	_, warning = supportWords(kits, site.Kit{Name: "wordpress", Version: "6.1"}, "php-8.4")
	assert.Equal(t, "wordpress 6.1 is not known to work on php-8.4", warning)
	_, warning = supportWords(kits, site.Kit{Name: "wordpress", Version: "6.8"}, "php-7.4")
	assert.Empty(t, warning)
	known, warning = supportWords(kits, site.Kit{Name: "moss", Version: "1"}, "php-8.4")
	assert.Equal(t, "nothing is known of moss 1", known)
	assert.Empty(t, warning)
}

func TestAChangeIsToldInWords(t *testing.T) {
	before := plan.Target{Stack: site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.11"}}
	after := before
	after.Stack.PHP, after.Stack.Database = "php-8.4", "mariadb-11.8"
	assert.Equal(t, "php-8.4 and mariadb-11.8", targetWords(plan.Change{Before: before, After: after}))
	after = before
	after.Settings.PHP = map[string]string{"memory_limit": "4M"}
	assert.Equal(t, "the new settings (memory_limit: 4M)", targetWords(plan.Change{Before: before, After: after}))
	for name, good := range map[string]bool{"max_connections": true, "innodb-buffer-pool-size": true, "": false, "a b": false, "x;y": false, "Max": false} {
		assert.Equal(t, good, variableName(name), name)
	}
}
