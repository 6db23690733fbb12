package kit

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

// A generated or given secret stands in PHP exactly as it is, whatever it is made of.
func TestConfigurationHoldsAnyPassword(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		password := rapid.String().Draw(t, "password")
		text := configuration(site.Database{Name: "d", User: "u", Password: password}, 22000)
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
	a, b := configuration(site.Database{}, 1), configuration(site.Database{}, 1)
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
