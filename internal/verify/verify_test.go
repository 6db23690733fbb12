package verify

import (
	"os"
	"path/filepath"
	"testing"

	"vessik/internal/core/check"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTitlesAreComparedByTheirLetters(t *testing.T) {
	assert.Equal(t, lettersOf(`Fern's “Garden” – 2`), lettersOf("Fern’s \"Garden\" -- 2"))
	assert.NotEqual(t, lettersOf("Fern"), lettersOf("Moss"))
	assert.Equal(t, "10.11.19", versionIn("10.11.19-MariaDB-0+deb12u1"))
	assert.Empty(t, versionIn("no version"))
}

func TestPHPErrorsInAPageAreSeen(t *testing.T) {
	for _, page := range []string{"<br />\n<b>Warning</b>:  Undefined variable $x in <b>/a.php</b>", "<b>Fatal error</b>: Uncaught",
		"There has been a critical error on this website.", "PHP Parse error: syntax"} {
		assert.True(t, phpError.MatchString(page), page)
	}
	for _, page := range []string{"<p>Warning: the path is icy</p>", "<b>Notice</b> of the keepers", "fatal error in the recipe"} {
		assert.False(t, phpError.MatchString(page), page)
	}
}

func TestTheLastFatalErrorIsQuotedWhileItIsFresh(t *testing.T) {
	log := filepath.Join(t.TempDir(), "php-error.log")
	assert.Empty(t, lastError(log))
	require.NoError(t, os.WriteFile(log, []byte("[x] PHP Fatal error:  first\n[x] PHP Fatal error:  Uncaught Error: moss in /a.php:2\n"+
		"Stack trace:\n#0 {main}\n"), 0o600))
	assert.Equal(t, ". PHP says: Uncaught Error: moss in /a.php:2", lastError(log))
}

func TestTheReadmeNamesEveryCheck(t *testing.T) {
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	seen := map[check.ID]bool{}
	for _, each := range Definitions() {
		assert.Contains(t, string(readme), "`"+string(each.ID)+"`")
		assert.NotEmpty(t, each.Title+each.Group)
		assert.False(t, seen[each.ID], "%s is there twice", each.ID)
		seen[each.ID] = true
	}
}

func TestWhatAPageLoadsOverPlainHTTPIsListed(t *testing.T) {
	assert.Equal(t, []string{"<link href> http://a.example/s.css in line 2", "<img src> HTTP://a.example/1.png in line 3",
		"<img srcset> http://a.example/3.png in line 3", "<form action> http://a.example/send in line 5"},
		Plain("<html>\n<link rel='Stylesheet' href=http://a.example/s.css><link rel=canonical href=http://a.example/>\n"+
			"<img src='HTTP://a.example/1.png' srcset='https://a.example/2.png 1x, http://a.example/3.png 2x'>\n"+
			"<a href=http://a.example/>x</a><!-- <img src=http://a.example/4.png> --><script>\"<img src='http://a.example/5.png'>\"</script>\n"+
			"<form action=http://a.example/send></form>"))
	assert.Empty(t, Plain("<img src=//a.example/1.png><script src=/x.js></script>"))
}
