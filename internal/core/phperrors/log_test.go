package phperrors

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const log = `[28-Nov-2026 18:00:00 UTC] PHP Warning:  Undefined variable $fern in /srv/site/a b.php on line 12
[28-Nov-2026 19:00:01 Europe/Budapest] PHP Fatal error:  Uncaught Error: Call to undefined function moss() in /srv/site/index.php:3
Stack trace:
#0 {main}
  thrown in /srv/site/index.php on line 3
[28-Nov-2026 18:00:02 UTC] what the site writes itself
[28-Nov-2026 18:00:02 UTC] request {"method":"GET","uri":"\/shop\/?q=\u00e9","said":["\/srv\/site\/a b.php:12"]}
[28-Nov-2026 18:00:03 Nowhere/Town] PHP Deprecated:  strftime() in the garden in /srv/site/inc.php(3) : eval()'d code on line 1
[28-Nov-2026 18:00:04 UTC] PHP Notice:  no place
[28-Nov-2026 18:00:05 UTC] request {"method":"POST","uri":"/\u001b[2J","said":["/srv/site/index.php:3"]}
[28-Nov-2026 18:00:05 UTC] request nothing
`

func TestMessagesAreReadWithTheirRequests(t *testing.T) {
	now := time.Date(2026, 11, 28, 18, 0, 2, 0, time.UTC)
	got := Read("half a line\n"+log, now)
	for i := range got {
		got[i].At = got[i].At.UTC()
	}
	assert.Equal(t, []Message{
		{now.Add(-2 * time.Second), Warning, "Undefined variable $fern", "/srv/site/a b.php", 12, "GET /shop/?q=é"},
		{now.Add(-time.Second), Error, "Uncaught Error: Call to undefined function moss()\n#0 {main}", "/srv/site/index.php", 3, "POST /[2J"},
		{now, Deprecated, "strftime() in the garden", "/srv/site/inc.php(3) : eval()'d code", 1, ""},
	}, got)
}

func TestAMessageIsCut(t *testing.T) {
	text, file := strings.Repeat("é", 3000), strings.Repeat("/x", 3000)
	got := Read("[28-Nov-2026 18:00:00 UTC] PHP Parse error:  "+text+" in "+file+" on line 1\n", time.Now())
	assert.Len(t, got, 1)
	assert.Equal(t, Error, got[0].Kind)
	assert.Len(t, got[0].Text, longestText)
	assert.Len(t, got[0].File, longestFile)
}
