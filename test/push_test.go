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
	inPHP("orchard-live", `wp_create_user('ines', 'the-gate-is-open-9', 'ines@fernhollow.example'); update_option('blog_public', '1');`)
	before := inPHP("orchard-live", `echo get_option('admin_email');`)

	out, errs, code := s.cli("push", "orchard-days", "orchard", "-dry-run", "-keep", live.Prefix+"options")
	require.Zero(t, code, out+errs)
	assert.Regexp(t, `new +wp-content/themes/hedge/style.css`, out)
	assert.Regexp(t, `gone +readme.html`, out)
	assert.Regexp(t, `table +`+live.Prefix+`posts +1 rows come, 0 go`, out)
	assert.NotRegexp(t, `table +`+live.Prefix+`(users|options)`, out)
	assert.Contains(t, out, "stays at the host: 2 files")
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

	_, errs, code = s.cli("push", "orchard", "-back")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nothing was pushed to orchard", "it never stood")
	require.NoError(t, os.Remove(filepath.Join(here.Folder, "wp-content/mu-plugins/broken.php")))
	inPHP("orchard-days", `update_option('blogdescription', 'of here');`)
	out, errs, code = s.cli("push", "orchard-days", "orchard", "-yes", "-overwrite")
	require.Zero(t, code, out+errs)
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
	for i := range 12 {
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
