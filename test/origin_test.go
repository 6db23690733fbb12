package test

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
)

// query asks a site's database, as the site's own user.
func query(t testing.TB, s client.Site, statement string) string {
	t.Helper()
	var value string
	require.NoError(t, pool(t, s).QueryRow(strings.ReplaceAll(statement, "wp_", s.Prefix)).Scan(&value), statement)
	return value
}

func TestAStencilIsDrawnTenTimesSideBySide(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Title: "Orchard Days"}))
	made := s.secrets(t, "orchard-days")
	home := strings.TrimSuffix(made.URL, "/")
	inSite := func(site, code string) string {
		out, errs, exit := run(t, "run", site, "-home", s.home, "--", "php", "-r", "$_SERVER['HTTP_HOST']='x'; require 'wp-load.php'; "+code)
		require.Zero(t, exit, out+errs)
		return out
	}
	inSite("orchard-days", `wp_insert_post(['post_title' => 'Apple days', 'post_status' => 'publish',
'post_content' => '<a href="'.home_url('/apples/').'">apples</a> and http://orchard-days.localhost.evil/']);
update_option('orchard_settings', ['logo' => home_url('/logo.png'), 'deep' => serialize(['at' => home_url('/'), 'in' => ABSPATH])]);
update_option('orchard_json', json_encode(['u' => home_url('/x')]));
wp_insert_user(['user_login' => 'tobias', 'user_pass' => 'a-password-of-tobias', 'user_email' => 'tobias@fernhollow.example',
'role' => 'editor']); set_transient('orchard_cache', 'stale');`)
	uploads := filepath.Join(made.Folder, "wp-content/uploads")
	require.NoError(t, os.MkdirAll(uploads, 0o777))
	require.NoError(t, os.Chmod(uploads, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(uploads, "apple.txt"), []byte("red"), 0o644))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(uploads, "leak.txt")))
	out, errs, code := s.cli("stencil", "save", "orchard-days", "garden-basics", "-about", "Apples & opening hours")
	require.Zero(t, code, out+errs)
	assert.Regexp(t, `garden-basics +wordpress 6.8 +orchard-days .*Apples & opening hours`, out)
	defer s.cli("stencil", "drop", "garden-basics")

	// Changing the site later changes nothing of the stencil.
	inSite("orchard-days", `wp_delete_post(get_posts(['title' => 'Apple days'])[0]->ID, true);`)
	exported := filepath.Join(t.TempDir(), "g.stencil.tar.zst")
	_, errs, code = s.cli("stencil", "export", "garden-basics", exported)
	require.Zero(t, code, errs)
	whole, err := os.ReadFile(exported)
	require.NoError(t, err)
	broken := filepath.Join(t.TempDir(), "broken.stencil.tar.zst")
	require.NoError(t, os.WriteFile(broken, whole[:len(whole)/2], 0o600))
	_, errs, code = s.cli("stencil", "import", broken)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is not whole")
	_, errs, code = s.cli("stencil", "import", exported, "from-a-colleague")
	require.Zero(t, code, errs)
	_, errs, code = s.cli("stencil", "rename", "from-a-colleague", "colleague")
	require.Zero(t, code, errs)
	defer s.cli("stencil", "drop", "colleague")

	requests := []client.Request{{Name: "draw-0", Stencil: "colleague", PHP: "7.4", Web: "apache", Database: "10.5"}}
	for i := 1; i < 10; i++ {
		requests = append(requests, client.Request{Name: fmt.Sprintf("draw-%d", i), Stencil: "garden-basics"})
	}
	watched := s.made(t, requests...)
	requirePassed(t, watched)
	names, secrets := []string{}, map[string]string{}
	for _, r := range requests {
		names = append(names, r.Name)
	}
	defer s.retire(t, append(names, "orchard-days")...)
	for _, name := range append(names, "orchard-days") {
		drawn := s.secrets(t, name)
		text, err := os.ReadFile(filepath.Join(drawn.Folder, "wp-config.php"))
		require.NoError(t, err)
		salts := regexp.MustCompile(`(?:KEY|SALT)', '([^']*)'`).FindAllStringSubmatch(string(text), -1)
		require.Len(t, salts, 8)
		found := []string{drawn.Database.Password, drawn.Administrator.Password, drawn.Prefix,
			query(t, drawn, "SELECT user_pass FROM wp_users WHERE user_login='"+drawn.Administrator.Name+"'")}
		for _, salt := range salts {
			require.NotEmpty(t, salt[1])
			found = append(found, salt[1])
		}
		for _, secret := range found {
			require.Empty(t, secrets[secret], "%s has a secret of %s", name, secrets[secret])
			secrets[secret] = name
		}
		if name == "orchard-days" {
			continue
		}
		own := strings.TrimSuffix(drawn.URL, "/")
		assert.Equal(t, `<a href="`+own+`/apples/">apples</a> and http://orchard-days.localhost.evil/`,
			query(t, drawn, "SELECT post_content FROM wp_posts WHERE post_title='Apple days'"))
		assert.Equal(t, own+"/logo.png "+own+"/ "+own+"/x",
			inSite(name, `$o = get_option('orchard_settings'); echo $o['logo'], ' ', unserialize($o['deep'])['at'],
unserialize($o['deep'])['in'] === ABSPATH ? ' ' : ' elsewhere ',
json_decode(get_option('orchard_json'))->u;`))
		assert.Equal(t, "0", query(t, drawn, "SELECT COUNT(*) FROM wp_options WHERE option_name LIKE '%orchard_cache%'"), "no caches")
		assert.Equal(t, "*", query(t, drawn, "SELECT user_pass FROM wp_users WHERE user_login='tobias'"), "nor anybody's password")
		assert.FileExists(t, filepath.Join(drawn.Folder, "wp-content/uploads/apple.txt"))
		assert.NoFileExists(t, filepath.Join(drawn.Folder, "wp-content/uploads/leak.txt"))
		_, page, _ := get(t, drawn.URL)
		assert.Contains(t, page, drawn.Title)
		assert.NotContains(t, page, home+"/")
	}

	requirePassed(t, s.watchCLI(t, "copy", "draw-1", "draw-copy", "-php", "8.2"))
	defer s.retire(t, "draw-copy")
	copied := s.secrets(t, "draw-copy")
	assert.Equal(t, "php-8.2 nginx-1.26", copied.Stack.PHP.Engine+" "+copied.Stack.Web.Engine)
	assert.Equal(t, "1", query(t, copied, "SELECT COUNT(*) FROM wp_posts WHERE post_title='Apple days'"))
	_, errs, code = s.cli("new", "moss-days", "-stencil", "nothing")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `there is no stencil "nothing"`)
	_, errs, code = s.cli("stencil", "drop", "nothing")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `there is no stencil "nothing"`)
}

// watchCLI runs a command that makes something and returns the newest operation.
func (s *service) watchCLI(t testing.TB, arguments ...string) client.Watched {
	t.Helper()
	out, errs, code := s.cli(arguments...)
	require.Zero(t, code, out+errs)
	operations, err := s.Operations(context.Background(), 1)
	require.NoError(t, err)
	return s.watch(t, operations[0])
}

// mossCMS is the release archive of a small made-up CMS, whose installer asks in the browser.
func mossCMS(t testing.TB, dir string) string {
	file := filepath.Join(dir, "moss-cms-2.1.zip")
	out, err := os.Create(file)
	require.NoError(t, err)
	writer := zip.NewWriter(out)
	for name, text := range map[string]string{
		"moss-cms-2.1/public/index.php": `<?php if (!is_file('../settings.php')) { header('Location: /install.php'); exit; }
$s = require '../settings.php'; $d = new mysqli($s['host'], $s['user'], $s['password'], $s['name'], $s['port']);
$row = $d->query('SELECT title FROM moss')->fetch_row(); echo "<title>$row[0]</title><h1>$row[0]</h1>", $_SERVER['REQUEST_URI'];`,
		"moss-cms-2.1/public/install.php": `<?php if ($_POST) { $d = @new mysqli($_POST['host'], $_POST['user'], $_POST['password'],
$_POST['name'], (int) $_POST['port']);
$d->query('CREATE TABLE moss (title VARCHAR(99))'); $q = $d->prepare('INSERT INTO moss VALUES (?)'); $q->bind_param('s', $_POST['title']);
$q->execute();
file_put_contents('../settings.php', '<?php return ' . var_export($_POST, true) . ';'); header('Location: /'); exit; } ?>
<title>Install Moss</title><form method="post">
<input name="title"><input name="host"><input name="port"><input name="name"><input name="user">
<input name="password"><button>Install</button></form>`,
		"moss-cms-2.1/README": "Moss",
	} {
		w, err := writer.Create(name)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, writer.Close())
	require.NoError(t, out.Close())
	require.NoError(t, os.Chmod(file, 0o644))
	return file
}

func TestAnyCMSIsInstalledFromItsArchive(t *testing.T) {
	s := shared(t)
	place := filepath.Dir(newHome(t))
	file := mossCMS(t, place)
	out, errs, code := s.cli("new", "moss-archive", "-archive", file, "-web", "apache")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "moss-archive")
	made := s.secrets(t, "moss-archive")
	assert.Contains(t, out, fmt.Sprintf("Its installer asks for the database: host 127.0.0.1, port %d, name moss_archive, user moss_archive",
		made.Database.Port))
	assert.Equal(t, filepath.Join(made.Folder, "public"), made.DocumentRoot)
	assert.FileExists(t, filepath.Join(made.Folder, "README"), "the single top folder was taken off")

	ctx := chromium(t, 1280, 800)
	// The front page of one whose installer has not run may say anything.
	broken := filepath.Join(made.DocumentRoot, "index.php")
	whole, err := os.ReadFile(broken)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(broken, append([]byte(
		"<?php if (!is_file('../settings.php')) { http_response_code(503); exit('not yet'); } ?>"), whole...), 0o644))
	watched := s.do(t, plan.Verify, "moss-archive")
	requirePassed(t, watched)
	front := func(report check.SiteReport) check.Result {
		return report.Checks[slices.IndexFunc(report.Checks, func(c check.Result) bool { return c.ID == "front-page" })]
	}
	assert.Equal(t, "skip it waits for its installer (503 Service Unavailable)", fmt.Sprint(front(*watched.Sites[0].Report).Verdict)+" "+
		front(*watched.Sites[0].Report).Observed)
	assert.Contains(t, front(*watched.Sites[0].Report).Remedy, fmt.Sprintf("moss_archive on 127.0.0.1, port %d", made.Database.Port))
	steps := []chromedp.Action[chromedp.Void]{chromedp.Navigate(made.URL + "install.php"), chromedp.WaitVisible(`//button[text()="Install"]`)}
	for field, value := range map[string]string{"title": "The Moss Archive", "host": made.Database.Host,
		"port": fmt.Sprint(made.Database.Port), "name": made.Database.Name, "user": made.Database.User, "password": made.Database.Password} {
		steps = append(steps, chromedp.SendKeys(chromedp.CSS("input[name="+field+"]"), value))
	}
	require.NoError(t, chromedp.Do(ctx, append(steps, chromedp.Click(`//button[text()="Install"]`),
		chromedp.WaitVisible(`//h1[text()="The Moss Archive"]`))...))
	require.Eventually(t, func() bool {
		report, err := s.Reports(context.Background())
		require.NoError(t, err)
		i := slices.IndexFunc(report.Sites, func(r check.SiteReport) bool { return r.Site == "moss-archive" })
		return front(report.Sites[i]).Verdict == check.Pass
	}, 30*time.Second, 100*time.Millisecond, "it is verified again by itself")
	require.NoError(t, os.WriteFile(broken, whole, 0o644))
	requirePassed(t, s.do(t, plan.Verify, "moss-archive"))
	_, text, _ := get(t, made.URL+"wet/places")
	assert.Contains(t, text, "/wet/places", "readable addresses lead to its front controller")
	watched = s.restack(t, "moss-archive", client.Restack{PHP: "7.4", Web: "nginx-1.18"})
	assert.Equal(t, "done", string(watched.State))

	plain := filepath.Join(place, "plain.zip")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(plain, append([]byte("PK\x03\x04"), raw[:200]...), 0o644))
	_, errs, code = s.cli("new", "frost", "-archive", plain)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is not whole")
	_, errs, code = s.cli("new", "frost", "-archive", "/etc")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "-archive: /etc is a folder")
	left, err := filepath.Glob(filepath.Join(s.home, "sites", ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = s.Site(context.Background(), "frost", false)
	assert.Error(t, err)
}

// An archive of a CMS that is known becomes a site of it, without its installer; a whole site's is one with its own content.
func TestArchivesOfAKnownCMSAreRecognised(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	place := filepath.Dir(newHome(t))
	source := s.site(t, "orchard-days")
	packed := func(name string, script string) string {
		file := filepath.Join(place, name)
		command := exec.Command("sh", "-ec", script+" && chmod 644 "+file)
		command.Dir = place
		out, err := command.CombinedOutput()
		require.NoError(t, err, string(out))
		return file
	}
	require.NoError(t, exec.Command("cp", "-a", source.Folder, filepath.Join(place, "wordpress")).Run())
	whole := packed("whole.tar.gz", "tar czf whole.tar.gz -C wordpress .")
	release := packed("release.tar.gz", "rm wordpress/wp-config.php && tar czf release.tar.gz wordpress")
	dump := packed("dump.sql", program+" dump orchard-days -home "+s.home+" > dump.sql")

	out, errs, code := s.cli("new", "moss-archive", "-archive", release, "-title", "Moss & Fern", "-touch", "no-samples", "-web", "apache")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "moss-archive")
	assert.Contains(t, out, "11 of 11 passed", "it was signed in")
	assert.NotContains(t, out, "installer")
	made := s.secrets(t, "moss-archive")
	assert.Equal(t, "wordpress", made.CMS.Name)
	assert.Regexp(t, `^6\.8`, made.CMS.Version)
	assert.NotEqual(t, "wp_", made.Prefix)
	_, page, _ := get(t, made.URL)
	assert.Contains(t, page, "Moss &amp; Fern")
	assert.NotContains(t, page, "Hello world!", "finishing touches are there for it")
	users, err := s.Users(context.Background(), "moss-archive")
	require.NoError(t, err)
	assert.Equal(t, "moss-archive-keeper", users[0].Login)

	for _, path := range []string{whole, dump} { // which the service's account may not read
		require.NoError(t, os.Chmod(path, 0o600))
	}
	out, errs, code = s.cli("new", "reed", "-archive", whole, "-sql", dump)
	require.Zero(t, code, out+errs)
	defer s.retire(t, "reed")
	reed := s.secrets(t, "reed")
	assert.Equal(t, reed.URL, query(t, reed, "SELECT CONCAT(option_value, '/') FROM "+reed.Prefix+"options WHERE option_name='home'"))
	_, page, _ = get(t, reed.URL+"hello-world/")
	assert.Contains(t, page, "Hello world!")
	assert.NotContains(t, page, "orchard-days.localhost")

	out, errs, code = s.cli("new", "sedge", "-archive", release, "-cms", "archive")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "sedge")
	assert.Contains(t, out, "Its installer asks for the database", "where it is wanted")
	_, errs, code = s.cli("new", "rush", "-archive", mossCMS(t, place), "-cms", "wordpress")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "-archive: it holds nothing that is known as wordpress")
	hostile := packed("hostile.tar", `mkdir -p h/wp-includes && echo "<?php \$wp_version = '../../../../x';" > h/wp-includes/version.php && `+
		`echo '<?php echo 1;' > h/index.php && tar cf hostile.tar h`)
	preview, err := s.PreviewSites(context.Background(), client.Request{Name: "rush", Archive: hostile})
	require.NoError(t, err)
	assert.Equal(t, "archive", preview.Sites[0].CMS.Name, "no version, no known release")
}

// sums are the checksums of all files of a folder.
func sums(t testing.TB, dir string) map[string]string {
	found := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		found[strings.TrimPrefix(path, dir)] = fmt.Sprintf("%x", sha256.Sum256(text))
		return err
	}))
	return found
}

func TestAFolderIsAdoptedWhereItStands(t *testing.T) {
	s := shared(t)
	// A site from elsewhere: its files, and a dump as a hosting panel writes it.
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMSVersion: "6.8", PHP: "8.4"}))
	made := s.secrets(t, "orchard-days")
	place := filepath.Dir(newHome(t))
	folder := filepath.Join(place, "from-the-host")
	require.NoError(t, exec.Command("cp", "-a", made.Folder, folder).Run())
	config := filepath.Join(folder, "wp-config.php")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	text = []byte(regexp.MustCompile(`'127.0.0.1:\d+'`).ReplaceAllString(string(text), "'db.hosting.example'"))
	require.NoError(t, os.WriteFile(config, text, 0o600))
	dump, errs, code := run(t, "run", "orchard-days", "-home", s.home, "--", "sh", "-c",
		`php -r '$_SERVER["HTTP_HOST"]="x"; require "wp-load.php"; update_option("blogname", "From the Host");
update_option("deep", [home_url("/a")]); global $wpdb;
echo "-- a panel\n/*!40101 SET NAMES utf8mb4 */;\nCREATE DATABASE other;\nUSE other;\n";
foreach ($wpdb->get_col("SHOW TABLES") as $t) { echo "DROP TABLE IF EXISTS \x60$t\x60;\n", $wpdb->get_row("SHOW CREATE TABLE $t",
ARRAY_N)[1], ";\n"; foreach ($wpdb->get_results("SELECT * FROM $t", ARRAY_N) as $row) { echo "INSERT INTO \x60$t\x60 VALUES (",
implode(",", array_map(fn($v) => $v === null ? "NULL" : "\x27" . esc_sql($v) . "\x27", $row)), ");\n"; } }'`)
	require.Zero(t, code, errs)
	dump = strings.ReplaceAll(dump, strings.TrimSuffix(made.URL, "/"), "https://orchard-days.example")
	length := len("https://orchard-days.example/a")
	dump = regexp.MustCompile(`s:\d+:\\"https://orchard-days.example/a\\"`).ReplaceAllString(dump,
		fmt.Sprintf(`s:%d:\"https://orchard-days.example/a\"`, length))
	file := filepath.Join(place, "dump.sql")
	require.NoError(t, os.WriteFile(file, []byte(dump), 0o644))
	require.NoError(t, exec.Command("gzip", file).Run())
	s.retire(t, "orchard-days")
	before := sums(t, folder)

	told, errs, code := s.cli("new", "orchard-days", "-adopt", folder, "-sql", file+".gz", "-php", "8.4", "-dry-run")
	require.Zero(t, code, errs)
	for _, words := range []string{`steps +reserving, .*loading content`, `in its folder +wp-config.php: define\( 'DB_HOST'`,
		`in its folder +wp-config.php: define\( 'DB_PASSWORD'`, `in its folder +nothing else`, `\nNothing was made\.`} {
		assert.Regexp(t, words, told)
	}
	assert.Equal(t, before, sums(t, folder))
	_, _, code = s.cli("site", "orchard-days")
	assert.Equal(t, 2, code, "nothing was made")
	_, errs, code = s.cli("new", "orchard-days", "-adopt", folder, "-sql", file+".gz", "-php", "8.4")
	require.Zero(t, code, errs)
	adopted := s.secrets(t, "orchard-days")
	assert.Equal(t, folder, adopted.Folder)
	assert.True(t, strings.HasPrefix(adopted.CMS.Version, "6.8"), adopted.CMS.Version)
	assert.Equal(t, strings.TrimSuffix(adopted.URL, "/"), query(t, adopted, "SELECT option_value FROM wp_options WHERE option_name='siteurl'"))
	assert.Contains(t, query(t, adopted, "SELECT option_value FROM wp_options WHERE option_name='deep'"),
		fmt.Sprintf(`s:%d:"%sa"`, len(adopted.URL)+1, adopted.URL))
	_, page, _ := get(t, adopted.URL)
	assert.Contains(t, page, "From the Host")
	after := sums(t, folder)
	assert.NotEqual(t, before["/wp-config.php"], after["/wp-config.php"])
	after["/wp-config.php"] = before["/wp-config.php"]
	for path := range after {
		if strings.HasPrefix(path, "/wp-content/uploads/") && before[path] == "" { // WordPress makes its own
			delete(after, path)
		}
	}
	assert.Equal(t, before, after, "what the plan named, and nothing else")
	ticket, err := s.Ticket(context.Background(), "orchard-days", "")
	require.NoError(t, err)
	response, err := anybody(t).Get(ticket.URL)
	require.NoError(t, err)
	assert.Contains(t, readAll(t, response), `id="wpadminbar"`, "signed in without knowing its passwords")
	_, errs, code = s.cli("new", "frost", "-adopt", folder)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "overlaps with the folder of the site orchard-days")
	now, err := os.ReadFile(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(config, append(now, "define( 'MOSS', 'damp' );\n"...), 0o600))
	s.retire(t, "orchard-days")
	now, err = os.ReadFile(config)
	require.NoError(t, err)
	assert.Equal(t, string(text)+"define( 'MOSS', 'damp' );\n", string(now), "given back as it was, with what its owner wrote meanwhile")
	require.NoError(t, os.Rename(config, config+".own"))
	require.NoError(t, os.Symlink(config+".own", config))
	_, errs, code = s.cli("new", "frost", "-adopt", folder)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "put the file itself there")
	link, err := os.Readlink(config)
	require.NoError(t, err)
	assert.Equal(t, config+".own", link)
	_, _, code = s.cli("site", "frost")
	assert.Equal(t, 2, code, "nothing of it is left")
	_, errs, code = s.cli("new", "frost", "-adopt", filepath.Join(place, "nowhere"), "-sql", "dump.sql")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is not there")
}

func TestFinishingTouches(t *testing.T) {
	s := shared(t)
	for _, version := range []string{"5.7", "6.8"} {
		request := client.Request{Name: "orchard-days", CMSVersion: version,
			Touches: []string{"no-samples", "no-comments", "plain-dates", "only-own-theme", "no-sample-plugins", "no-notices", "week-from-monday"}}
		if version == "6.8" {
			request.PHP, request.Web, request.Database = "8.4", "apache", "11.8"
		}
		requirePassed(t, s.made(t, request))
		made := s.secrets(t, "orchard-days")
		assert.Equal(t, "0 0 Y-m-d closed 0", query(t, made,
			`SELECT CONCAT((SELECT COUNT(*) FROM wp_posts WHERE post_name IN ('hello-world','sample-page')), ' ',
(SELECT COUNT(*) FROM wp_comments), ' ', (SELECT option_value FROM wp_options WHERE option_name='date_format'), ' ',
(SELECT option_value FROM wp_options WHERE option_name='default_comment_status'), ' ',
(SELECT option_value FROM wp_options WHERE option_name='blog_public'))`), version)
		themes, err := filepath.Glob(filepath.Join(made.Folder, "wp-content/themes/*/style.css"))
		require.NoError(t, err)
		assert.Len(t, themes, 1)
		assert.NoFileExists(t, filepath.Join(made.Folder, "wp-content/plugins/hello.php"))
		s.retire(t, "orchard-days")
	}
	_, errs, code := s.cli("new", "orchard-days", "-touch", "no-frost")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `-touch: wordpress has no finishing touch "no-frost"; choose from no-samples`)
}

func TestASitesOwnFileMakesTheSameSiteForAColleague(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Title: "Orchard Days", CMSVersion: "6.8", PHP: "8.4", Web: "apache",
		TimeZone: "Europe/Lisbon", Domains: []string{"apples.localhost"}}))
	made := s.secrets(t, "orchard-days")
	out, errs, code := run(t, "run", "orchard-days", "-home", s.home, "--", "php", "-r",
		`require 'wp-load.php'; wp_insert_post(['post_title' => 'Apple days', 'post_name' => 'apples', 'post_status' => 'publish',
'post_content' => home_url('/x')]);`)
	require.Zero(t, code, out+errs)
	out, errs, code = s.cli("fleet", "write", "orchard-days", "-content")
	require.Zero(t, code, errs)
	assert.Contains(t, out, filepath.Join(made.Folder, "vessik-site.yaml"))
	written, err := os.ReadFile(filepath.Join(made.Folder, "vessik-site.yaml"))
	require.NoError(t, err)
	assert.NotContains(t, string(written), made.Database.Password)

	// What a team keeps of it: everything but the configuration with its secrets.
	colleague := start(t, newHome(t))
	folder := filepath.Join(filepath.Dir(colleague.home), "work")
	require.NoError(t, exec.Command("cp", "-a", made.Folder, folder).Run())
	require.NoError(t, os.Remove(filepath.Join(folder, "wp-config.php")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "vessik-site.yaml"), append(written, []byte("\nphp_version: 8\n")...), 0o644))
	_, errs, code = run(t, "new", "-in", folder, "-home", colleague.home)
	assert.Equal(t, 2, code)
	assert.Regexp(t, `vessik-site.yaml, line \d+, column \d+: unknown field "php_version"`, errs)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "vessik-site.yaml"), written, 0o644))
	out, errs, code = run(t, "new", "-in", folder, "-home", colleague.home)
	require.Zero(t, code, out+errs)
	same := colleague.secrets(t, "orchard-days")
	assert.Equal(t, folder, same.Folder)
	assert.Equal(t, [3]string{"php-8.4", made.Stack.Web.Engine, "mariadb-11.8"},
		[3]string{same.Stack.PHP.Engine, same.Stack.Web.Engine, same.Stack.Database.Engine})
	assert.Equal(t, []string{"apples.localhost"}, same.Domains)
	assert.Equal(t, same.URL+"x", query(t, same, "SELECT post_content FROM wp_posts WHERE post_name='apples'"))
	assert.NotContains(t, query(t, same, "SELECT user_pass FROM wp_users"), "$", "no password goes along")
	_, text, _ := get(t, same.URL)
	assert.Contains(t, text, "Orchard Days")
	colleague.retire(t, "orchard-days")
	s.retire(t, "orchard-days")
	assert.DirExists(t, filepath.Join(folder, "wp-content"))
}

// A repository that holds plugins, themes and the site's own file alone: its CMS is laid out elsewhere, and nothing is written beside what
// it tracks.
func TestARepositoryWithoutItsCMS(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	if !mustStatus(t, s).Confinement.Cells {
		t.Skip("there are no cells here")
	}
	folder := filepath.Join(filepath.Dir(s.home), "orchard-repository")
	write := func(text, path string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, path)), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(folder, path), []byte(text), 0o666))
	}
	write("vessik-site: 1\nname: orchard-days\ntitle: Orchard Days\ncms: wordpress\ncms_version: '6.8'\nphp: '8.4'\nweb: apache\n",
		"vessik-site.yaml")
	write("<?php /* Plugin Name: Beds */ add_action('wp_footer', function () { echo 'seven beds'; });", "wp-content/plugins/beds/beds.php")
	write("<?php add_action('wp_footer', function () { echo 'always on'; });", "wp-content/mu-plugins/always.php")
	write("<?php // silence", "wp-content/plugins/index.php")
	write("notes", "docs/notes.txt")
	require.NoError(t, os.Symlink(s.home, filepath.Join(folder, "wp-content/plugins/loot")))
	require.NoError(t, exec.Command("chmod", "-R", "a+rwX", folder).Run())
	out, errs, code := s.cli("new", "-in", folder)
	require.Zero(t, code, out+errs)
	made := s.site(t, "orchard-days")
	assert.Equal(t, "wordpress 6.8", made.CMS.Name+" "+made.CMS.Version)
	assert.Equal(t, filepath.Join(s.home, "sites", "orchard-days"), made.Folder)
	_, text, _ := get(t, made.URL)
	assert.Contains(t, text, "always on")
	out, errs, code = run(t, "run", "orchard-days", "-home", s.home, "--", "php", "-r", "require 'wp-load.php'; "+
		"require_once ABSPATH.'wp-admin/includes/plugin.php'; var_dump(activate_plugin('beds/beds.php')); "+
		"echo is_dir('wp-content/plugins/loot/');")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "NULL")
	assert.NotContains(t, out, "1", "a link in it leads nowhere")
	_, text, _ = get(t, made.URL)
	assert.Contains(t, text, "seven beds")
	write("<?php /* Plugin Name: Beds */ add_action('wp_footer', function () { echo 'eight beds'; });", "wp-content/plugins/beds/beds.php")
	require.Eventually(t, func() bool { _, text, _ := get(t, made.URL); return strings.Contains(text, "eight beds") }, 10*time.Second,
		200*time.Millisecond, "it is worked on where it is")
	status, _, _ := get(t, made.URL+"docs/notes.txt")
	assert.Equal(t, 404, status, "what is no part of the site is not served")
	found, err := exec.Command("find", folder, "-type", "f").Output()
	require.NoError(t, err)
	assert.Equal(t, 5, strings.Count(string(found), "\n"), "nothing was written there: %s", found)
	s.retire(t, "orchard-days")
	assert.FileExists(t, filepath.Join(folder, "wp-content/plugins/beds/beds.php"))
	require.NoError(t, os.RemoveAll(filepath.Join(folder, "wp-content")))
	_, errs, code = s.cli("new", "-in", folder)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "holds nothing of WordPress (its wp-content, wp-content/plugins, wp-content/themes)")
}
