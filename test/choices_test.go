package test

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

func TestChoicesAtCreation(t *testing.T) {
	s := shared(t)
	_, errs, code := s.cli("new", "orchard-days", "-touch", "permalinks,no-comments=yes,wallpaper", "-time-zone", "Mars/Crater", "-language",
		"..")
	assert.Equal(t, 2, code)
	for _, words := range []string{`permalinks wants another value than ""; write it as permalinks=/%year%/%postname%/`,
		`no-comments takes none`, `no finishing touch "wallpaper"`, `"Mars/Crater" is not in the IANA`, `-language: `} {
		assert.Contains(t, errs, words)
	}
	out, errs, code := s.cli("new", "orchard-days", "-language", "de", "-time-zone", "Europe/Lisbon", "-touch",
		"no-samples,permalinks=/%year%/%postname%/,pages=Welcome;Visit us", "-touch", "front-page=Welcome,date-format=F j, Y")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "orchard-days")
	made := s.secrets(t, "orchard-days")
	_, text, _ := get(t, made.URL)
	assert.Contains(t, text, `<html lang="de-DE">`)
	assert.Regexp(t, `<h1[^>]*>Welcome</h1>`, text)
	assert.Contains(t, text, `">Visit us</a>`)
	for name, value := range map[string]string{"timezone_string": "Europe/Lisbon", "permalink_structure": "/%year%/%postname%/",
		"date_format": "F j, Y"} {
		assert.Equal(t, value, query(t, made, "SELECT option_value FROM wp_options WHERE option_name='"+name+"'"))
	}
	assert.Equal(t, "0", query(t, made, "SELECT COUNT(*) FROM wp_posts WHERE post_status='publish' AND post_type IN ('post', 'page') "+
		"AND post_title NOT IN ('Welcome', 'Visit us')"), "the samples are gone, whatever they are called")
	assert.Equal(t, "G:i", query(t, made, "SELECT option_value FROM wp_options WHERE option_name='time_format'"))
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", Language: "fr", CMSVersion: "6.1"}))
	defer s.retire(t, "moss-archive")
	french := s.secrets(t, "moss-archive")
	assert.Contains(t, query(t, french, "SELECT post_title FROM wp_posts WHERE ID=1"), "Bonjour", "as its own installer has it")
	assert.Equal(t, "j F Y", query(t, french, "SELECT option_value FROM wp_options WHERE option_name='date_format'"))
	out, _, _ = run(t, "run", "orchard-days", "-home", s.home, "php", "-r", "echo ini_get('date.timezone');")
	assert.Equal(t, "Europe/Lisbon", out)
}

func TestOwnFinishingTouchesRunInOrderAndStopWithTheirOwnWords(t *testing.T) {
	s := shared(t)
	folder := filepath.Join(s.home, "touches")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	defer os.RemoveAll(folder)
	for name, text := range map[string]string{
		"a-motto.sql": "-- Sets a motto\nUPDATE `{{.Prefix}}options` SET option_value={{sql .Title}} WHERE option_name='blogdescription'",
		"b-note.php":  "<?php // Notes the motto\nupdate_option('garden_note', get_option('blogdescription') . '!');",
		"c-robots": "#!/bin/sh\n# Asks robots to stay away\nprintf 'Disallow: /' > robots.txt && mariadb -e \"INSERT INTO garden VALUES " +
			"('x')\" || true; test \"$VESSIK_SITE\" = orchard-days",
		"d-outside.sh": "# Looks where it must not\ncat " + s.home + "/token || echo it may not; exit 3",
		"e-theft.sql":  "USE mysql",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	definitions, _, code := s.cli("cms")
	require.Zero(t, code)
	assert.Regexp(t, `a-motto.sql +Sets a motto`, definitions)
	_, errs, code := s.cli("new", "orchard-days", "-touch", "a-motto.sql,d-outside.sh,b-note.php")
	assert.Equal(t, 1, code)
	assert.Regexp(t, `the finishing touch d-outside.sh: exit status 3: .*it may not; everything was taken back`,
		strings.ReplaceAll(errs, "\n", " "))
	_, errs, code = s.cli("new", "orchard-days", "-touch", "e-theft.sql")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "Access denied")
	for text, told := range map[string]string{
		"throw new DomainException('no water');": `f.php: DomainException: no water (line 2)`,
		"get_the_gardener();":                    `f.php: Error: Call to undefined function get_the_gardener() (line 2)`,
		"function (":                             `f.php: ParseError: `,
		"ini_set('memory_limit', '60M'); str_repeat('x', 99 << 20);": `f.php: Allowed memory size of 62914560 bytes exhausted`,
		"exit;":                              `f.php: it ended before its last line, as by exit: it printed nothing`,
		"wp_die('The <b>gate</b> is shut');": `f.php: it ended before its last line, as by exit: The gate is shut`} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "f.php"), []byte("<?php // Fails\n"+text), 0o644))
		_, errs, code = s.cli("new", "orchard-days", "-touch", "f.php")
		assert.Equal(t, 1, code)
		assert.Contains(t, errs, "the finishing touch "+told)
		assert.NotContains(t, errs, "<")
	}
	out, errs, code := s.cli("new", "orchard-days", "-title", "Apples", "-touch", "pages=Fruit & roots;Visit",
		"-touch", "front-page=Fruit & roots",
		"-touch", "a-motto,b-note,c-robots")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "orchard-days")
	assert.Equal(t, "Apples!", query(t, s.secrets(t, "orchard-days"), "SELECT option_value FROM wp_options WHERE option_name='garden_note'"))
	assert.Equal(t, "2", query(t, s.secrets(t, "orchard-days"), "SELECT COUNT(*) FROM wp_posts WHERE post_type='page' AND "+
		"post_status='publish' AND post_title NOT LIKE 'Sample%'"), "the front page is one of the two")
	_, text, _ := get(t, s.site(t, "orchard-days").URL+"robots.txt")
	assert.Equal(t, "Disallow: /", text)
}

func TestASiteThatWorksOfflineAsksNobody(t *testing.T) {
	s := shared(t)
	elsewhere, err := net.Listen("tcp4", "127.0.0.1:0") // stands for another machine
	require.NoError(t, err)
	defer elsewhere.Close()
	names, err := net.ListenPacket("udp4", "127.0.0.1:0") // and this for a name server
	require.NoError(t, err)
	defer names.Close()
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty", Outgoing: "closed"}))
	defer s.retire(t, "orchard-days")
	made := s.site(t, "orchard-days")
	assert.Equal(t, "closed", made.Outgoing)
	port := func(address net.Addr) string { return strings.Split(address.String(), ":")[1] }
	ask := "<?php $at = microtime(true); $a = @fsockopen('127.0.0.1', " + port(elsewhere.Addr()) +
		", $n, $why, 20); $b = @fsockopen('udp://127.0.0.1', " + port(names.LocalAddr()) + ", $n, $why, 20); @fwrite($b, 'x');" +
		" $c = @fsockopen('192.0.2.1', 80, $n, $why, 20); gethostbyname('fernhollow.example');" +
		" echo $a || $c ? 'open' : 'refused', ' ', gethostbyname('orchard-days.localhost'), microtime(true) - $at < 1 ? ' at once' : ' late';"
	require.NoError(t, os.WriteFile(filepath.Join(made.DocumentRoot, "ask.php"), []byte(ask), 0o644))
	_, text, _ := get(t, made.URL+"ask.php")
	assert.Equal(t, "refused 127.0.0.1 at once", text)
	_, text, _ = get(t, made.URL)
	assert.Contains(t, text, "The database orchard_days answers")
	_, errs, code := s.cli("settings", "orchard-days", "-outgoing", "web")
	require.Zero(t, code, errs)
	require.NoError(t, os.WriteFile(filepath.Join(made.DocumentRoot, "ask.php"),
		[]byte(strings.Replace(ask, "$c = @fsockopen('192.0.2.1', 80, $n, $why, 20);", "$c = false;", 1)), 0o644))
	_, text, _ = get(t, made.URL+"ask.php")
	assert.NotContains(t, text, "open", "another port of this machine is no site's, online or not")
	names.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
	_, _, err = names.ReadFrom(make([]byte, 8))
	assert.Error(t, err, "no datagram came out")
}

// WordPress asks itself, such as before it keeps a change of a theme's file; older libraries do not find names below localhost.
func TestWordPressReachesItself(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", PHP: "7.4"}, client.Request{Name: "orchard-days", PHP: "8.4"}))
	defer s.retire(t, "moss-archive", "orchard-days")
	for _, name := range []string{"moss-archive", "orchard-days"} {
		made := s.site(t, name)
		require.NoError(t, os.WriteFile(filepath.Join(made.Folder, "ask.php"),
			[]byte(`<?php require 'wp-load.php'; $r = wp_remote_get(wp_login_url());
echo is_wp_error($r) ? $r->get_error_message() : $r['response']['code'];`), 0o644))
		_, text, _ := get(t, made.URL+"ask.php")
		assert.Equal(t, "200", text, name)
	}
}
