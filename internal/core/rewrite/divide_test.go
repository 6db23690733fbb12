package rewrite

import (
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// endless is a dump with one value that is longer than any server takes, without anybody holding it.
func endless(megabytes int) io.Reader {
	block := strings.Repeat("moss ", 200000)
	parts := []io.Reader{strings.NewReader("INSERT INTO `wp_notes` VALUES (1,'a'),(2,'b'),(3,'")}
	for range megabytes {
		parts = append(parts, strings.NewReader(block))
	}
	return io.MultiReader(append(parts, strings.NewReader("');\n"))...)
}

func TestALongInsertIsGivenOutInParts(t *testing.T) {
	var dump, rows strings.Builder
	dump.WriteString("SET NAMES utf8mb4;\nINSERT INTO `valuestore` (`id`, `text`) VALUES ")
	const count = 30000
	for i := range count {
		if i > 0 {
			dump.WriteString(",\n")
		}
		row := fmt.Sprintf("(%d,'it''s (%d), \\'a\\' ; %s')", i, i, strings.Repeat("fern", 100))
		dump.WriteString(row)
		rows.WriteString(row)
	}
	dump.WriteString(";\nSELECT 1;\n")
	scanner := NewScanner(strings.NewReader(dump.String()))
	statements, found := 0, ""
	for {
		statement, err := scanner.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if rest, ok := strings.CutPrefix(string(statement), "INSERT INTO `valuestore` (`id`, `text`) VALUES "); ok {
			assert.Less(t, len(statement), 2*divided)
			statements++
			found += strings.ReplaceAll(strings.TrimSpace(rest), "),\n(", ")(")
		}
	}
	assert.Greater(t, statements, 2)
	assert.Equal(t, len(rows.String()), len(found))
	assert.True(t, rows.String() == found, "no row is lost or changed")
	dumped := &strings.Builder{}
	require.NoError(t, New("http://a.example", "http://b.example").Dump(dumped, strings.NewReader(dump.String())))
	assert.True(t, strings.HasSuffix(dumped.String(), "SELECT 1;\n"))
}

func TestAValueThatNoServerTakesIsRefusedWhileItIsRead(t *testing.T) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err := NewScanner(endless(900)).Next()
	runtime.ReadMemStats(&after)
	assert.ErrorIs(t, err, ErrTooLong)
	assert.ErrorContains(t, err, "table wp_notes, row 3")
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(4*Longest), "what is read is not held")
	assert.ErrorIs(t, New("http://a.example", "http://b.example").Dump(io.Discard, endless(900)), ErrTooLong)
}

func TestADumpThatBreaksOffIsTold(t *testing.T) {
	whole := "-- MariaDB dump 10.19\n--\nCREATE TABLE `t` (`a` int);\nINSERT INTO `t` VALUES (1),(2);\n-- Dump completed on 2026-01-02\n"
	read := func(dump string) error {
		_, err := Statements(dump)
		return err
	}
	assert.NoError(t, read(whole))
	assert.NoError(t, read("\xef\xbb\xbf"+whole))
	assert.NoError(t, read(whole+"UPDATE t SET a = 3;\n"), "somebody added a statement")
	assert.NoError(t, read(whole+whole), "two in one file")
	assert.Error(t, read(whole+whole[:60]), "the second one breaks off")
	for at := range len(whole) - len("ted on 2026-01-02\n") {
		if at > 20 {
			assert.Error(t, read(whole[:at]), whole[:at])
		}
	}
	first, err := Statements("\xef\xbb\xbfCREATE TABLE a (b int);\r\nDROP TABLE a;\r\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"CREATE TABLE a (b int)", "DROP TABLE a"}, first)
}

// Whatever a dump holds, its statements are read to its end, none longer than a server takes, and none twice.
func FuzzScanner(f *testing.F) {
	for _, seed := range []string{"INSERT INTO `a` VALUES (1,'x');\n", "DELIMITER //\nCREATE TRIGGER t//\nDELIMITER ;\n",
		"-- MariaDB dump 10\n-- Dump completed\n", "/*!50003 x */;'", "\xef\xbb\xbf#\n;;;", "`a``b`;\"c\\\"\";"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, dump string) {
		scanner, total := NewScanner(strings.NewReader(dump)), 0
		for {
			statement, err := scanner.Next()
			if err != nil {
				break
			}
			if total += len(statement); total > len(dump) {
				t.Fatalf("%q gives more than it has", dump)
			}
		}
	})
}
