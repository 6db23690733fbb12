package facts

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFoldersThatCannotBecomeASites(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "full/x"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "empty"), 0o755))
	assert.Contains(t, folderFault(filepath.Join(dir, "file")), "is a file")
	assert.Contains(t, folderFault(filepath.Join(dir, "full")), "is not empty")
	assert.Contains(t, folderFault(filepath.Join(dir, "file/a")), "file")
	assert.Empty(t, folderFault(filepath.Join(dir, "empty")))
	assert.Empty(t, folderFault(filepath.Join(dir, "new/deep/er")))
}
