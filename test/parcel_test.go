package test

import (
	"archive/zip"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// parcelOf makes a parcel of a site, which is gone after the test.
func parcelOf(t *testing.T, s *service, name string, flags ...string) string {
	t.Helper()
	file := filepath.Join(outside(t), name+".parcel.tar.zst")
	out, errs, code := s.cli(append([]string{"parcel", name, "-o", file}, flags...)...)
	require.Zero(t, code, out+errs)
	require.NoError(t, os.Chmod(file, 0o644))
	return file
}

// outside is a folder that every account can read.
func outside(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp(scratch, "outside-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// A site goes into one file, and comes out of it on another stack: with its users, its content under its new address, and nothing of what
// is secret here. The parcel of a restore point holds what was then; unpacked over a site, it leaves what it was made without.
func TestASiteGoesIntoOneFileAndComesOutOfIt(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	made := s.secrets(t, "orchard-days")
	inPHP := inPHP(t, s)
	picture := filepath.Join(made.Folder, "wp-content/uploads/apple.txt")
	require.NoError(t, os.MkdirAll(filepath.Dir(picture), 0o755))
	require.NoError(t, os.WriteFile(picture, []byte("an apple"), 0o644))
	inPHP("orchard-days", `wp_insert_post(['post_title' => 'Picked', 'post_status' => 'publish',
		'post_content' => '<a href="'.home_url('/hedge/').'">hedge; wet</a>']);
		wp_create_user('ines', 'the-gate-is-open-9', 'ines@fernhollow.example');`)
	file := parcelOf(t, s, "orchard-days")
	text, err := exec.Command("tar", "--zstd", "-xOf", file).Output()
	require.NoError(t, err)
	for _, secret := range []string{made.Database.Password, made.Administrator.Password} {
		assert.NotContains(t, string(text), secret)
	}
	check := exec.Command("sh", "-c", `mkdir whole && tar --zstd -xf "$1" -C whole && cd whole && sha256sum --quiet -c SHA256SUMS`, "sh", file)
	check.Dir = outside(t)
	said, err := check.CombinedOutput()
	require.NoError(t, err, "anybody can check it: %s", said)

	// It comes out elsewhere.
	defer s.retire(t, "apple-days")
	out, errs, code := s.cli("new", "apple-days", "-parcel", file, "-php", "8.2", "-web", "apache", "-database", "10.11")
	require.Zero(t, code, out+errs)
	apple := s.site(t, "apple-days")
	assert.Equal(t, "Orchard Days", apple.Title)
	assert.Equal(t, "php-8.2", apple.Stack.PHP.Engine)
	assert.Equal(t, apple.URL+" ines orchard-days-keeper", inPHP("apple-days",
		`echo home_url('/'), ' ', implode(' ', array_map(fn($u) => $u->user_login, get_users(['orderby' => 'login'])));`))
	assert.Contains(t, inPHP("apple-days", `echo get_posts(['title' => 'Picked'])[0]->post_content;`), apple.URL+"hedge/\">hedge; wet")
	assert.FileExists(t, filepath.Join(apple.Folder, "wp-content/uploads/apple.txt"))

	// As it was at a point, without its uploads, over the other one.
	out, errs, code = s.cli("restore", "orchard-days", "-make")
	require.Zero(t, code, out+errs)
	inPHP("orchard-days", `update_option('blogdescription', 'later');`)
	zipped := filepath.Join(outside(t), "then.zip")
	out, errs, code = s.cli("restore", "orchard-days", zipped, "-export", pointsOf(t, s, "orchard-days")[0].ID)
	require.Zero(t, code, out+errs)
	lean := parcelOf(t, s, "orchard-days", "-without", "uploads", "-for", "https://orchard.example")
	out, errs, code = s.cli("unpack", lean, "apple-days", "-dry-run")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "with https://orchard.example\nmade without wp-content/uploads: what is there stays\nNothing was changed.")
	require.NoError(t, os.WriteFile(filepath.Join(apple.Folder, "wp-content/uploads/apple.txt"), []byte("a pear"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(apple.Folder, "later.txt"), nil, 0o644))
	out, errs, code = s.cli("unpack", lean, "apple-days")
	require.Zero(t, code, out+errs)
	kept, err := os.ReadFile(filepath.Join(apple.Folder, "wp-content/uploads/apple.txt"))
	require.NoError(t, err)
	assert.Equal(t, "a pear", string(kept))
	assert.NoFileExists(t, filepath.Join(apple.Folder, "later.txt"))
	assert.Equal(t, apple.URL+" later", inPHP("apple-days", `echo home_url('/'), ' ', get_option('blogdescription');`))
	out, errs, code = s.cli("unpack", zipped, "apple-days")
	require.Zero(t, code, out+errs)
	assert.NotEqual(t, "later", inPHP("apple-days", `echo get_option('blogdescription');`))
	left, err := filepath.Glob(filepath.Join(s.home, "tmp/.parcel-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What cannot be packed or unpacked is told in one sentence, and changes nothing.
func TestParcelsThatCannotBeMadeOrUnpacked(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "empty"}))
	defer s.retire(t, "moss-archive")
	at, dir := s.site(t, "moss-archive"), outside(t)
	in := func(name string) string { return filepath.Join(dir, name) }
	for flags, said := range map[string]string{"-without beds": `without: "beds" is not in the site's folder`,
		"-without uploads": "does not tell where its uploads are",
		"-for orchard":     `for: "orchard" is no address of a site`,
		"-no-database -for https://orchard.local": "addresses are in the database, which is left out"} {
		out, errs, code := s.cli(append(strings.Fields("parcel moss-archive -o "+in("x")), strings.Fields(flags)...)...)
		assert.Equal(t, 2, code, out)
		assert.Contains(t, errs, said)
		assert.NoFileExists(t, in("x"))
	}
	file := parcelOf(t, s, "moss-archive")
	_, errs, code := s.cli("parcel", "moss-archive", "-o", file)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is there already")

	// One that is damaged, and one that somebody wrote who means harm: the site stays what it was.
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(in("half"), whole[:len(whole)/2], 0o644))
	evil, err := os.Create(in("evil.zip"))
	require.NoError(t, err)
	packed := zip.NewWriter(evil)
	for _, each := range [][2]string{{"parcel.json", `{"format":"vessik-parcel/1","site":"moss","cms":{"name":"empty","version":"1"},` +
		`"database":true,"prefix":"","url":"http://x.example","database_bytes":100,"file_bytes":10}`},
		{"database.sql", "GRANT ALL ON *.* TO evil@'%';"},
		{"files/index.php", "<?php"}, {"SHA256SUMS", strings.Repeat("0", 64) + "  database.sql\n"}} {
		entry, err := packed.Create(each[0])
		require.NoError(t, err)
		_, err = io.WriteString(entry, each[1])
		require.NoError(t, err)
	}
	require.NoError(t, packed.Close())
	require.NoError(t, evil.Close())
	require.NoError(t, os.Chmod(in("evil.zip"), 0o644))
	require.NoError(t, os.WriteFile(in("dump.sql"), []byte("SELECT 1;"), 0o644))
	for name, said := range map[string]string{"half": "is not whole", "evil.zip": "does not have the checksum",
		"dump.sql": "it is no parcel"} {
		out, errs, code := s.cli("unpack", in(name), "moss-archive")
		assert.NotZero(t, code, out)
		assert.Contains(t, errs, said)
		_, errs, code = s.cli("new", "fern-archive", "-parcel", in(name))
		assert.NotZero(t, code)
		assert.Contains(t, errs, said)
	}
	after := s.site(t, "moss-archive")
	assert.Equal(t, at.State, after.State)
	assert.FileExists(t, filepath.Join(at.Folder, "public/index.php"))
	_, errs, code = s.cli("site", "fern-archive")
	assert.NotZero(t, code, errs)
}

// A site that is asked for it has a point taken at times, but only where something has changed.
func TestPointsAreTakenOnASchedule(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "seed-press", CMS: "empty"}))
	_, errs, code := s.cli("restore", "seed-press", "-every", "1s")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "choose a time from 10s to a year, such as 1h, or off")
	out, errs, code := s.cli("restore", "seed-press", "-every", "10s", "-most", "2G")
	require.Zero(t, code, errs)
	assert.Equal(t, "one is taken every 10s, where anything has changed; all take 2048 MB at most\n", out)
	require.Eventually(t, func() bool { return len(pointsOf(t, s, "seed-press")) == 1 }, time.Minute, time.Second)
	assert.Equal(t, "schedule", pointsOf(t, s, "seed-press")[0].Who)
	time.Sleep(21 * time.Second)
	assert.Len(t, pointsOf(t, s, "seed-press"), 1, "nothing has changed")
	require.NoError(t, os.WriteFile(filepath.Join(s.site(t, "seed-press").Folder, "public/fern.txt"), nil, 0o644))
	require.Eventually(t, func() bool { return len(pointsOf(t, s, "seed-press")) == 2 }, time.Minute, time.Second)
	out, errs, code = s.cli("restore", "seed-press", "-every", "off", "-json")
	require.Zero(t, code, errs)
	var rules client.RestoreRules
	require.NoError(t, json.Unmarshal([]byte(out), &rules))
	assert.Equal(t, client.RestoreRules{Most: 2 << 30}, rules)
}

// What a host's own backup has inside is found at any depth, told before anything is made, and no visitor is given the dump.
func TestABackupFromElsewhereBecomesASite(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.newSites(t, "glasshouse-journal"))
	defer s.retire(t, "glasshouse-journal")
	old, dir := s.site(t, "glasshouse-journal"), outside(t)
	root := filepath.Join(dir, "home/ines/public_html")
	require.NoError(t, os.CopyFS(root, os.DirFS(old.Folder)))
	out, errs, code := s.cli("dump", "glasshouse-journal", "-o", filepath.Join(root, "db_backup.sql.gz"))
	require.Zero(t, code, out+errs)
	file := filepath.Join(dir, "backup.tar.xz")
	pack := exec.Command("tar", "-C", dir, "-cJf", file, "home")
	pack.Env = append(os.Environ(), "XZ_OPT=-0")
	said, err := pack.CombinedOutput()
	require.NoError(t, err, string(said))
	require.NoError(t, os.Chmod(file, 0o644))
	out, errs, code = s.cli("new", "journal-again", "-archive", file, "-dry-run")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "in home/ines/public_html/, a database in home/ines/public_html/db_backup.sql.gz (")
	assert.Contains(t, out, strings.TrimSuffix(old.URL, "/")+")")
	defer s.retire(t, "journal-again", "journal-sql")
	out, errs, code = s.cli("new", "journal-again", "-archive", file)
	require.Zero(t, code, out+errs)
	again := s.site(t, "journal-again")
	assert.Equal(t, old.CMS.Name, again.CMS.Name)
	assert.NoFileExists(t, filepath.Join(again.Folder, "db_backup.sql.gz"))
	answer, page, _ := get(t, again.URL)
	assert.Equal(t, 200, answer)
	assert.Contains(t, page, "Glasshouse Journal")
	assert.NotContains(t, page, old.Domain)

	// In several archives that belong together: the CMS, its plugins, uploads by another name above them, and a dump.
	content := filepath.Join(root, "wp-content")
	many := filepath.Join(dir, "many")
	require.NoError(t, os.MkdirAll(filepath.Join(many, "export/uploads/2026"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(many, "export/uploads/2026/apple.txt"), []byte("an apple"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(many, "strange/other"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(many, "strange/other/a.txt"), nil, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(many, "strange/b.txt"), nil, 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(content, "plugins/fern-list"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(content, "plugins/fern-list/fern-list.php"), []byte("<?php // Plugin Name: Fern List"),
		0o644))
	require.NoError(t, os.Rename(filepath.Join(root, "db_backup.sql.gz"), filepath.Join(many, "db_backup.sql.gz")))
	for name, pack := range map[string][]string{"core.tar": {"-C", filepath.Join(dir, "home/ines"), "--exclude=plugins", "public_html"},
		"plugins.tar.gz": {"-C", content, "plugins"}, "uploads.tar": {"-C", many, "export"}, "database.tar": {"-C", many, "db_backup.sql.gz"},
		"strange.tar": {"-C", many, "strange"}} {
		said, err := exec.Command("tar", append([]string{"-caf", filepath.Join(dir, name)}, pack...)...).CombinedOutput()
		require.NoError(t, err, string(said))
	}
	arguments := []string{"new", "journal-parts"}
	for _, name := range []string{"database.tar", "uploads.tar", "plugins.tar.gz", "core.tar"} {
		arguments = append(arguments, "-archive", filepath.Join(dir, name))
	}
	out, errs, code = s.cli(append(arguments, "-dry-run")...)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "in core.tar: public_html/, a database in database.tar: db_backup.sql.gz (")
	_, errs, code = s.cli(append(arguments, "-archive", filepath.Join(dir, "strange.tar"))...)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "strange.tar holds nothing that is known to belong into WordPress")
	_, errs, code = s.cli("new", "journal-parts", "-archive", filepath.Join(dir, "uploads.tar"), "-archive", filepath.Join(dir,
		"plugins.tar.gz"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "none of these archives holds a CMS")
	older, err := os.ReadFile(filepath.Join(many, "db_backup.sql.gz"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(many, "older.sql.gz"), older, 0o644))
	said, err = exec.Command("tar", "-cf", filepath.Join(dir, "older.tar"), "-C", many, "older.sql.gz").CombinedOutput()
	require.NoError(t, err, string(said))
	arguments = append(arguments, "-archive", filepath.Join(dir, "older.tar"))
	_, errs, code = s.cli(arguments...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "to be named with -dump: 0/db_backup.sql.gz (")
	defer s.retire(t, "journal-parts")
	out, errs, code = s.cli(append(arguments, "-dump", "0/db_backup.sql.gz")...)
	require.Zero(t, code, out+errs)
	parts := s.site(t, "journal-parts")
	assert.FileExists(t, filepath.Join(parts.Folder, "wp-content/plugins/fern-list/fern-list.php"))
	assert.FileExists(t, filepath.Join(parts.Folder, "wp-content/uploads/2026/apple.txt"))
	assert.NoFileExists(t, filepath.Join(parts.Folder, "db_backup.sql.gz"))
	_, page, _ = get(t, parts.URL)
	assert.Contains(t, page, "Glasshouse Journal")
	require.NoError(t, os.Rename(filepath.Join(many, "db_backup.sql.gz"), filepath.Join(root, "db_backup.sql.gz")))

	// A dump alone goes into a CMS of one's choice.
	out, errs, code = s.cli("new", "journal-sql", "-sql", filepath.Join(root, "db_backup.sql.gz"))
	require.Zero(t, code, out+errs)
	_, page, _ = get(t, s.site(t, "journal-sql").URL)
	assert.Contains(t, page, "Glasshouse Journal")
	_, errs, code = s.cli("new", "journal-none", "-stencil", "garden", "-sql", filepath.Join(root, "db_backup.sql.gz"))
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "have a database of their own")
}
