package test

import (
	"context"
	"html"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

// A second real CMS: nothing in the core knows either.
func TestSPIPOnTwoStacks(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "seed-press", CMS: "spip", Title: "Seeds & Swaps"},
		client.Request{Name: "moss-press", CMS: "spip", Web: "apache-2.4-bookworm", Database: "11.8", Prefix: "moss_",
			Touches: []string{"no-comments", "no-notices"}}))
	defer s.retire(t, "seed-press", "moss-press")
	for _, name := range []string{"seed-press", "moss-press"} {
		made := s.secrets(t, name)
		assert.Equal(t, "php-8.4", made.Stack.PHP.Engine, "the one that Debian's SPIP works on")
		users, err := s.Users(context.Background(), name)
		require.NoError(t, err)
		require.Len(t, users, 1)
		assert.Equal(t, "administrator", users[0].Role)
		ticket, err := s.Ticket(context.Background(), name, "")
		require.NoError(t, err)
		visitor := anybody(t)
		response, err := visitor.Get(ticket.URL)
		require.NoError(t, err)
		assert.Contains(t, readAll(t, response), `id="bando_navigation"`)
		assert.Equal(t, "/ecrire/", response.Request.URL.Path)
		status, _, answer := get(t, ticket.URL)
		assert.Equal(t, 403, status)
		assert.Empty(t, answer.Values("Set-Cookie"))
		for _, path := range []string{"config/connect.php", "config/cles.php", "tmp/meta_cache.php", "vendor/autoload.php"} {
			status, text, _ := get(t, made.URL+path)
			assert.GreaterOrEqual(t, status, 400, path)
			assert.NotContains(t, text, made.Database.Password)
		}
		s.setPassword(t, name, made.Administrator.Name)
		watched := s.do(t, plan.Verify, name)
		requirePassed(t, watched)
		assert.Equal(t, "pass", string(watched.Sites[0].Report.Result("sign-in").Verdict))
	}
	forgetsAPassword(t, s, s.site(t, "seed-press"))
	shown, errs, code := s.cli("site", "moss-press")
	require.Zero(t, code, errs)
	assert.Regexp(t, `sign in +http://moss-press\.localhost\S*/spip\.php\?page=login`, shown)
	assert.Regexp(t, `finishing touches +no-comments, no-notices\n`, shown)
	_, errs, code = s.cli("users", "moss-press", "-replace", "moss-press-keeper", "-by", "tobias")
	require.Zero(t, code, errs)
	watched := s.do(t, plan.Verify, "moss-press")
	requirePassed(t, watched)
	assert.Equal(t, "pass", string(watched.Sites[0].Report.Result("sign-in").Verdict))
	moss := s.secrets(t, "moss-press")
	assert.Equal(t, "non", query(t, moss, "SELECT valeur FROM moss_meta WHERE nom='forums_publics'"))
	query(t, moss, "SELECT 1 FROM moss_auteurs LIMIT 1")

	// Content of its own, saved and drawn twice: re-addressed, and no key in common.
	out, errs, code := run(t, "run", "moss-press", "-home", s.home, "--", "php", "-r",
		`$d = new mysqli('127.0.0.1:'.$argv[1], $argv[2], $argv[3], $argv[4]);
$d->query("INSERT INTO moss_rubriques (titre, texte, statut, lang) 
	VALUES ('Mosses', 'See [here->".$argv[5]."mosses] and http://moss-press.localhost.evil/', 'publie', 'en')"); echo $d->error;`, "--",
		strconv.Itoa(moss.Database.Port), moss.Database.User, moss.Database.Password, moss.Database.Name, moss.URL)
	require.Zero(t, code, out+errs)
	assert.Empty(t, out)
	_, errs, code = s.cli("stencil", "save", "moss-press", "mosses")
	require.Zero(t, code, errs)
	defer s.cli("stencil", "drop", "mosses")
	requirePassed(t, s.made(t, client.Request{Name: "draw-a", Stencil: "mosses"}, client.Request{Name: "draw-b", Stencil: "mosses"},
		client.Request{Name: "draw-c", CopyOf: "seed-press"}))
	defer s.retire(t, "draw-a", "draw-b", "draw-c")
	keys := map[string]bool{}
	for _, name := range []string{"moss-press", "draw-a", "draw-b"} {
		made := s.secrets(t, name)
		key, err := os.ReadFile(filepath.Join(made.Folder, "config/cles.php"))
		require.NoError(t, err)
		for _, part := range strings.Split(string(key), `"`) {
			if len(part) > 40 {
				assert.False(t, keys[part], "a key of %s stands elsewhere as well", name)
				keys[part] = true
			}
		}
		text := query(t, made, "SELECT texte FROM "+made.Prefix+"rubriques")
		assert.Equal(t, "See [here->"+made.URL+"mosses] and http://moss-press.localhost.evil/", text)
	}
	assert.NotEmpty(t, keys)
	assert.Equal(t, strings.TrimSuffix(s.site(t, "draw-c").URL, "/"),
		query(t, s.secrets(t, "draw-c"), "SELECT valeur FROM "+s.site(t, "draw-c").Prefix+"meta WHERE nom='adresse_site'"))
}

// forgetsAPassword has SPIP send what lets somebody choose a new one.
func forgetsAPassword(t *testing.T, s *service, at client.Site) {
	t.Helper()
	_, page, _ := get(t, at.URL+"spip.php?page=spip_pass")
	form := url.Values{"oubli": {at.Administrator.Mail}}
	for _, field := range regexp.MustCompile(`<input name='([^']+)' type='hidden'\s+value='([^']*)'`).FindAllStringSubmatch(page, -1) {
		form.Set(field[1], html.UnescapeString(field[2]))
	}
	response, err := browser.PostForm(at.URL+"spip.php?page=spip_pass", form)
	require.NoError(t, err)
	said := readAll(t, response)
	sent, err := s.Mails(context.Background(), client.MailAsked{Site: at.Name, Wait: 10 * time.Second})
	require.NoError(t, err)
	require.Len(t, sent, 1, said)
	assert.Equal(t, []string{at.Administrator.Mail}, sent[0].To)
	whole, err := s.Mail(context.Background(), sent[0].ID)
	require.NoError(t, err)
	assert.Contains(t, whole.Message.Text, at.URL+"spip.php?page=spip_pass&p=")
}
