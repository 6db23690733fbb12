package seal

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsAreOpenedOnlyByTheirKeyAndUnderTheirName(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	_, err := Read(file)
	require.ErrorIs(t, err, ErrNoKey, "none is made by looking")
	key, err := ReadOrMake(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	secret := []byte("a garden gate")
	sealed := key.Seal("site fern", secret)
	assert.False(t, bytes.Contains(sealed, secret))
	assert.NotEqual(t, sealed, key.Seal("site fern", secret), "nobody sees that two are alike")
	again, err := ReadOrMake(file)
	require.NoError(t, err)
	opened, err := again.Open("site fern", sealed)
	require.NoError(t, err)
	assert.Equal(t, secret, opened)
	_, err = key.Open("site moss", sealed)
	assert.ErrorContains(t, err, `"site moss" was sealed with another key, or changed`)
	for i := range sealed {
		bent := bytes.Clone(sealed)
		bent[i] ^= 1
		_, err = key.Open("site fern", bent)
		assert.Error(t, err, i)
	}
	_, err = key.Open("site fern", sealed[:5])
	assert.ErrorContains(t, err, "cut short")
	derived, err := key.Derive("mail of fern")
	require.NoError(t, err)
	assert.Len(t, derived, 26)
	for name, with := range map[string]Key{"mail of fern": again, "mail of moss": key} {
		another, err := with.Derive(name)
		require.NoError(t, err)
		assert.Equal(t, name == "mail of fern", another == derived, name)
	}
	other, err := ReadOrMake(filepath.Join(t.TempDir(), "key"))
	require.NoError(t, err)
	_, err = other.Open("site fern", sealed)
	assert.Error(t, err)
	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, err = ReadOrMake(file)
	assert.ErrorContains(t, err, "no key of 32 bytes", "what is there is not replaced")
}
