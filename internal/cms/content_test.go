package cms_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/base64"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
	"vessik/internal/core/dump"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/test/ground"
)

func TestMain(m *testing.M) { os.Exit(ground.Main(m)) }

var ctx = context.Background()

// own is a database of this name, as its user of the same name.
func own(d *engine.DatabaseServer, name string) *sql.DB {
	return d.OpenAs(site.Database{Name: name, User: name, Password: "garden-gate-77"})
}

func TestADumpLoadsToTheSameRows(t *testing.T) {
	d := ground.Database(t)
	for _, name := range []string{"dump_from", "dump_to"} {
		require.NoError(t, d.CreateDatabase(ctx, name, name, "garden-gate-77"))
		t.Cleanup(func() { d.DropDatabase(ctx, name, name) })
	}
	from, to := own(d, "dump_from"), own(d, "dump_to")
	defer from.Close()
	defer to.Close()
	_, err := from.Exec("CREATE TABLE `odd ``name` (id BIGINT AUTO_INCREMENT PRIMARY KEY, t LONGTEXT, b BLOB, d DATETIME DEFAULT " +
		"'0000-00-00 00:00:00', n INT NULL) CHARSET utf8mb4 COLLATE utf8mb4_unicode_520_ci; CREATE TABLE empty (a INT)")
	if err != nil { // strict mode has no zero dates
		_, err = from.Exec("SET SQL_MODE=''; CREATE TABLE `odd ``name` (id BIGINT AUTO_INCREMENT PRIMARY KEY, t LONGTEXT, b BLOB, d DATETIME " +
			"NULL, n INT NULL) CHARSET utf8mb4 COLLATE utf8mb4_unicode_520_ci; CREATE TABLE empty (a INT)")
	}
	require.NoError(t, err)
	texts := []string{"plain", "it's \"quoted\"; -- not a comment", "line\nbreak\r\t\x00\x1a", `back\slash \' \n`, "🌿 Ärger",
		strings.Repeat("long ", 50000), ""}
	for i, text := range texts {
		_, err := from.Exec("INSERT INTO `odd ``name` (t, b, d, n) VALUES (?, ?, '2026-11-23 07:00:00', ?)", text,
			[]byte{0xff, byte(i), 0x27, 0x5c}, nil)
		require.NoError(t, err)
	}
	for range 450 { // more than one statement's worth
		_, err := from.Exec("INSERT INTO empty VALUES (7)")
		require.NoError(t, err)
	}
	var written, again bytes.Buffer
	require.NoError(t, cms.Dump(ctx, from, &written))
	statements, err := rewrite.Statements(written.String())
	require.NoError(t, err)
	for _, statement := range statements {
		_, err := to.Exec(statement)
		require.NoError(t, err, statement[:min(len(statement), 200)])
	}
	require.NoError(t, cms.Dump(ctx, to, &again))
	assert.Equal(t, written.String(), again.String())
	var text string
	require.NoError(t, to.QueryRow("SELECT t FROM `odd ``name` WHERE id=3").Scan(&text))
	assert.Equal(t, texts[2], text)
}

func TestAReleaseIsPreparedOnceAndDrawnFrom(t *testing.T) {
	d := ground.Database(t)
	release, php := ground.Engine(t, "wordpress-6.1"), ground.Engine(t, "php-8.2")
	shelf := cms.Stock{Dir: filepath.Join(ground.Folder(t), "shelf")}
	definitions, _ := cms.All("")
	wordpress := definitions["wordpress"]
	weekAgo := time.Now().Add(-8 * 24 * time.Hour)
	for name, used := range map[string]time.Time{"wordpress-" + release.Version + "-00000001": weekAgo,
		"wordpress-" + release.Version + "-00000002": time.Now(), "wordpress-5.7-00000001": weekAgo,
		"wordpress-" + release.Version + "-00000001-00000003": weekAgo} {
		require.NoError(t, os.MkdirAll(filepath.Join(shelf.Dir, name, "tree"), 0o755))
		require.NoError(t, os.Chtimes(filepath.Join(shelf.Dir, name), used, used))
	}
	prepared, err := shelf.Prepare(ctx, wordpress, cms.Source{Packages: release.Root()}, release.Version, php, d)
	require.NoError(t, err)
	again, err := shelf.Prepare(ctx, wordpress, cms.Source{Packages: release.Root()}, release.Version, php, d)
	require.NoError(t, err)
	assert.Same(t, prepared, again)
	entries, err := os.ReadDir(shelf.Dir)
	require.NoError(t, err)
	assert.Len(t, entries, 4, "what another state of the definition made ready goes once it has not been used for a week: %v", entries)
	assert.NoDirExists(t, filepath.Join(shelf.Dir, "wordpress-"+release.Version+"-00000001"))
	assert.NoFileExists(t, filepath.Join(prepared.Tree, "wp-config.php"), "no secret is on the shelf")
	bundle, err := os.ReadFile(filepath.Join(prepared.Tree, "wp-includes/certificates/ca-bundle.crt"))
	require.NoError(t, err)
	assert.Contains(t, string(bundle), "BEGIN CERTIFICATE")
	leftovers, err := filepath.Glob(filepath.Join(shelf.Dir, ".partial*"))
	require.NoError(t, err)
	assert.Empty(t, leftovers)
	var scratch int
	require.NoError(t, d.Admin().QueryRow("SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE 'vessik%'").Scan(&scratch))
	assert.Zero(t, scratch, "no scratch database is left")

	require.NoError(t, d.CreateDatabase(ctx, "drawn", "drawn", "garden-gate-77"))
	t.Cleanup(func() { d.DropDatabase(ctx, "drawn", "drawn") })
	pool := own(d, "drawn")
	defer pool.Close()
	s := site.Site{Name: "drawn", Title: `Fern's & <Moss>`,
		Administrator: site.Administrator{Name: "head-keeper", Mail: "ines@fernhollow.example", Password: "it's a \"password\""}}
	facts := cms.Facts{Site: s, Title: s.Title, URL: "http://drawn.localhost:20080", Prefix: "k3xw_", Database: s.Database,
		Administrator: s.Administrator,
		Hash:          wordpress.HashOf("6.1", s.Administrator.Password)}
	require.NoError(t, prepared.Load(ctx, pool, facts))
	one := func(query string) (value string) {
		require.NoError(t, pool.QueryRow(query).Scan(&value), query)
		return value
	}
	for _, option := range []string{"siteurl", "home"} {
		assert.Equal(t, "http://drawn.localhost:20080", one("SELECT option_value FROM k3xw_options WHERE option_name='"+option+"'"))
	}
	assert.Equal(t, "/%postname%/", one("SELECT option_value FROM k3xw_options WHERE option_name='permalink_structure'"))
	assert.Equal(t, "head-keeper ines@fernhollow.example", one("SELECT CONCAT(user_login, ' ', user_email) FROM k3xw_users"))
	title, err := wordpress.TitleOf(ctx, pool, facts)
	require.NoError(t, err)
	assert.Equal(t, s.Title, title)
	var whole bytes.Buffer
	require.NoError(t, cms.Dump(ctx, pool, &whole))
	assert.NotContains(t, whole.String(), "vessik.invalid", "nothing of the image's own address or administrator is left")
	assert.NotContains(t, whole.String(), "vessik-administrator")
	assert.NotContains(t, whole.String(), "VESSIK-TITLE")
	changed, err := wordpress.PasswordChanged(ctx, pool, facts)
	require.NoError(t, err)
	assert.False(t, changed)
	_, err = pool.Exec("UPDATE k3xw_users SET user_pass=MD5('another')")
	require.NoError(t, err)
	changed, err = wordpress.PasswordChanged(ctx, pool, facts)
	require.NoError(t, err)
	assert.True(t, changed)
}

func TestWhatAKilledPreparationLeftIsCleared(t *testing.T) {
	d := ground.Database(t)
	for _, name := range []string{"vessik_0123abcd", "vessik_deadbeef", "vessik_garden"} {
		require.NoError(t, d.CreateDatabase(ctx, name, name, "garden-gate-77"))
		t.Cleanup(func() { d.DropDatabase(ctx, name, name) })
	}
	require.NoError(t, cms.ClearScratch(ctx, d, []string{"vessik_deadbeef"}))
	for name, want := range map[string]bool{"vessik_0123abcd": false, "vessik_deadbeef": true, "vessik_garden": true} {
		has, err := d.HasDatabase(ctx, name, name)
		require.NoError(t, err)
		assert.Equal(t, want, has, name)
		require.NoError(t, d.DropDatabase(ctx, name, name))
	}
}

// A database with everything that a plugin may have made arrives whole on an older server.
func TestADatabaseArrivesWholeOnAnotherServer(t *testing.T) {
	from := ground.Database(t)
	e := ground.Engine(t, "mariadb-10.5")
	dir := ground.Folder(t)
	older, err := engine.StartDatabase(ctx, ground.Supervisor(), e,
		engine.DatabasePlace{Data: filepath.Join(dir, "data"), Run: filepath.Join(dir, "run"), Log: filepath.Join(dir, "log"),
			Port: ground.FreePort(t), Password: "garden-gate-77", BufferMB: 32})
	require.NoError(t, err)
	defer older.Stop()
	require.NoError(t, older.CreateDatabase(ctx, "moss", "moss", "garden-gate-77"))
	t.Cleanup(func() { older.DropDatabase(ctx, "moss", "moss") })
	require.NoError(t, from.CreateDatabase(ctx, "moss", "moss", "garden-gate-77"))
	t.Cleanup(func() { from.DropDatabase(ctx, "moss", "moss") })
	a, b := own(from, "moss"), own(older, "moss")
	defer a.Close()
	defer b.Close()
	for _, statement := range []string{
		"CREATE TABLE plants (id INT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(80) COLLATE utf8mb4_uca1400_ai_ci COMMENT 'wet; dry', note " +
			"LONGTEXT, raw BLOB, f DOUBLE, d DATETIME)",
		"INSERT INTO plants (name, note, raw, f, d) VALUES ('Ærenpreis; x', 'line\nDELIMITER ;\n//END//', X'00FF27', 0.1, '2026-11-23 " +
			"10:00:00'), ('', NULL, NULL, -1e30, NULL)",
		"CREATE TABLE log (said TEXT)",
		"CREATE VIEW wet AS SELECT name FROM plants WHERE note IS NOT NULL",
		"CREATE VIEW all_wet AS SELECT COUNT(*) AS many FROM wet",
		"CREATE TABLE sums (a INT, b INT AS (a * 2) STORED, c INT INVISIBLE)",
		"INSERT INTO sums (a, c) VALUES (2, 3)",
		"CREATE EVENT later ON SCHEDULE EVERY 1 DAY DO DELETE FROM log",
		"CREATE TRIGGER told AFTER INSERT ON plants FOR EACH ROW BEGIN INSERT INTO log VALUES (CONCAT('new; ', NEW.name)); END",
		"CREATE FUNCTION sprouts(n INT) RETURNS INT DETERMINISTIC BEGIN DECLARE x INT; SET x = n * 2; RETURN x; END",
	} {
		_, err := a.Exec(statement)
		require.NoError(t, err, statement)
	}
	var text bytes.Buffer
	require.NoError(t, cms.Dump(ctx, a, &text))
	replaced := []string{}
	require.NoError(t, cms.Load(ctx, b, &text, new(dump.Judge),
		cms.Fitting(ctx, older, func(old, fallback string) { replaced = append(replaced, old+" "+fallback) })))
	assert.Equal(t, []string{"utf8mb4_uca1400_ai_ci utf8mb4_unicode_520_ci"}, replaced)
	before, err := cms.Sums(ctx, a)
	require.NoError(t, err)
	after, err := cms.Sums(ctx, b)
	require.NoError(t, err)
	assert.Empty(t, cms.Compare(before, after))
	assert.Equal(t, int64(2), after["plants"].Rows)
	_, err = b.Exec("INSERT INTO plants (name, note) VALUES ('fern', 'x')")
	require.NoError(t, err)
	var said string
	var leaves, wet int
	require.NoError(t, b.QueryRow("SELECT said, sprouts(4), (SELECT COUNT(*) FROM wet) FROM log").Scan(&said, &leaves, &wet))
	assert.Equal(t, "new; fern", said)
	assert.Equal(t, [2]int{8, 2}, [2]int{leaves, wet})
	after, err = cms.Sums(ctx, b)
	require.NoError(t, err)
	assert.Equal(t, []string{"log has 1 rows of 0", "plants has 3 rows of 2"}, cms.Compare(before, after))
	for _, d := range []*engine.DatabaseServer{older, from} {
		require.NoError(t, d.DropDatabase(ctx, "moss", "moss"))
	}
}

func TestScheduledTasksAreFoundInTheDatabase(t *testing.T) {
	definitions, _ := cms.All("")
	wordpress := definitions["wordpress"]
	d := ground.Database(t)
	require.NoError(t, d.CreateDatabase(ctx, "tasks", "tasks", "garden-gate-77"))
	t.Cleanup(func() { d.DropDatabase(ctx, "tasks", "tasks") })
	pool := own(d, "tasks")
	defer pool.Close()
	_, err := pool.Exec("CREATE TABLE wp_options (option_name VARCHAR(64), option_value LONGTEXT); INSERT INTO wp_options VALUES ('cron', " +
		"'a:3:{i:1795000000;a:1:{s:3:\"a_b\";a:1:{s:2:\"xx\";a:1:{s:8:\"interval\";i:1700000001;}}}" +
		"i:1794000000;a:1:{s:1:\"c\";a:0:{}}s:7:\"version\";i:2;}')")
	require.NoError(t, err)
	next, err := wordpress.NextTask(ctx, pool, cms.Facts{Prefix: "wp_"})
	require.NoError(t, err)
	assert.Equal(t, int64(1794000000), next.Unix(), "the earliest, and no other number")
	_, err = pool.Exec("UPDATE wp_options SET option_value='a:1:{s:7:\"version\";i:2;}'")
	require.NoError(t, err)
	next, err = wordpress.NextTask(ctx, pool, cms.Facts{Prefix: "wp_"})
	require.NoError(t, err)
	assert.True(t, next.IsZero())
	require.NoError(t, d.DropDatabase(ctx, "tasks", "tasks"))
}

// PHP itself judges what is done to its serialised values: it reads them all, and finds what replacing in the values themselves gives.
func TestPHPReadsWhatWasRewritten(t *testing.T) {
	const from, to = "http://moss.localhost:20080", "http://orchard-days.localhost"
	script := `<?php
mt_srand(7); class Moss { private $own; protected $near; public $far; function __construct($v) { $this->own = $this->near = $v;
$this->far = [$v]; } }
$from = 'http://moss.localhost:20080'; $to = 'http://orchard-days.localhost';
function text() { global $from; $parts = [$from, $from . '/a', 'Ærenpreis 🌿', '";s:3:"', "\0", "it's", '{"u":"' . str_replace('/', '\/',
$from) . '"}', rawurlencode($from), '//moss.localhost:20080', "$from.evil", '}'];
  $out = ''; for ($i = mt_rand(0, 4); $i > 0; $i--) $out .= $parts[mt_rand(0, count($parts) - 1)] . ' '; return $out; }
function value($depth) { switch (mt_rand(0, $depth > 3 ? 3 : 8)) { case 0: return mt_rand(); case 1: return null;
case 2: case 3: return text(); case 4: return serialize(value($depth + 1)); case 5: return new Moss(value($depth + 1));
  case 6: $v = value($depth + 1); return [$v, &$v, 'k' => 0.5]; default: $out = []; for ($i = mt_rand(0, 5); $i > 0; $i--) $out[mt_rand(0,
1) ? $i : "k$i"] = value($depth + 1); return $out; } }
function replaced($v) { global $from, $to;
  if (is_string($v)) { $inner = @unserialize($v); if ($inner !== false || $v === 'b:0;') return serialize(replaced($inner));
    return strtr($v, ["$from.evil" => "$from.evil", str_replace('/', '\/', $from) => str_replace('/', '\/', $to),
rawurlencode($from) => rawurlencode($to), $from => $to, '//moss.localhost:20080' => '//orchard-days.localhost']); }
  if (is_array($v)) { foreach ($v as $k => $each) $out[$k] = replaced($each); return $out ?? []; }
  if ($v instanceof Moss) { $c = clone $v; return (function ($c) { $c->own = replaced($c->own); $c->near = replaced($c->near);
$c->far = replaced($c->far); return $c; })->bindTo(null, 'Moss')($c); }
  return $v; }
function plain($v) { if (is_string($v)) { $inner = @unserialize($v); return $inner !== false ? ['serialised' => plain($inner)] : $v;
} if (is_object($v)) $v = ['class' => get_class($v)] + (array) $v;
  return is_array($v) ? array_map('plain', $v) : $v; } // references inside texts count as what they refer to
if ($argv[1] === 'make') { for ($i = 0; $i < 400; $i++) { $v = value(0); $s = serialize($v); echo base64_encode($s), ' ',
base64_encode(serialize(replaced(unserialize($s)))), "\n"; } exit; }
$bad = 0; foreach (file($argv[2]) as $n => $line) { [$ours, $want] = array_map('base64_decode', explode(' ', trim($line) . ' '));
$a = @unserialize($ours); if (($a === false && $ours !== 'b:0;') || var_export(plain($a), true) !== var_export(plain(unserialize($want)),
true)) { echo "line $n\nours $ours\nwant $want\n"; if (++$bad > 3) break; } } echo 'judged ', $n + 1, ' bad ', $bad;`
	for _, id := range []string{"php-7.4", "php-8.4"} {
		dir := ground.Folder(t)
		path := filepath.Join(dir, "judge.php")
		require.NoError(t, os.WriteFile(path, []byte(script), 0o600))
		php := ground.Engine(t, id).PHPCommand()
		made, err := exec.Command(php, "-n", path, "make").Output()
		require.NoError(t, err, string(made))
		var judged strings.Builder
		for line := range strings.Lines(string(made)) {
			in, want, _ := strings.Cut(strings.TrimSpace(line), " ")
			raw, err := base64.StdEncoding.DecodeString(in)
			require.NoError(t, err)
			judged.WriteString(base64.StdEncoding.EncodeToString([]byte(rewrite.New(from, to).Value(string(raw)))) + " " + want + "\n")
		}
		answers := filepath.Join(dir, "answers")
		require.NoError(t, os.WriteFile(answers, []byte(judged.String()), 0o600))
		out, err := exec.Command(php, "-n", path, "judge", answers).Output()
		require.NoError(t, err)
		assert.Equal(t, "judged 400 bad 0", string(out), id)
	}
}
