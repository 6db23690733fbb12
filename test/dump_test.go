package test

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

// plugins made all that a dump may hold beside tables and rows.
var plugins = []string{"CREATE TABLE wp_beds (id INT AUTO_INCREMENT PRIMARY KEY, width INT, twice INT AS (width * 2) STORED, hidden INT " +
	"INVISIBLE)",
	"INSERT INTO wp_beds (width, hidden) VALUES (3, 7)",
	"CREATE TABLE wp_log (said TEXT)", "CREATE VIEW wp_z AS SELECT id FROM wp_beds", "CREATE VIEW wp_a AS SELECT COUNT(*) AS many FROM wp_z",
	"CREATE TRIGGER wp_told AFTER INSERT ON wp_beds FOR EACH ROW BEGIN INSERT INTO wp_log VALUES (CONCAT('new; ', CURRENT_USER())); END",
	"CREATE FUNCTION sprouts(n INT) RETURNS INT DETERMINISTIC BEGIN RETURN n * 2; END",
	"CREATE EVENT later ON SCHEDULE EVERY 1 DAY DO DELETE FROM wp_log"}

// pool is a site's database, as the site's own user.
func pool(t testing.TB, s client.Site) *sql.DB {
	t.Helper()
	opened, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", s.Database.User, s.Database.Password, s.Database.Port,
		s.Database.Name))
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	return opened
}

// A dump by the database's own tool, with views, triggers, routines and events, comes whole by every way that leads to a site.
func TestWhatPluginsMakeInADatabaseComesByEveryWay(t *testing.T) {
	s := shared(t)
	names := []string{"orchard-days", "moss-archive", "frost", "reed", "fern-tea"}
	requirePassed(t, s.newSites(t, names[0], names[1]))
	defer s.retire(t, names...)
	from := s.secrets(t, "orchard-days")
	for _, statement := range plugins {
		_, err := pool(t, from).Exec(strings.ReplaceAll(statement, "wp_", from.Prefix))
		require.NoError(t, err, statement)
	}
	dump := dumpOf(t, from)
	adopted := filepath.Join(filepath.Dir(dump), "adopted")
	require.NoError(t, exec.Command("cp", "-a", from.Folder, adopted).Run())
	for _, arguments := range [][]string{{"load", "moss-archive", dump}, {"new", "frost", "-adopt", adopted, "-sql", dump},
		{"copy", "orchard-days", "reed"}, {"stencil", "save", "orchard-days", "beds"}, {"new", "fern-tea", "-stencil", "beds"},
		{"restack", "reed", "-database", "10.11"}} {
		out, errs, code := s.cli(arguments...)
		require.Zero(t, code, "%v: %s%s", arguments, out, errs)
	}
	defer s.cli("stencil", "drop", "beds")
	for _, name := range names {
		at := s.secrets(t, name)
		_, err := pool(t, at).Exec("INSERT INTO " + at.Prefix + "beds (width) VALUES (5)")
		require.NoError(t, err, name)
		for question, want := range map[string]string{"SELECT many FROM wp_a": "2", "SELECT sprouts(4)": "8",
			"SELECT twice FROM wp_beds WHERE hidden = 7":                                     "6",
			"SELECT said FROM wp_log":                                                        "new; " + at.Database.User + "@127.0.0.1",
			"SELECT COUNT(*) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = DATABASE()": "1"} {
			assert.Equal(t, want, query(t, at, question), "%s: %s", name, question)
		}
	}
	requirePassed(t, s.do(t, plan.Verify, names...))
}

// dumpOf has the database's own tool write a dump of a site.
func dumpOf(t *testing.T, from client.Site) string {
	dump := filepath.Join(filepath.Dir(newHome(t)), "dump.sql")
	out, err := exec.Command("mariadb-dump", "--no-defaults", "-h127.0.0.1", fmt.Sprintf("-P%d", from.Database.Port), "-u"+from.Database.User,
		"-p"+from.Database.Password, "--routines", "--events", "--triggers", "--result-file="+dump, from.Database.Name).CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Chmod(dump, 0o644))
	return dump
}
