package test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/practice"
)

// pulled is a live site at a host, and the site that was pulled of it.
func pulled(t *testing.T, s *service, scheme string) (h *hosted, live, here client.Site, php func(name, code string) string) {
	t.Helper()
	requirePassed(t, s.newSites(t, "orchard-live"))
	h = practiceHost(t, s, outside(t))
	h.account(t, s, "orchard", "orchard-live", scheme)
	get(t, s.site(t, "orchard-live").URL) // what a first visit writes is written
	out, errs, code := s.cli("pull", "orchard", "orchard-days")
	require.Zero(t, code, out+errs)
	require.Eventually(t, func() bool { return fileIs(filepath.Join(s.home, "hosting/orchard/base.json")) }, 20*time.Second,
		20*time.Millisecond)
	return h, s.secrets(t, "orchard-live"), s.secrets(t, "orchard-days"), inPHP(t, s)
}

func fileIs(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// written writes a file of a site, as the site's own.
func written(t testing.TB, s client.Site, name, text string) {
	t.Helper()
	path := filepath.Join(s.Folder, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	info, err := os.Stat(s.Folder)
	require.NoError(t, err)
	uid, gid := ownerOf(info)
	for at := path; at != s.Folder; at = filepath.Dir(at) {
		require.NoError(t, os.Lchown(at, uid, gid))
	}
}

// noStage looks for what Vessik leaves at a host: neither files, nor tables.
func noStage(t testing.TB, live client.Site) {
	t.Helper()
	noHelper(t, live.Folder)
	left, err := filepath.Glob(filepath.Join(live.Folder, ".m*"))
	require.NoError(t, err)
	assert.Empty(t, left, "no stage, and no page for visitors")
	assert.Equal(t, "0", query(t, live, "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME NOT "+
		"LIKE '"+
		live.Prefix+"%'"))
}

// What was changed here goes to the host, what was changed there stays; a second push carries nothing; and all of it comes back.
func TestASiteIsPushedToAHost(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	h, live, here, inPHP := pulled(t, s, "sftp")
	written(t, here, "wp-content/themes/hedge/style.css", "/* Theme Name: Hedge */")
	written(t, here, "wp-content/plugins/hello.php", "<?php // Plugin Name: Hello")
	require.NoError(t, os.Remove(filepath.Join(here.Folder, "readme.html")))
	written(t, live, "wp-content/uploads/2026/apple.txt", "an apple")
	written(t, live, "license-at-host.txt", "there")
	inPHP("orchard-days", `wp_insert_post(['post_title' => 'Quinces', 'post_status' => 'publish', 'post_content' => home_url('/quince/')]);
		update_option('blogdescription', 'pushed'); update_option('blog_public', '0'); update_option('admin_email', 'here@fernhollow.example');
		wp_create_user('local', 'the-gate-is-open-9', 'local@fernhollow.example');`)
	inPHP("orchard-live", `wp_create_user('ines', 'the-gate-is-open-9', 'ines@fernhollow.example'); update_option('blog_public', '0');
		wp_create_user('Root', 'the-gate-is-open-9', 'root@fernhollow.example');`)
	before := inPHP("orchard-live", `echo get_option('admin_email');`)

	out, errs, code := s.cli("push", "orchard-days", "orchard", "-dry-run", "-keep", live.Prefix+"options")
	require.Zero(t, code, out+errs)
	assert.Regexp(t, `new +wp-content/themes/hedge/style.css`, out)
	assert.Regexp(t, `gone +readme.html`, out)
	assert.Regexp(t, `table +`+live.Prefix+`posts +1 rows come, 0 go`, out)
	assert.NotRegexp(t, `table +`+live.Prefix+`(users|options)`, out)
	assert.Contains(t, out, "stays at the host: 2 files")
	assert.Contains(t, out, "→ the live site: search engines are shut out of it")
	assert.Contains(t, out, "→ the live site: a user is called Root, which everybody tries first")
	assert.NotContains(t, out, "the password of")
	inPHP("orchard-live", `update_option('blog_public', '1');`)
	inPHP("orchard-days", `wp_set_password('password', 1); wp_set_password('admin123', get_user_by('login', 'local')->ID);
		get_user_by('login', 'local')->set_role('administrator');`)
	for range 2 { // what was tried is not tried again
		people, errs, code := s.cli("push", "orchard-days", "orchard", "-dry-run", "-people")
		require.Zero(t, code, people+errs)
		assert.Equal(t, 2, strings.Count(people, "is one that everybody tries first: give it another one there"), people)
		assert.NotContains(t, people, "shut out of it")
	}
	assert.NoFileExists(t, filepath.Join(live.Folder, "wp-content/themes/hedge/style.css"))
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-yes", "-overwrite")
	require.Zero(t, code, out+errs)
	noStage(t, live)
	assert.FileExists(t, filepath.Join(live.Folder, "wp-content/themes/hedge/style.css"))
	assert.NoFileExists(t, filepath.Join(live.Folder, "readme.html"))
	assert.FileExists(t, filepath.Join(live.Folder, "wp-content/uploads/2026/apple.txt"), "what was uploaded there stays")
	assert.FileExists(t, filepath.Join(live.Folder, "license-at-host.txt"))
	assert.Equal(t, live.URL+"quince/ pushed 1 "+before+" ines ", inPHP("orchard-live",
		`echo get_posts(['title' => 'Quinces'])[0]->post_content, ' ',
		get_option('blogdescription'), ' ', get_option('blog_public'), ' ', get_option('admin_email'), ' ', get_user_by('login',
			'ines')->user_login, ' ',
		get_user_by('login', 'local') ? 'and a local one' : '';`))
	requirePassed(t, s.do(t, plan.Verify, "orchard-live"))

	carried := h.Carried()
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-files", "-dry-run")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "Nothing was changed here that the host does not have.")
	assert.Less(t, h.Carried()-carried, int64(1<<20))

	// A conflict is told, and nothing is done; the host's may be kept.
	written(t, live, "wp-content/plugins/hello.php", "<?php // Plugin Name: Hello of the host")
	written(t, here, "wp-content/plugins/hello.php", "<?php // Plugin Name: Hello of here")
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-files", "-yes")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out+errs, "conflict: changed at the host as well")
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-files", "-yes", "-keep", "wp-content/plugins/hello.php")
	require.Zero(t, code, out+errs)
	kept, err := os.ReadFile(filepath.Join(live.Folder, "wp-content/plugins/hello.php"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), "of the host")
	noStage(t, live)
}

// A push with which the live site answers worse goes back by itself; the last one that stood is taken back when asked.
func TestAPushGoesBack(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	_, live, here, inPHP := pulled(t, s, "ftps")
	require.NoError(t, os.MkdirAll(filepath.Join(here.Folder, "wp-content/mu-plugins"), 0o755))
	written(t, here, "wp-content/mu-plugins/broken.php", "<?php if (strpos(home_url(), 'orchard-live')) nothing_of_that_name();")
	written(t, here, "index.php", "<?php\ndefine('WP_USE_THEMES', true);\nrequire __DIR__ . '/wp-blog-header.php'; // of here\n")
	was, err := os.ReadFile(filepath.Join(live.Folder, "index.php"))
	require.NoError(t, err)
	inPHP("orchard-live", `update_option('blogdescription', 'of the host');`)
	out, errs, code := s.cli("push", "orchard-days", "orchard", "-files", "-yes", "-overwrite")
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(t, errs, "the live site answers worse than before")
	noStage(t, live)
	now, err := os.ReadFile(filepath.Join(live.Folder, "index.php"))
	require.NoError(t, err)
	assert.Equal(t, string(was), string(now))
	assert.NoDirExists(t, filepath.Join(live.Folder, "wp-content/mu-plugins"))
	status, _, _ := get(t, live.URL)
	assert.Equal(t, 200, status)

	// A page that nobody sees from the front is looked at where a walk is asked for.
	written(t, here, "wp-content/mu-plugins/broken.php", "<?php if (strpos(home_url(), 'orchard-live')) add_action('wp', "+
		"function () { is_page() && nothing_of_that_name(); });")
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-files", "-yes", "-overwrite", "-walk")
	assert.Equal(t, 3, code, out+errs)
	assert.Contains(t, errs, "the live site answers worse than before: /")
	assert.Regexp(t, `worse: /\S+ answers 500`, out)
	noStage(t, live)
	assert.NoDirExists(t, filepath.Join(live.Folder, "wp-content/mu-plugins"))

	_, errs, code = s.cli("push", "orchard", "-back")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was pushed to orchard", "it never stood")
	require.NoError(t, os.Remove(filepath.Join(here.Folder, "wp-content/mu-plugins/broken.php")))
	inPHP("orchard-days", `update_option('blogdescription', 'of here');`)
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-yes", "-overwrite", "-walk")
	require.Zero(t, code, out+errs)
	assert.Regexp(t, `\d+ pages of the live site answer as before`, out)
	assert.Equal(t, "of here", inPHP("orchard-live", `echo get_option('blogdescription');`))
	inPHP("orchard-live", `update_option('blogname', 'Changed since');`)
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-dry-run") // which fetches that
	require.Zero(t, code, out+errs)
	out, errs, code = s.cli("push", "orchard", "-back")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, errs, "(the table "+live.Prefix+"options); say -overwrite")
	out, errs, code = s.cli("push", "orchard", "-back", "-overwrite")
	require.Zero(t, code, out+errs)
	assert.Equal(t, "of the host", inPHP("orchard-live", `echo get_option('blogdescription');`))
	now, err = os.ReadFile(filepath.Join(live.Folder, "index.php"))
	require.NoError(t, err)
	assert.Equal(t, string(was), string(now))
	noStage(t, live)
	_, errs, code = s.cli("push", "orchard", "-back")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was pushed to orchard that could be taken back")
}

// The line is cut at many places, and there is no room at the host: afterwards the live site answers, as before or as after, and nothing of
// ours is left there.
func TestAPushThatIsCutOff(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	h, live, here, inPHP := pulled(t, s, "sftp")
	written(t, here, "wp-content/uploads/long.bin", strings.Repeat("fern ", 1<<20))
	inPHP("orchard-days", `update_option('blogdescription', 'of here');`)
	for i := range 50 {
		h.Fail(practice.Faults{CutAfter: int64(40+i*97) << 10, Cuts: 3})
		written(t, here, "wp-content/uploads/short.txt", strings.Repeat("x", i+1))
		out, errs, code := s.cli("push", "orchard-days", "orchard", "-yes", "-overwrite")
		require.Contains(t, []int{0, 1}, code, out+errs)
		status, _, _ := get(t, live.URL)
		assert.Equal(t, 200, status)
		h.Fail(practice.Faults{})
		require.Eventually(t, func() bool {
			all, err := s.Accounts(ctx)
			return err == nil && all[0].Leftover == ""
		}, 60*time.Second, 100*time.Millisecond)
		noStage(t, live)
		if code == 0 {
			got, err := os.ReadFile(filepath.Join(live.Folder, "wp-content/uploads/short.txt"))
			require.NoError(t, err)
			assert.Len(t, got, i+1)
		}
	}
	h.Fail(practice.Faults{Quota: 1 << 20})
	written(t, here, "wp-content/uploads/other.bin", strings.Repeat("moss ", 1<<20))
	out, errs, code := s.cli("push", "orchard-days", "orchard", "-yes", "-overwrite")
	assert.Equal(t, 1, code, out+errs)
	h.Fail(practice.Faults{})
	require.Eventually(t, func() bool {
		all, err := s.Accounts(ctx)
		return err == nil && all[0].Leftover == ""
	}, 60*time.Second, 100*time.Millisecond)
	noStage(t, live)
	assert.NoFileExists(t, filepath.Join(live.Folder, "wp-content/uploads/other.bin"))
}

// What visitors and editors write at the host while a push is on its way is not lost: it is told, and the push is taken back.
func TestWhatIsWrittenAtTheHostDuringAPush(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	h, live, here, inPHP := pulled(t, s, "sftp")
	_, err := pool(t, live).Exec("CREATE TABLE " + live.Prefix + "beds (id INT PRIMARY KEY, at POINT, bits BIT(3), said TEXT CHARACTER " +
		"SET latin1, " +
		"twice INT AS (2*id) VIRTUAL, none BLOB)")
	require.NoError(t, err)
	sow := func(row string) {
		_, err := pool(t, live).Exec("REPLACE INTO " + live.Prefix + "beds (id, at, bits, said, none) VALUES " + row)
		require.NoError(t, err)
	}
	sow("(1, POINT(1,2), 5, 'caf\u00e9', NULL), (2, NULL, 1, '', '')")
	out, errs, code := s.cli("pull", "orchard", "orchard-days")
	require.Zero(t, code, out+errs)
	require.Eventually(t, func() bool {
		out, _, code := s.cli("push", "orchard-days", "orchard", "-dry-run")
		return code == 0 && strings.Contains(out, "Nothing was changed here")
	}, 20*time.Second, 100*time.Millisecond)
	written(t, here, "wp-content/uploads/long.bin", strings.Repeat("fern ", 1<<20))
	written(t, here, "index.php", "<?php\ndefine('WP_USE_THEMES', true);\nrequire __DIR__ . '/wp-blog-header.php'; // of here\n")
	inPHP("orchard-days", `wp_insert_post(['post_title' => 'Quinces', 'post_status' => 'publish']); update_option('blogdescription', 'here');`)
	_, err = pool(t, s.secrets(t, "orchard-days")).Exec("UPDATE " + here.Prefix + "beds SET said='here'")
	require.NoError(t, err)
	posts, options, beds := live.Prefix+"posts", live.Prefix+"options", live.Prefix+"beds"
	for _, each := range []struct {
		says   string
		pushed client.Push
		write  func()
	}{
		{"the table " + posts, client.Push{Only: "database", Tables: []string{posts}}, func() {
			inPHP("orchard-live", `wp_insert_post(['post_title' => 'An order', 'post_status' => 'publish']);`)
		}},
		{"the table " + beds, client.Push{Only: "database", Tables: []string{beds}}, func() { sow("(1, POINT(1,2), 5, 'caf\u00e9', '')") }},
		{"", client.Push{Only: "database", Tables: []string{options}}, func() {
			inPHP("orchard-live", `set_transient('passing', 1);`)
		}},
		{"index.php", client.Push{Only: "files"}, func() {
			written(t, live, "index.php", "<?php\ndefine('WP_USE_THEMES', true);\nrequire __DIR__ . '/wp-blog-header.php'; // of there\n")
		}},
	} {
		failed := pushWhile(t, s, h, live, each.pushed, each.write)
		if each.says == "" {
			assert.Empty(t, failed, "what changes by itself may")
		} else {
			assert.Contains(t, failed, each.says+" was changed there since it was compared")
		}
		noStage(t, live)
	}
	assert.Equal(t, "1", inPHP("orchard-live", `echo count(get_posts(['title' => 'An order', 'post_type' => 'post']));`))
	assert.Equal(t, "here", inPHP("orchard-live", `echo get_option('blogdescription');`))
}

// pushWhile pushes all by a slow line, does something at the host meanwhile, and returns why the push failed.
func pushWhile(t *testing.T, s *service, h *hosted, live client.Site, asked client.Push, meanwhile func()) string {
	t.Helper()
	h.Fail(practice.Faults{BytesPerSecond: map[bool]int64{true: 1 << 20, false: 1 << 16}[asked.Only == "files"]})
	defer h.Fail(practice.Faults{})
	asked.Site = "orchard-days"
	operation, err := s.PushAccount(ctx, "orchard", asked)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		found, _ := filepath.Glob(filepath.Join(live.Folder, ".move-*"))
		return len(found) > 0
	}, 60*time.Second, 10*time.Millisecond, "%+v", asked)
	meanwhile()
	h.Fail(practice.Faults{})
	return s.watch(t, operation).Sites[0].Problem
}

func ownerOf(info os.FileInfo) (uid, gid int) {
	of := info.Sys().(*syscall.Stat_t)
	return int(of.Uid), int(of.Gid)
}

// What was left at the host when a site was pulled is neither carried nor removed by a push; what is new here in its folder goes there.
func TestAPushWithoutWhatWasLeftAtTheHost(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-live", CMS: "empty"}))
	live := s.secrets(t, "moss-live")
	written(t, live, "public/pictures/old.bin", strings.Repeat("moss ", 1<<20))
	h := practiceHost(t, s, outside(t))
	h.account(t, s, "moss", "moss-live", "sftp")
	out, errs, code := s.cli("pull", "moss", "moss-days", "-without", "public/pictures")
	require.Zero(t, code, out+errs)
	require.Eventually(t, func() bool { return fileIs(filepath.Join(s.home, "hosting/moss/base.json")) }, 20*time.Second, 20*time.Millisecond)
	here := s.site(t, "moss-days")
	assert.NoFileExists(t, filepath.Join(here.Folder, "public/pictures/old.bin"))
	written(t, here, "public/pictures/new.bin", "new")
	before := h.Carried()
	out, errs, code = s.cli("push", "moss-days", "moss", "-yes")
	require.Zero(t, code, out+errs)
	assert.Less(t, h.Carried()-before, int64(2<<20))
	assert.FileExists(t, filepath.Join(live.Folder, "public/pictures/old.bin"))
	assert.FileExists(t, filepath.Join(live.Folder, "public/pictures/new.bin"))
	out, errs, code = s.cli("push", "moss", "-back")
	require.Zero(t, code, out+errs)
	assert.FileExists(t, filepath.Join(live.Folder, "public/pictures/old.bin"))
	assert.NoFileExists(t, filepath.Join(live.Folder, "public/pictures/new.bin"))
}
