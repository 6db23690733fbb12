package engine

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHomesThatShareAStoreKnowOfEachOther(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	one, other := t.TempDir(), t.TempDir()
	for _, home := range []string{one, other} {
		require.NoError(t, os.WriteFile(filepath.Join(home, "home.json"), nil, 0o600))
	}
	require.NoError(t, s.Uses(one, []string{"php-8.2"}))
	require.NoError(t, s.Uses(other, []string{"php-8.2", "php-8.4"}))
	assert.Equal(t, []string{other}, s.UsedElsewhere("php-8.2", one))
	assert.Empty(t, s.UsedElsewhere("php-7.4", one))
	require.NoError(t, s.Uses(other, []string{"php-8.4"}))
	assert.Empty(t, s.UsedElsewhere("php-8.2", one))
	require.NoError(t, os.RemoveAll(other))
	assert.Empty(t, s.UsedElsewhere("php-8.4", one), "a home that is gone uses nothing")
	left, err := os.ReadDir(filepath.Join(s.Dir, ".homes"))
	require.NoError(t, err)
	assert.Len(t, left, 1)
}
