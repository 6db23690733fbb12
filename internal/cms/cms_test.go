package cms

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vessik/internal/core/site"
)

func TestPhpassAgreesWithPHP(t *testing.T) {
	// Published test vector of phpass: test12345.
	assert.True(t, phpassMatches("test12345", "$P$9IQRaTwmfeRo7ud9Fh4E2PdI0S3r.L0"))
	assert.False(t, phpassMatches("test12346", "$P$9IQRaTwmfeRo7ud9Fh4E2PdI0S3r.L0"))
	assert.False(t, phpassMatches("x", "$2y$10$abc"))
	hash := phpassHash("ferns are the exception")
	assert.Len(t, hash, 34)
	assert.True(t, phpassMatches("ferns are the exception", hash))
	assert.NotEqual(t, hash, phpassHash("ferns are the exception"), "salted")
}

func TestPasswordsAreLongAndNeverAlike(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		p := Password()
		assert.GreaterOrEqual(t, len(p), 24)
		assert.False(t, seen[p])
		seen[p] = true
	}
}

func bundled(name string) *Definition {
	definitions, _ := All("")
	return definitions[name]
}

func configuration(password string) string {
	k := bundled("wordpress")
	text, err := k.write(k.Configuration.Text, Facts{Database: site.Database{Name: "d", User: "u", Password: password}, Host: "127.0.0.1",
		Port: 22000, Prefix: "wp_"})
	if err != nil {
		panic(err)
	}
	return text
}

// A generated or given secret stands in PHP exactly as it is, whatever it is made of.
func TestConfigurationHoldsAnyPassword(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		password := rapid.String().Draw(t, "password")
		text := configuration(password)
		_, literal, _ := strings.Cut(text, "define( 'DB_PASSWORD', '")
		read := []byte{}
		for i := 0; i < len(literal) && literal[i] != '\''; i++ {
			if literal[i] == '\\' { // in single quotes, PHP knows \\ and \' only
				i++
			}
			read = append(read, literal[i])
		}
		if string(read) != password {
			t.Fatalf("%q became %q", password, read)
		}
	})
	a, b := configuration("one"), configuration("one")
	assert.NotEqual(t, a, b, "fresh salts each time")
}

func TestCopiesAreWhole(t *testing.T) {
	from, to := t.TempDir(), filepath.Join(t.TempDir(), "copy")
	require.NoError(t, os.MkdirAll(filepath.Join(from, "a/b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(from, "a/b/leaf"), []byte("green"), 0o644))
	require.NoError(t, os.Symlink("b/leaf", filepath.Join(from, "a/link")))
	require.NoError(t, CopyTree(context.Background(), from, to))
	info, err := os.Lstat(filepath.Join(to, "a/link"))
	require.NoError(t, err)
	assert.True(t, info.Mode().IsRegular(), "links are followed")
	assert.ErrorIs(t, CopyTree(context.Background(), from, to), os.ErrExist, "nothing is written over")
	require.NoError(t, os.Symlink("nowhere", filepath.Join(from, "a/broken")))
	assert.ErrorContains(t, CopyTree(context.Background(), from, to+"2"), "follow the link")
	cancelled, cancel := context.WithCancel(context.Background())
	cancel()
	assert.Error(t, CopyTree(cancelled, from, to+"3"))
}

func TestEveryWordPressReadsItsPasswords(t *testing.T) {
	for _, version := range []string{"5.7", "6.1", "6.8"} {
		hash := bundled("wordpress").HashOf(version, "ferns are the exception")
		assert.Equal(t, version == "6.8", strings.HasPrefix(hash, "$wp$2y$10$"), hash)
		assert.True(t, passwordMatches("ferns are the exception", hash))
		assert.False(t, passwordMatches("ferns are no exception", hash))
		long := strings.Repeat("moss", 40)
		hash = bundled("wordpress").HashOf(version, long)
		assert.True(t, passwordMatches(long, hash))
		assert.False(t, passwordMatches(long+"y", hash), "every letter counts, also beyond what bcrypt reads")
	}
	// Made with the lines of WordPress 6.8's wp_hash_password, by PHP 8.4.
	assert.True(t, passwordMatches("garden-gate-77", "$wp$2y$12$3RH1DeyR5Igi4BBTQ2BFqe0NUC1cid2tGjNR9.yf.Rh6QRXHJFlVG"))
}

// A configuration is changed where it must be, and nowhere else, whatever hand has written it.
func TestOnlyTheDatabasesConstantsAreChanged(t *testing.T) {
	k, folder := bundled("wordpress"), t.TempDir()
	path := filepath.Join(folder, "wp-config.php")
	text := "<?php\n// define( 'DB_HOST' is below\ndefine('DB_NAME',\"old\");\ndefine( 'DB_USER', 'o\\'ld' );\ndefine(  \"DB_PASSWORD\" , " +
		"'x' );\ndefine('DB_HOST','localhost:3306');\ndefine('MY_OWN', 'localhost:3306');\n$table_prefix = 'moss_';\n"
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
	require.NoError(t, k.Repoint(folder, 22001))
	changed, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(text, "'DB_HOST','localhost:3306'", "'DB_HOST','127.0.0.1:22001'", 1), string(changed))
	require.NoError(t, k.Reconfigure(folder, site.Database{Name: "n", User: "u", Password: `a'b\c$1`}, 22002))
	changed, err = os.ReadFile(path)
	require.NoError(t, err)
	for _, part := range []string{"define('DB_NAME','n');", "define( 'DB_USER', 'u' );", `define(  "DB_PASSWORD" , 'a\'b\\c$1' );`,
		"'127.0.0.1:22002'", "define('MY_OWN', 'localhost:3306');", "$table_prefix = 'moss_';"} {
		assert.Contains(t, string(changed), part)
	}
	values, err := k.Values(folder)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"address": "127.0.0.1:22002", "name": "n", "user": "u", "password": `a'b\c$1`, "prefix": "moss_"},
		values)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	require.NoError(t, os.WriteFile(path, []byte("<?php define('DB_HOST', getenv('DB'));"), 0o640))
	assert.ErrorContains(t, k.Repoint(folder, 22001), "write define( 'DB_HOST'")
}

func TestDumpsAreComparedTableByTable(t *testing.T) {
	before := map[string]TableSum{"a": {3, 7}, "b": {1, 2}, "c": {0, 0}}
	assert.Empty(t, Compare(before, map[string]TableSum{"a": {3, 7}, "b": {1, 2}, "c": {0, 0}}))
	assert.Equal(t, []string{"a has 2 rows of 3", "b differs in content", "c is missing", "d is new"},
		Compare(before, map[string]TableSum{"a": {2, 7}, "b": {1, 3}, "d": {0, 0}}))
}
