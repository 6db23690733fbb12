package test

import (
	"compress/gzip"
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

func TestARenamedSiteIsReaddressedAndItsOldDomainLeadsToIt(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Title: "Orchard Days", Web: "apache"}))
	made := s.secrets(t, "orchard-days")
	out, errs, code := run(t, "run", "orchard-days", "-home", s.home, "--", "php", "-r",
		`require 'wp-load.php'; wp_insert_post(['post_title' => 'Apples', 'post_name' => 'apples', 'post_status' => 'publish',
'post_content' => home_url('/x').' http://orchard-days.localhost.evil/ mail@orchard-days.localhost']); update_option('deep',
['a' => serialize(['b' => home_url('/y')]), 'path' => WP_CONTENT_DIR . '/uploads']);
update_option('builder', base64_encode(home_url('/z')));`)
	require.Zero(t, code, out+errs)
	out, errs, code = s.cli("rename", "orchard-days", "apple-days", "-dry-run")
	require.Zero(t, code, errs)
	assert.Regexp(t, `_posts +\d+ addresses in \d+ values`, out)
	assert.Regexp(t, `_options +\d+ addresses and 1 path in \d+ values`, out)
	assert.Regexp(t, `(?s)left alone.*_options +encoded in base64`, out)
	assert.Regexp(t, `(?s)left alone.*_posts.*orchard-days.localhost.evil`, out)
	assert.Equal(t, "orchard-days", s.site(t, "orchard-days").Name, "nothing was changed")

	for _, bad := range []struct{ words []string }{{[]string{"fernhollow"}}, {[]string{"Apple Days"}},
		{[]string{"-domain", "fernhollow.localhost"}}, {[]string{"-domain", "apples.dev"}}, {[]string{}}} {
		_, _, code = s.cli(append([]string{"rename", "orchard-days"}, bad.words...)...)
		assert.Equal(t, 2, code, "%s", bad.words)
	}
	out, errs, code = s.cli("rename", "orchard-days", "apple-days")
	assert.Regexp(t, `longest time without an answer [0-4]?\d{1,3} ms`, out, "it is asked at its new address, too")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "11 of 11 passed")
	renamed := s.secrets(t, "apple-days")
	defer s.retire(t, "apple-days")
	assert.Equal(t, strings.Replace(made.URL, "orchard-days", "apple-days", 1), renamed.URL)
	assert.Equal(t, strings.Replace(made.Folder, "orchard-days", "apple-days", 1), renamed.Folder)
	assert.NoDirExists(t, made.Folder)
	for _, place := range []string{"logs/sites", "mail", "run/php", "tmp", "restore"} {
		assert.NoDirExists(t, filepath.Join(s.home, place, "orchard-days"))
	}
	requirePassed(t, s.do(t, plan.Verify, "apple-days"))
	text := query(t, renamed, "SELECT post_content FROM wp_posts WHERE post_name='apples'")
	assert.Equal(t, renamed.URL+"x http://orchard-days.localhost.evil/ mail@orchard-days.localhost", text)
	assert.Contains(t, query(t, renamed, "SELECT option_value FROM wp_options WHERE option_name='deep'"), renamed.URL+"y")
	assert.Contains(t, query(t, renamed, "SELECT option_value FROM wp_options WHERE option_name='deep'"),
		fmt.Sprintf(`s:%d:"%s/wp-content/uploads"`, len(renamed.Folder)+len("/wp-content/uploads"), renamed.Folder))
	status, _, answer := get(t, made.URL+"apples/?a=1")
	assert.Equal(t, 307, status)
	assert.Equal(t, renamed.URL+"apples/?a=1", answer.Get("Location"))

	// Its name and its database's are free for another site; its old domain is not, until it is forgotten.
	derived, err := s.PreviewSites(context.Background(), client.Request{Name: "orchard-days"})
	require.NoError(t, err)
	require.Len(t, derived.Problems, 1)
	assert.Contains(t, derived.Problems[0].String(), "orchard-days.localhost still leads to the site apple-days")
	_, errs, code = s.cli("domains", "apple-days", "-drop", "orchard-days.localhost", "-add", "apples.localhost")
	require.Zero(t, code, errs)
	status, _, _ = get(t, made.URL)
	assert.Equal(t, 404, status)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}))
	defer s.retire(t, "orchard-days")
	assert.Equal(t, "orchard_days_2", s.site(t, "orchard-days").Database.Name)
	further := strings.Replace(made.URL, "orchard-days", "apples", 1)
	status, _, answer = get(t, further)
	assert.Contains(t, []int{200, 301}, status, "the CMS answers, or leads to its own domain: %v", answer)
	_, errs, code = s.cli("domains", "orchard-days", "-add", "apples.localhost")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "belongs to the site apple-days")
}

func TestARenameThatIsKilledIsDoneOrTakenBack(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	s := start(t, home)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", Title: "The Moss Archive"}))
	name, other := "moss-archive", "fern-archive"
	for _, after := range []time.Duration{150, 450} {
		_, err := s.Rename(context.Background(), name, client.Rename{Name: other})
		require.NoError(t, err)
		time.Sleep(after * time.Millisecond)
		s.kill()
		s = start(t, home)
		sites, err := s.Sites(context.Background(), false)
		require.NoError(t, err)
		require.Len(t, sites, 1)
		if sites[0].Name == other {
			name, other = other, name
		}
		require.Equal(t, name, sites[0].Name)
		assert.Equal(t, name+".localhost", sites[0].Domain, "after %d ms", after)
		assert.Equal(t, filepath.Join(home, "sites", name), sites[0].Folder)
		assert.NoDirExists(t, filepath.Join(home, "sites", other))
		requirePassed(t, s.do(t, plan.Verify, name))
		assert.Equal(t, strings.TrimSuffix(sites[0].URL, "/"),
			query(t, s.secrets(t, name), "SELECT option_value FROM wp_options WHERE option_name='siteurl'"))
	}
}

func TestADumpIsLoadedIntoASiteAfterASafetyCopy(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Title: "Orchard Days"}))
	defer s.retire(t, "orchard-days")
	made := s.secrets(t, "orchard-days")
	dump := func(name, text string) string {
		path := filepath.Join(filepath.Dir(s.home), name)
		file, err := os.Create(path)
		require.NoError(t, err)
		zipped := gzip.NewWriter(file)
		fmt.Fprint(zipped, text)
		require.NoError(t, zipped.Close())
		require.NoError(t, file.Close())
		return path
	}
	// A dump that has no user and no front page: the site would be worse off.
	out, errs, code := s.cli("load", "orchard-days", dump("bad.sql.gz",
		"CREATE TABLE `old_options` (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(191), option_value LONGTEXT, autoload "+
			"VARCHAR(20));\nINSERT INTO `old_options` VALUES (1,'siteurl','https://old.example','yes'); CREATE TABLE `old_usermeta` (umeta_id "+
			"INT, user_id INT, meta_key VARCHAR(255), meta_value LONGTEXT);"))
	assert.Equal(t, 3, code, out)
	assert.Contains(t, errs, "the site went back to what it was, proven by a second report")
	requirePassed(t, s.do(t, plan.Verify, "orchard-days"))

	empty := filepath.Join(filepath.Dir(s.home), "empty.sql")
	require.NoError(t, os.WriteFile(empty, nil, 0o644))
	_, errs, code = s.cli("load", "orchard-days", empty)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is empty", "it is not tried")

	broken := dump("broken.sql.gz", "CREATE TABLE a (b INT); THIS IS NO SQL;")
	_, errs, code = s.cli("load", "orchard-days", broken)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "the site is as it was")
	requirePassed(t, s.do(t, plan.Verify, "orchard-days"))

	// A whole one, made of another site with another address and prefix.
	from := s.secrets(t, "seed-exchange")
	pool, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", from.Database.User, from.Database.Password, from.Database.Port,
		from.Database.Name))
	require.NoError(t, err)
	defer pool.Close()
	whole := ""
	mysqldump, errs, code := run(t, "run", "seed-exchange", "-home", s.home, "--", "php", "-r",
		`require 'wp-load.php'; foreach ($wpdb->get_col('SHOW TABLES') as $t) { echo $wpdb->get_row("SHOW CREATE TABLE `+"`$t`"+
			`", ARRAY_N)[1], ";\n"; foreach ($wpdb->get_results("SELECT * FROM `+"`$t`"+`", ARRAY_N) as $r) { echo "INSERT INTO `+"`$t`"+
			` VALUES (", implode(',', array_map(fn($v) => $v === null ? 'NULL' : "'".mysqli_real_escape_string($wpdb->dbh, $v)."'", $r)),
");\n"; } }`)
	require.Zero(t, code, errs)
	whole = strings.ReplaceAll(mysqldump, strings.TrimSuffix(from.URL, "/"), "https://seeds.example")
	path := dump("whole.sql.gz", whole)
	out, errs, code = s.cli("load", "orchard-days", path, "-dry-run")
	require.Zero(t, code, errs)
	assert.Regexp(t, `_options +\d+ addresses`, out)
	out, errs, code = s.cli("load", "orchard-days", path)
	require.Zero(t, code, out+errs)
	loaded := s.secrets(t, "orchard-days")
	assert.Equal(t, made.Prefix, loaded.Prefix)
	assert.Equal(t, strings.TrimSuffix(made.URL, "/"), query(t, loaded, "SELECT option_value FROM wp_options WHERE option_name='siteurl'"))
	_, text, _ := get(t, made.URL)
	assert.Contains(t, text, "Fernhollow Seed Exchange")
	ticket, err := s.Ticket(context.Background(), "orchard-days", "")
	require.NoError(t, err)
	assert.Equal(t, "head-keeper", ticket.User, "the dump's own administrator")
	response, err := anybody(t).Get(ticket.URL)
	require.NoError(t, err)
	assert.Contains(t, readAll(t, response), `id="wpadminbar"`)

	// That administrator becomes the site's own, and keeps what it wrote.
	wrote := query(t, loaded, "SELECT CONCAT(COUNT(*), ' of ', post_author) FROM wp_posts WHERE post_status='publish'")
	for replace, words := range map[string]string{"tobias": `-replace: no administrator is called "tobias"; choose one of head-keeper`,
		"head-keeper -by Admin": "-by: ", "head-keeper -mail ines": "-mail: ", "head-keeper -password short": "-password: "} {
		_, errs, code = s.cli(append([]string{"users", "orchard-days", "-replace"}, strings.Fields(replace)...)...)
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, words)
	}
	out, errs, code = s.cli("users", "orchard-days", "-replace", "head-keeper", "-mail", "ines@fernhollow.example")
	require.Zero(t, code, errs)
	own := s.secrets(t, "orchard-days")
	assert.Equal(t, "orchard-days-keeper: "+own.Administrator.Password+"\n", out)
	assert.Equal(t, "orchard-days-keeper ines@fernhollow.example", query(t, own, "SELECT CONCAT(user_login, ' ', user_email) FROM wp_users"))
	assert.Equal(t, wrote, query(t, own, "SELECT CONCAT(COUNT(*), ' of ', post_author) FROM wp_posts WHERE post_status='publish'"))
	watched := s.do(t, plan.Verify, "orchard-days")
	requirePassed(t, watched)
	assert.Equal(t, "pass", string(watched.Sites[0].Report.Result("sign-in").Verdict))
	points, err := filepath.Glob(filepath.Join(s.home, "restore", "orchard-days", "*", "point.json"))
	require.NoError(t, err)
	assert.NotEmpty(t, points)
}

func TestOtherEndingsAreToldToThisMachineWhereTheUserAllowsIt(t *testing.T) {
	hosts := filepath.Join(newHome(t) + "-hosts")
	own := "127.0.0.1 localhost\n10.0.0.9 gate # mine\n"
	require.NoError(t, os.WriteFile(hosts, []byte(own), 0o666))
	require.NoError(t, os.Chmod(hosts, 0o666))
	s := start(t, newHome(t), "-hosts-file", hosts)
	read := func() string {
		text, err := os.ReadFile(hosts)
		require.NoError(t, err)
		return string(text)
	}
	watched := s.made(t, client.Request{Name: "moss-archive", CMS: "empty", Domain: "moss.test", Domains: []string{"mosses.test"}})
	require.Equal(t, plan.OperationDone, watched.State)
	result := watched.Sites[0].Report.Result("domain-routes")
	assert.Equal(t, "fail", string(result.Verdict), "nobody on this machine finds it")
	assert.Contains(t, result.Remedy, "vessik hosts")
	assert.Equal(t, own, read(), "not without being allowed")
	out, errs, code := s.cli("hosts")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "127.0.0.1 moss.test\n::1 moss.test\n")
	assert.Contains(t, out, "moss.test is not found yet")
	_, errs, code = s.cli("hosts", "-allow")
	require.Zero(t, code, errs)
	assert.True(t, strings.HasPrefix(read(), own))
	assert.Contains(t, read(), "127.0.0.1 mosses.test\n")
	requirePassed(t, s.do(t, plan.Verify, "moss-archive"))
	require.NoError(t, os.WriteFile(hosts, []byte(read()+"10.0.0.10 later\n"), 0o666))
	s.retire(t, "moss-archive")
	require.Eventually(t, func() bool { return read() == own+"10.0.0.10 later\n" }, 5*time.Second, 20*time.Millisecond,
		"taken back with the site: %s", read())
	_, errs, code = s.cli("new", "moss-archive", "-domain", "moss.com")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, ".com is a public ending")
	derived, err := s.PreviewSites(context.Background(), client.Request{Name: "moss-archive", Domain: "moss.com", ForceDomain: true})
	require.NoError(t, err)
	assert.Empty(t, derived.Problems)
}

func TestNamesInOtherScripts(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "ökogarten-moosgrün", CMS: "empty"}))
	name := site.ASCII("ökogarten-moosgrün")
	defer s.retire(t, name)
	made := s.site(t, name)
	assert.Equal(t, "Ökogarten Moosgrün", made.Title)
	assert.Equal(t, name+".localhost", made.Domain)
	assert.Regexp(t, `^xn--[a-z0-9-]+\.localhost$`, made.Domain)
	assert.Equal(t, "ökogarten-moosgrün.localhost", made.DomainUnicode)
	assert.Equal(t, "ökogarten-moosgrün", made.NameUnicode)
	assert.Equal(t, "ökogarten-moosgrün", filepath.Base(made.Folder))
	assert.Equal(t, "okogarten-moosgrun-keeper", made.Administrator.Name)
	out, _, _ := s.cli("sites")
	assert.Regexp(t, `(?m)^ökogarten-moosgrün +running`, out)
	status, text, _ := get(t, made.URL)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "Ökogarten Moosgrün")
	for _, command := range []string{"site", "verify", "label -group Moss", "settings", "info", "logs", "stop", "start"} {
		words := strings.Fields(command)
		out, errs, code := s.cli(append([]string{words[0], "Ökogarten-Moosgrün"}, words[1:]...)...)
		assert.Zero(t, code, "%s: %s%s", command, out, errs)
	}
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Title: "果樹園の日々", CMS: "empty", Domain: "果樹園.localhost"}))
	defer s.retire(t, "orchard-days")
	assert.Equal(t, "果樹園.localhost", s.site(t, "orchard-days").DomainUnicode)
}

func TestRecordsOnAServerOfTheUsersOwn(t *testing.T) {
	keeper := shared(t) // its database server stands for the external one
	requirePassed(t, keeper.made(t, client.Request{Name: "orchard-days", CMS: "empty"}))
	defer keeper.retire(t, "orchard-days")
	d := keeper.secrets(t, "orchard-days").Database
	dsn := fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", d.User, d.Password, d.Port, d.Name)
	home := newHome(t)
	s := start(t, home, "-records-dsn", dsn)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "empty"}))
	assert.NoDirExists(t, filepath.Join(home, "records", "data"))
	pool, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer pool.Close()
	var name string
	require.NoError(t, pool.QueryRow("SELECT name FROM sites").Scan(&name))
	assert.Equal(t, "moss-archive", name)
	_, errs, code := run(t, "serve", "-home", newHome(t), "-records-dsn", dsn)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "another service keeps its records in orchard_days")
	s.stop()
	s = start(t, home)
	requirePassed(t, s.do(t, plan.Verify, "moss-archive"))
	s.retire(t, "moss-archive")
	s.stop()
}
