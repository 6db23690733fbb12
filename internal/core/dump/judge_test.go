package dump

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStatementsThatAreContentAreKept(t *testing.T) {
	for given, want := range map[string]string{
		"CREATE TABLE users (a INT)":                                                  "CREATE TABLE users (a INT)",
		"INSERT INTO used VALUES ('USE mysql')":                                       "INSERT INTO `used` VALUES ('USE mysql')",
		"insert ignore into `used` (`a`) values (1),(2)":                              "INSERT IGNORE INTO `used` (`a`) values (1),(2)",
		"SET NAMES utf8mb4":                                                           "SET NAMES utf8mb4",
		"DROP TABLE IF EXISTS `a`":                                                    "DROP TABLE IF EXISTS `a`",
		"/*!40101 SET @saved_cs_client     = @@character_set_client */":               "SET @saved_cs_client = @@character_set_client",
		"/*!40111 SET @OLD_SQL_NOTES=@@SQL_NOTES, SQL_NOTES=0 */":                     "SET @OLD_SQL_NOTES=@@SQL_NOTES, SQL_NOTES=0",
		"/*!40000 ALTER TABLE `a` DISABLE KEYS */":                                    "ALTER TABLE `a` DISABLE KEYS",
		"CREATE TABLE `a` (`b` int /*!80023 INVISIBLE */) /*!50100 PARTITION BY x */": "CREATE TABLE `a` (`b` int INVISIBLE ) PARTITION BY x",
		"CREATE TABLE `a` (`b` int) /*!80016 ENCRYPTION='N' */":                       "CREATE TABLE `a` (`b` int)",
		"/*!50001 CREATE ALGORITHM=UNDEFINED */\n/*!50013 DEFINER=`root`@`localhost` SQL SECURITY DEFINER */\n/*!50001 VIEW `v` AS SELECT 1 " +
			"AS `x` */": "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS SELECT 1 AS `x`",
		"CREATE DEFINER=CURRENT_USER() PROCEDURE p() SELECT 1": "CREATE PROCEDURE p() SELECT 1",
		"/*!50003 CREATE*/ /*!50017 DEFINER=`a`@`%`*/ " +
			"/*!50003 TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET NEW.b='-- x' */": "" +
			"CREATE TRIGGER t BEFORE INSERT ON a FOR EACH ROW SET NEW.b='-- x'",
		"START TRANSACTION": "START TRANSACTION",
	} {
		got, _, err := new(Judge).Statement(given)
		require.NoError(t, err, given)
		assert.Equal(t, want, strings.Join(strings.Fields(got), " "), given)
	}
}

func TestWhatIsNoContentIsLeftOut(t *testing.T) {
	for _, given := range []string{"USE mysql", "use `other`", "CREATE DATABASE x", "drop database x", "GRANT ALL ON *.* TO a",
		"/*!50001 GRANT ALL ON *.* TO a */", "/* x */ GRANT ALL ON *.* TO a",
		"SET  GLOBAL max_connections=1", "SET @@GLOBAL.x=1", "SET @@session.sql_log_bin=0", "SET PASSWORD FOR a='x'", "SET DEFAULT ROLE a",
		"LOCK TABLES a WRITE", "-- x\nUNLOCK TABLES", "CREATE USER a",
		"ALTER USER root@localhost IDENTIFIED BY 'x'", "FLUSH PRIVILEGES", "CREATE FUNCTION f RETURNS INT SONAME 'x.so'",
		"SELECT 1 INTO OUTFILE '/x'", "ALTER DATABASE x CHARACTER SET latin1", "STOP SLAVE"} {
		judge := new(Judge)
		got, _, err := judge.Statement(given)
		require.NoError(t, err, given)
		assert.Empty(t, got, given)
		assert.Len(t, judge.Left(), 1, given)
	}
}

func TestWhatIsNotUnderstoodIsRefused(t *testing.T) {
	for given, why := range map[string]string{"LOAD DATA INFILE '/etc/passwd' INTO TABLE a": "no content",
		"RENAME TABLE other.t TO own": "no content", "CALL p()": "no content", "INSERT INTO a SELECT * FROM other.t": "somewhere else",
		"INSERT INTO a (SELECT 1)": "a query", "CREATE TABLE a AS SELECT * FROM other.t": "from a query",
		"CREATE TABLE a (b INT) SELECT 1": "from a query", "SET NAMES gbk": "gbk", "PREPARE x FROM 'DROP USER a'": "no content"} {
		_, _, err := new(Judge).Statement(given)
		assert.ErrorContains(t, err, why, given)
	}
	judge := new(Judge)
	for _, statement := range []string{"USE fern", "CREATE TABLE fern.a (b INT)"} {
		_, _, err := judge.Statement(statement)
		require.NoError(t, err)
	}
	_, _, err := judge.Statement("INSERT INTO moss.a VALUES (1)")
	assert.ErrorContains(t, err, "another database, moss")
	_, _, err = judge.Statement("USE moss")
	assert.ErrorContains(t, err, "goes on to another database")
}

func TestTablesGetTheSitesOwnPrefix(t *testing.T) {
	judge := &Judge{From: "wp_", To: "k3_"}
	for _, each := range [][2]string{
		{"-- Host: localhost    Database: fern\n-- x\n/*!40101 SET NAMES utf8 */", "SET NAMES utf8"},
		{"DROP TABLE IF EXISTS `wp_posts`", "DROP TABLE IF EXISTS `wp_posts`"},
		{"CREATE TABLE `wp_posts` (`wp_id` int, FOREIGN KEY (`a`) REFERENCES `wp_users` (`ID`))",
			"CREATE TABLE `k3_posts` (`wp_id` int, FOREIGN KEY (`a`) REFERENCES `k3_users` (`ID`))"},
		{"LOCK TABLES `wp_posts` WRITE", ""},
		{"/*!40000 ALTER TABLE `wp_posts` DISABLE KEYS */", "ALTER TABLE `k3_posts` DISABLE KEYS"},
		{"INSERT INTO `wp_posts` VALUES ('wp_posts')", "INSERT INTO `k3_posts` VALUES ('wp_posts')"},
		{"ALTER TABLE `wp_posts`\n  ADD PRIMARY KEY (`wp_id`)", "ALTER TABLE `k3_posts` ADD PRIMARY KEY (`wp_id`)"},
		{"CREATE VIEW `fern`.`wp_v` AS select `fern`.`wp_posts`.`wp_id` from `fern`.`wp_posts`",
			"CREATE VIEW `k3_v` AS select `k3_posts`.`wp_id` from `k3_posts`"},
		{"CREATE TRIGGER t AFTER INSERT ON wp_posts FOR EACH ROW DELETE FROM wp_posts",
			"CREATE TRIGGER t AFTER INSERT ON `k3_posts` FOR EACH ROW DELETE FROM `k3_posts`"},
	} {
		got, _, err := judge.Statement(each[0])
		require.NoError(t, err, each[0])
		assert.Equal(t, each[1], got)
	}
}

func FuzzStatement(f *testing.F) {
	for _, seed := range []string{"INSERT INTO `a` VALUES (1,'x')", "/*!50003 CREATE*/ /*!50017 DEFINER=`a`@`%`*/ TRIGGER t",
		"SET @a=1, GLOBAL b=2", "CREATE TABLE `a`.`b` (c INT DEFAULT 'x\\'')", "/* */--\n#", "INSERT INTO `", "USE `",
		"/*!CREATE/*!DEFINER=!TRIGGER"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, statement string) {
		judge := &Judge{From: "wp_", To: "k3_"}
		got, kind, err := judge.Statement(statement)
		if err == nil && got != "" && kind != Rows && kind != Setting { // what is carried out is judged the same again
			again, _, err := (&Judge{}).Statement(got)
			if err != nil || again == "" && !strings.Contains(got, "\x00") {
				t.Fatalf("%q becomes %q, which is not kept: %v", statement, got, err)
			}
		}
	})
}
