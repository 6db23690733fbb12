package logs

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

func TestLogsAreReadFromTheirEnd(t *testing.T) {
	path := filepath.Join(t.TempDir(), "access.log")
	lines, end := logFile{path: path}.lastLines(site.Site{}, Wanted{Last: 5})
	assert.Empty(t, lines)
	assert.Zero(t, end)
	var text strings.Builder
	for i := range 9000 {
		fmt.Fprintf(&text, "visitor %d came to see the ferns\n", i)
	}
	require.NoError(t, os.WriteFile(path, []byte(text.String()+"half a li"), 0o600))
	lines, end = logFile{path: path}.lastLines(site.Site{}, Wanted{Last: 2})
	assert.Equal(t, []string{"visitor 8998 came to see the ferns", "visitor 8999 came to see the ferns"}, lines)
	assert.Equal(t, int64(text.Len()), end, "a line that is still being written comes later")
	lines, _ = logFile{path: path}.lastLines(site.Site{}, Wanted{Last: 1 << 20})
	assert.Less(t, len(lines), 9000, "only the end of a long file is read")
	assert.Regexp(t, `^visitor \d+ came`, lines[0], "no line is cut in two")
	rest, err := logFile{path: path}.readFrom(site.Site{}, end, 100)
	require.NoError(t, err)
	assert.Equal(t, "half a li", rest)
}

func TestOwnChecksStayOutOfWhatPeopleSee(t *testing.T) {
	path := filepath.Join(t.TempDir(), "access.log")
	visitor, own := `::1 "GET / HTTP/1.1" 200 "Mozilla/5.0"`, `::1 "GET / HTTP/1.1" 200 "Vessik-check"`
	require.NoError(t, os.WriteFile(path, []byte(visitor+"\n"+own+"\n"+own+"\n"), 0o600))
	access := logFile{name: accessLog, path: path}
	lines, _ := access.lastLines(site.Site{}, Wanted{Last: 2})
	assert.Equal(t, []string{visitor}, lines)
	lines, _ = access.lastLines(site.Site{}, Wanted{Last: 2, Checks: true})
	assert.Equal(t, []string{own, own}, lines)
}
