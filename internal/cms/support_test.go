package cms

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vessik/internal/core/site"
)

func TestWhatIsKnownOfACMS(t *testing.T) {
	definitions, _ := All("")
	known, warning := definitions.SupportWords(site.CMS{Name: "wordpress", Version: "6.1"}, "php-8.2")
	assert.Equal(t, "wordpress 6.1 is known to work on PHP 5.6 to 8.2", known)
	assert.Empty(t, warning)
	_, warning = definitions.SupportWords(site.CMS{Name: "wordpress", Version: "6.1"}, "php-8.4")
	assert.Equal(t, "wordpress 6.1 is not known to work on php-8.4", warning)
	_, warning = definitions.SupportWords(site.CMS{Name: "wordpress", Version: "6.8"}, "php-7.4")
	assert.Empty(t, warning)
	known, warning = definitions.SupportWords(site.CMS{Name: "moss", Version: "1"}, "php-8.4")
	assert.Equal(t, "nothing is known of moss 1", known)
	assert.Empty(t, warning)
}
