package cms_test

import (
	"bytes"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
	"vessik/internal/core/dump"
	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/test/ground"
)

// garden is what the dumps of the corpus hold: everything that plugins make in practice.
var garden = []string{
	"CREATE TABLE `wp_options` (`option_id` int NOT NULL AUTO_INCREMENT, `option_name` varchar(191) NOT NULL, `option_value` longtext, " +
		"PRIMARY KEY (`option_id`), UNIQUE KEY `n` (`option_name`)) ENGINE=InnoDB",
	"INSERT INTO `wp_options` (`option_name`, `option_value`) VALUES ('siteurl','http://from.example'), ('odd', 'it\\'s; -- no\\nUSE " +
		"mysql; /* x */'), ('leaf', '🌿 Ærø')",
	"CREATE TABLE `wp_old` (`a` varchar(20)) ENGINE=MyISAM DEFAULT CHARSET=latin1",
	"INSERT INTO `wp_old` VALUES ('Ærø')",
	"CREATE TABLE `wp_posts` (`ID` int NOT NULL AUTO_INCREMENT PRIMARY KEY, `option_id` int, `twice` int AS (`option_id` * 2) STORED, " +
		"`hidden` int INVISIBLE, `raw` blob, CONSTRAINT `fk_o` FOREIGN KEY (`option_id`) REFERENCES `wp_options` (`option_id`))",
	"INSERT INTO `wp_posts` (`option_id`, `hidden`, `raw`) VALUES (1, 7, X'fffe00'), (2, 8, NULL)",
	"CREATE TABLE `wp_seen` (`said` text)",
	"CREATE VIEW `wp_z` AS SELECT `ID` FROM `wp_posts`",
	"CREATE VIEW `wp_a` AS SELECT COUNT(*) AS `many` FROM `wp_z`",
	"CREATE TRIGGER `wp_told` AFTER INSERT ON `wp_posts` FOR EACH ROW BEGIN INSERT INTO wp_seen VALUES (CONCAT('new; ', NEW.ID)); END",
	"CREATE FUNCTION `sprouts`(n INT) RETURNS int DETERMINISTIC BEGIN RETURN n * 2; END",
	"CREATE PROCEDURE `sow`() BEGIN DELETE FROM wp_seen; END",
	"CREATE EVENT `later` ON SCHEDULE EVERY 1 DAY DO DELETE FROM wp_seen",
}

func corpusServer(t *testing.T, id string) *engine.DatabaseServer {
	if id == "mariadb-10.11" {
		return ground.Database(t)
	}
	dir := ground.Folder(t)
	d, err := engine.StartDatabase(ctx, ground.Supervisor(), ground.Engine(t, id), engine.DatabasePlace{Data: filepath.Join(dir, "data"),
		Run: filepath.Join(dir, "run"), Log: filepath.Join(dir, "log"), Port: ground.FreePort(t), Password: "garden-gate-77", BufferMB: 32})
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	return d
}

// Dumps by the databases' own tool, in its ways, load as a site's own user, under the site's own prefix, and hold what they held.
func TestDumpsByTheDatabasesOwnTool(t *testing.T) {
	tool, err := exec.LookPath("mariadb-dump")
	if err != nil {
		t.Skip("mariadb-dump is not here: make setup-test")
	}
	all := []string{"--routines", "--events", "--triggers"}
	ways := map[string][]string{"usual": nil, "whole": all, "one transaction": append([]string{"--single-transaction",
		"--skip-lock-tables"}, all...), "hex": append([]string{"--hex-blob"}, all...),
		"no opt": append([]string{"--skip-opt", "--create-options", "--set-charset"},
			all...), "no comments": append([]string{"--skip-comments"}, all...), "complete": append([]string{"--complete-insert",
			"--skip-extended-insert"}, all...),
		"compact": append([]string{"--compact"}, all...), "with the database": append([]string{"--databases"},
			all...), "drop": append([]string{"--add-drop-database", "--databases", "--add-drop-trigger"}, all...),
		"delayed": append([]string{"--insert-ignore", "--skip-add-locks", "--skip-disable-keys"},
			all...), "latin1": append([]string{"--default-character-set=latin1", "--skip-set-charset"}, "--no-data")}
	for _, id := range []string{"mariadb-10.5", "mariadb-10.11", "mariadb-11.8"} {
		d := corpusServer(t, id)
		from := filled(t, d)
		before, err := cms.Sums(ctx, own(d, from.Name))
		require.NoError(t, err)
		for way, flags := range ways {
			arguments := append([]string{"--no-defaults", "-h127.0.0.1", fmt.Sprintf("-P%d", d.Port), "-u" + from.User, "-p" + from.Password},
				flags...)
			text, err := exec.Command(tool, append(arguments, from.Name)...).Output()
			require.NoError(t, err, "%s %s", id, way)
			for _, prefix := range []string{"wp_", "k3_"} {
				t.Run(id+", "+way+", "+prefix, func(t *testing.T) {
					after, judge := loaded(t, d, text, prefix)
					if slicesHas(flags, "--no-data") {
						return
					}
					for table, sum := range before {
						assert.Equal(t, sum, after[prefix+strings.TrimPrefix(table, "wp_")], table)
					}
					t.Log(judge.Left())
				})
			}
		}
	}
}

func slicesHas(list []string, one string) bool {
	return strings.Contains(strings.Join(list, " ")+" ", one+" ")
}

// filled makes the garden in a database of its own.
func filled(t *testing.T, d *engine.DatabaseServer) site.Database {
	from := site.Database{Name: "garden_from", User: "garden_from", Password: "garden-gate-77"}
	require.NoError(t, d.CreateDatabase(ctx, from.Name, from.User, from.Password))
	t.Cleanup(func() { d.DropDatabase(ctx, from.Name, from.User) })
	pool := d.OpenAs(from)
	defer pool.Close()
	for _, statement := range garden {
		_, err := pool.Exec(statement)
		require.NoError(t, err, statement)
	}
	return from
}

// loaded loads a dump as a site's own user and looks whether what it made works.
func loaded(t *testing.T, d *engine.DatabaseServer, text []byte, prefix string) (map[string]cms.TableSum, *dump.Judge) {
	require.NoError(t, d.CreateDatabase(ctx, "garden_to", "garden_to", "garden-gate-77"))
	defer d.DropDatabase(ctx, "garden_to", "garden_to")
	pool := own(d, "garden_to")
	defer pool.Close()
	judge := &dump.Judge{From: "wp_", To: prefix}
	require.NoError(t, cms.Load(ctx, pool, bytes.NewReader(text), judge, cms.Fitting(ctx, d, func(string, string) {})))
	sums, err := cms.Sums(ctx, pool)
	require.NoError(t, err)
	if strings.Contains(string(text), "sprouts") {
		var many, leaves int
		_, err := pool.Exec("INSERT INTO " + prefix + "posts (ID, option_id) SELECT 77, MIN(option_id) FROM " + prefix + "options")
		require.NoError(t, err)
		require.NoError(t, pool.QueryRow("SELECT many, sprouts(4) FROM "+prefix+"a").Scan(&many, &leaves))
		assert.Equal(t, 8, leaves)
		var said, definer string
		require.NoError(t, pool.QueryRow("SELECT said FROM "+prefix+"seen").Scan(&said))
		assert.Contains(t, said, "new; ")
		require.NoError(t, pool.QueryRow("SELECT DEFINER FROM information_schema.ROUTINES WHERE ROUTINE_NAME='sprouts' AND "+
			"ROUTINE_SCHEMA='garden_to'").Scan(&definer))
		assert.Equal(t, "garden_to@127.0.0.1", definer)
		var events int
		require.NoError(t, pool.QueryRow("SELECT COUNT(*) FROM information_schema.EVENTS WHERE EVENT_SCHEMA='garden_to'").Scan(&events))
		assert.Equal(t, 1, events)
	}
	return sums, judge
}

// Dumps after the documented formats of other tools.
func TestDumpsOfOtherTools(t *testing.T) {
	d := ground.Database(t)
	for name, each := range map[string]struct{ text, query, want string }{
		"an export of a web database page": {"-- phpversion: 8.2\nSET SQL_MODE = \"NO_AUTO_VALUE_ON_ZERO\";\nSTART TRANSACTION;\nSET " +
			"time_zone = \"+00:00\";\n\n/*!40101 SET NAMES utf8mb4 */;\n--\n-- Database: `fern`\n--\nCREATE DATABASE IF NOT EXISTS `fern` " +
			"DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_0900_ai_ci;\nUSE `fern`;\n" +
			"CREATE TABLE `wp_options` (\n  `option_id` bigint(20) UNSIGNED NOT NULL,\n  `option_name` varchar(191) COLLATE utf8mb4_0900_ai_ci " +
			"NOT NULL\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci;\n\nINSERT INTO `wp_options` (`option_id`, " +
			"`option_name`) VALUES\n(1, 'a;b'),\n(2, 'siteurl');\n" +
			"CREATE TABLE `wp_view` (\n`n` bigint(21)\n);\nDROP TABLE IF EXISTS `wp_view`;\n\nCREATE ALGORITHM=UNDEFINED " +
			"DEFINER=`root`@`localhost` SQL SECURITY DEFINER VIEW `wp_view`  AS SELECT count(0) AS `n` FROM `wp_options` ;\n" +
			"ALTER TABLE `wp_options`\n  ADD PRIMARY KEY (`option_id`);\nALTER TABLE `wp_options`\n  MODIFY `option_id` bigint(20) UNSIGNED NOT " +
			"NULL AUTO_INCREMENT, AUTO_INCREMENT=3;\nCOMMIT;\n",
			"SELECT CONCAT(n, ' ', (SELECT AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND " +
				"TABLE_NAME='k3_options')) FROM k3_view", "2 3"},
		"MySQL 8": {"-- MySQL dump 10.13  Distrib 8.0.36, for Linux (x86_64)\n--\n-- Host: localhost    Database: fern\n-- " +
			"------------------------------------------------------\n/*!50503 SET NAMES utf8mb4 */;\nSET @MYSQLDUMP_TEMP_LOG_BIN = " +
			"@@SESSION.SQL_LOG_BIN;\nSET @@SESSION.SQL_LOG_BIN= 0;\nSET @@GLOBAL.GTID_PURGED=/*!80000 '+'*/ 'a-1';\n" +
			"DROP TABLE IF EXISTS `wp_a`;\n/*!50503 SET character_set_client = utf8mb4 */;\nCREATE TABLE `wp_a` (\n  `a` int NOT NULL,\n  `h` " +
			"int DEFAULT NULL /*!80023 INVISIBLE */,\n  `g` int GENERATED ALWAYS AS ((`a` * 2)) STORED,\n  KEY `k` (`a`) /*!80000 INVISIBLE */\n" +
			") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci /*!80016 DEFAULT ENCRYPTION='N' */;\n" +
			"LOCK TABLES `wp_a` WRITE;\n/*!40000 ALTER TABLE `wp_a` DISABLE KEYS */;\nINSERT INTO `wp_a` (`a`, `h`) VALUES (1,2),(3,4);\n" +
			"/*!40000 ALTER TABLE `wp_a` ENABLE KEYS */;\nUNLOCK TABLES;\nSET @@SESSION.SQL_LOG_BIN = @MYSQLDUMP_TEMP_LOG_BIN;\n-- Dump " +
			"completed on 2026-01-02\n", "SELECT CONCAT(SUM(a), ' ', SUM(h), ' ', SUM(g)) FROM k3_a", "4 6 8"},
		"CRLF, a mark, latin1": {"\xef\xbb\xbfSET NAMES latin1;\r\nCREATE TABLE wp_a (a varchar(9) CHARACTER SET latin1);\r\nINSERT INTO wp_a " +
			"VALUES ('\xc6r\xf8');\r\n", "SELECT a FROM k3_a", "Ærø"},
		"encoded twice": {"SET NAMES utf8mb4;\nCREATE TABLE wp_a (a varchar(9));\nINSERT INTO wp_a VALUES ('Ã†');\n",
			"SELECT a FROM k3_a", "Ã†"},
		"routines by DELIMITER": {"DELIMITER $$\r\nCREATE DEFINER=`root`@`localhost` FUNCTION `f`() RETURNS int(11) DETERMINISTIC\r\n" +
			"BEGIN\r\n  DECLARE x INT DEFAULT 3; RETURN x;\r\nEND$$\r\nDELIMITER ;\r\n", "SELECT f()", "3"},
		"no semicolon at the end": {"CREATE TABLE wp_a (a int);\nINSERT INTO wp_a VALUES (5)", "SELECT a FROM k3_a", "5"},
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, d.CreateDatabase(ctx, "garden_to", "garden_to", "garden-gate-77"))
			defer d.DropDatabase(ctx, "garden_to", "garden_to")
			pool := own(d, "garden_to")
			defer pool.Close()
			require.NoError(t, cms.Load(ctx, pool, strings.NewReader(each.text), &dump.Judge{From: "wp_", To: "k3_"}, cms.Fitting(ctx, d,
				func(string, string) {})))
			var got string
			require.NoError(t, pool.QueryRow(each.query).Scan(&got))
			assert.Equal(t, each.want, got)
		})
	}
}

// What a dump would do beyond the site's own database is refused by the server, whatever it is called.
func TestADumpDoesNothingBeyondItsOwnDatabase(t *testing.T) {
	d := ground.Database(t)
	for _, name := range []string{"garden_victim", "garden_to"} {
		require.NoError(t, d.CreateDatabase(ctx, name, name, "garden-gate-77"))
		t.Cleanup(func() { d.DropDatabase(ctx, name, name) })
	}
	victim, pool := own(d, "garden_victim"), own(d, "garden_to")
	defer victim.Close()
	defer pool.Close()
	_, err := victim.Exec("CREATE TABLE t (a INT); INSERT INTO t VALUES (1)")
	require.NoError(t, err)
	_, err = pool.Exec("CREATE TABLE own (a INT)")
	require.NoError(t, err)
	users := func() (count int) {
		require.NoError(t, d.Admin().QueryRow("SELECT COUNT(*) FROM mysql.global_priv").Scan(&count))
		return count
	}
	before := users()
	for _, hostile := range []string{"CREATE USER hedge", "/*!50001 GRANT ALL ON *.* TO garden_to@'127.0.0.1' */",
		"/* x */ GRANT ALL ON *.* TO garden_to@'127.0.0.1'", "SET  GLOBAL max_connections=1",
		"INSERT INTO garden_victim.t VALUES (2)", "CREATE TABLE stolen AS SELECT * FROM garden_victim.t",
		"RENAME TABLE garden_victim.t TO own2", "ALTER USER root@localhost IDENTIFIED BY 'x'",
		"SELECT * FROM garden_victim.t INTO OUTFILE '/tmp/x'", "USE garden_victim;\nINSERT INTO t VALUES (2)", "DROP TABLE garden_victim.t",
		"DELETE FROM garden_victim.t", "UPDATE garden_victim.t SET a=2",
		"CREATE VIEW v AS SELECT * FROM garden_victim.t",
		"CREATE TRIGGER x BEFORE INSERT ON own FOR EACH ROW INSERT INTO garden_victim.t VALUES (2);\nINSERT INTO own VALUES (1)",
		"CREATE DEFINER=root@localhost PROCEDURE p() SELECT * FROM mysql.global_priv", "SET @@GLOBAL.general_log_file='/tmp/x'",
		"CREATE SQL SECURITY INVOKER VIEW w AS SELECT * FROM mysql.global_priv",
		"INSERT INTO own VALUES (1);\\! id", "DELIMITER //\nCREATE TRIGGER y BEFORE INSERT ON garden_victim.t FOR EACH ROW SET NEW.a=9//"} {
		err := cms.Load(ctx, pool, strings.NewReader(hostile), new(dump.Judge))
		t.Log(hostile, "→", err)
		var rows, sum int
		require.NoError(t, victim.QueryRow("SELECT COUNT(*), SUM(a) FROM t").Scan(&rows, &sum), hostile)
		assert.Equal(t, [2]int{1, 1}, [2]int{rows, sum}, hostile)
		assert.Equal(t, before, users(), hostile)
	}
	var connections int
	require.NoError(t, d.Admin().QueryRow("SELECT @@max_connections").Scan(&connections))
	assert.Equal(t, 2000, connections)
	var stolen int
	require.NoError(t, d.Admin().QueryRow("SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA='garden_to' AND TABLE_NAME IN "+
		"('stolen', 'own2')").Scan(&stolen))
	assert.Zero(t, stolen)
}
