package cms_test

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
)

// A site at a host tells its title and its sub-sites through whoever can ask its database.
func TestASiteElsewhereIsAsked(t *testing.T) {
	k, _ := cms.All(t.TempDir())
	asked := []string{}
	answers := map[string][][]string{"blogname": {{"Fern &amp; Moss"}},
		"blogs": {{"orchard.example/north/"}, {"orchard.example/a/b/"}, {"other.example/x/"}, {"south.orchard.example/"}}}
	there := cms.Elsewhere{Definition: k["wordpress"], Prefix: "k_", Ask: func(statement string) ([][]string, error) {
		asked = append(asked, statement)
		for word, rows := range answers {
			if strings.Contains(statement, word) {
				return rows, nil
			}
		}
		return nil, nil
	}}
	title, err := there.Title()
	require.NoError(t, err)
	assert.Equal(t, "Fern & Moss", title)
	assert.Contains(t, asked[0], "`k_options`")
	names, err := there.SubSites("folders", "https://orchard.example")
	require.NoError(t, err)
	assert.Equal(t, []string{"north"}, names, "no other host's, and none below another one")
	names, err = there.SubSites("domains", "https://orchard.example")
	require.NoError(t, err)
	assert.Equal(t, []string{"south"}, names)
	answers = nil
	title, err = there.Title()
	require.NoError(t, err)
	assert.Empty(t, title)
	gone := errors.New("the host is gone")
	there.Ask = func(string) ([][]string, error) { return nil, gone }
	_, err = there.Title()
	require.ErrorIs(t, err, gone)
	there.Definition = k["empty"]
	title, err = there.Title()
	require.NoError(t, err, "it does not say how, and nothing is asked")
	assert.Empty(t, title)
}

func TestANetworkIsRecognised(t *testing.T) {
	all, _ := cms.All(t.TempDir())
	k := all["wordpress"]
	for text, mode := range map[string]string{
		"define( 'MULTISITE', true );\ndefine( 'SUBDOMAIN_INSTALL', false );": "folders",
		"define('MULTISITE',true);define(\"SUBDOMAIN_INSTALL\",TRUE);":        "domains",
		"define( 'WP_ALLOW_MULTISITE', true );":                               "",
		"define( 'MULTISITE', false );":                                       "",
		"":                                                                    "",
	} {
		assert.Equal(t, mode, k.IsNetwork([]byte(text)), text)
	}
	assert.Empty(t, all["spip"].IsNetwork([]byte("define('MULTISITE', true);")))
}

// Rows that change by themselves are told from those that somebody changed, also in the tables of sub-sites.
func TestWhatChangesByItself(t *testing.T) {
	all, _ := cms.All(t.TempDir())
	restless := all["wordpress"].IsRestless("k_")
	for row, is := range map[string]bool{
		"k_options ('7','_transient_doing_cron','1','on'":                    true,
		"k_options ('7','_site_transient_update_core','1','on'":              true,
		"k_options ('1','cron','a:1:{}','on'":                                true,
		"k_4_options ('1','cron','a:1:{}','on'":                              true,
		"k_options ('1','cron_of_mine','a:1:{}','on'":                        false,
		"k_options ('1','blogname','_transient_','on'":                       false,
		"k_posts ('7','_transient_doing_cron','1','on'":                      false,
		"other_options ('1','cron','a:1:{}','on'":                            false,
		"k_usermeta ('18','1','session_tokens','a:1:{}'":                     true,
		"k_usermeta ('18','1','nickname','session_tokens'":                   false,
		"k_postmeta ('15','10','_oembed_4a7aa813ebcf989329b8327d83f434ff','": true,
		"k_postmeta ('15','10','_thumbnail_id','7'":                          false,
	} {
		table, text, _ := strings.Cut(row, " ")
		assert.Equal(t, is, restless(table, text), row)
	}
	k := all["wordpress"]
	for table, people := range map[string]bool{"k_users": true, "k_usermeta": true, "k_comments": true, "k_12_comments": true,
		"k_posts":   false,
		"k_options": false, "users": false, "k_usersx": false, "k_12comments": false} {
		assert.Equal(t, people, k.TellsOfPeople(table, "k_"), table)
	}
	for table, bare := range map[string]string{"k_posts": "posts", "k_3_posts": "posts", "k_3posts": "3posts", "posts": "", "k_": "",
		"k_3_": ""} {
		assert.Equal(t, bare, cms.BareTable(table, "k_"), table)
	}
}

// What a live site should not have is found in its configuration and its database, and nothing else is taken for it.
func TestWhatIsAmissAtALiveSite(t *testing.T) {
	all, _ := cms.All(t.TempDir())
	answers := map[string]string{}
	there := cms.Elsewhere{Definition: all["wordpress"], Prefix: "k_", Ask: func(statement string) ([][]string, error) {
		for part, answer := range answers {
			if strings.Contains(statement, part) {
				return [][]string{{answer}}, nil
			}
		}
		return nil, nil
	}}
	for _, each := range []struct{ configuration, asked, answer, says string }{
		{"define('WP_DEBUG', false);\n// define('WP_DEBUG', true);", "blog_public", "1", ""},
		{"define( 'WP_DEBUG', true );", "", "", "WP_DEBUG is on"},
		{"", "blog_public", "0", "search engines are shut out"},
		{"", "admin_email", "ines@orchard.localhost", "its mail is from ines@orchard.localhost"},
		{"", "admin_email", "ines@orchard.org", ""},
		{"", "user_login", "admin", "a user is called admin"},
		{"", "user_login", "adm\x1b[2Jin", `a user is called adm\x1b[2Jin`},
	} {
		answers = map[string]string{each.asked: each.answer}
		if each.asked == "" {
			answers = nil
		}
		found, err := there.Amiss([]byte(each.configuration))
		require.NoError(t, err)
		if each.says == "" {
			assert.Empty(t, found, each)
			continue
		}
		require.Len(t, found, 1, each)
		assert.True(t, strings.HasPrefix(found[0], each.says), found[0])
	}
}
