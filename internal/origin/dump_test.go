package origin

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

func TestDumpsAreReadHoweverTheyAreCompressed(t *testing.T) {
	const dump = "SELECT 'moss';\n"
	var zipped, expanded bytes.Buffer
	g := gzip.NewWriter(&zipped)
	g.Write([]byte(dump))
	require.NoError(t, g.Close())
	z, err := zstd.NewWriter(&expanded)
	require.NoError(t, err)
	z.Write([]byte(dump))
	require.NoError(t, z.Close())
	for name, raw := range map[string][]byte{"plain.sql": []byte(dump), "called-anything": zipped.Bytes(), "dump.zst": expanded.Bytes()} {
		file := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(file, raw, 0o600))
		from, err := OpenDump("", file)
		require.NoError(t, err, name)
		text, err := io.ReadAll(from)
		require.NoError(t, err)
		require.NoError(t, from.Close())
		assert.Equal(t, dump, string(text), name)
	}
	broken := filepath.Join(t.TempDir(), "broken.gz")
	require.NoError(t, os.WriteFile(broken, []byte{0x1f, 0x8b, 1}, 0o600))
	_, err = OpenDump("", broken)
	assert.Error(t, err)
}

func TestWhyAPathCannotBeUsed(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "dump.sql")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	assert.Equal(t, file+" is empty", Unreadable(file, false))
	require.NoError(t, os.WriteFile(file, []byte("SELECT 1;"), 0o600))
	assert.Empty(t, Unreadable(dir, true))
	assert.Empty(t, Unreadable(file, false))
	assert.Equal(t, file+" is no folder", Unreadable(file, true))
	assert.Equal(t, dir+" is a folder", Unreadable(dir, false))
	assert.Equal(t, dir+"/gone is not there", Unreadable(dir+"/gone", false))
	assert.Equal(t, `"here" is not absolute`, Unreadable("here", true))
}

// Taking back a layout removes what the layout made, and only that.
func TestUndoOfALayout(t *testing.T) {
	setUp := func(t *testing.T) (site.Site, string) {
		dir := t.TempDir()
		return site.Site{Name: "fernhollow", Folder: filepath.Join(dir, "a", "b", "site")}, dir
	}
	note := func(left laidOut) string {
		text, err := json.Marshal(left)
		require.NoError(t, err)
		return string(text)
	}
	fill := func(t *testing.T, folder string) uint64 {
		require.NoError(t, os.MkdirAll(folder, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, "index.php"), nil, 0o644))
		info, err := os.Stat(folder)
		require.NoError(t, err)
		return info.Sys().(*syscall.Stat_t).Ino
	}
	t.Run("nothing was begun", func(t *testing.T) {
		s, _ := setUp(t)
		fill(t, s.Folder)
		require.NoError(t, undoLayOut("7", s, ""))
		assert.DirExists(t, s.Folder)
	})
	t.Run("cut off while copying", func(t *testing.T) {
		s, dir := setUp(t)
		fill(t, partialFolder("7", s))
		require.NoError(t, undoLayOut("7", s, note(laidOut{Parents: []string{filepath.Join(dir, "a"), filepath.Join(dir, "a/b")}})))
		assert.NoDirExists(t, filepath.Join(dir, "a"), "with the folders made on the way")
		assert.DirExists(t, dir)
	})
	t.Run("laid out whole", func(t *testing.T) {
		s, _ := setUp(t)
		inode := fill(t, s.Folder)
		left := note(laidOut{Inode: inode})
		require.NoError(t, undoLayOut("7", s, left))
		assert.NoDirExists(t, s.Folder)
		require.NoError(t, undoLayOut("7", s, left), "twice does no harm")
	})
	t.Run("an empty folder stood there", func(t *testing.T) {
		s, _ := setUp(t)
		require.NoError(t, undoLayOut("7", s, note(laidOut{Inode: fill(t, s.Folder), Existed: true})))
		entries, err := os.ReadDir(s.Folder)
		require.NoError(t, err)
		assert.Empty(t, entries)
	})
	t.Run("somebody else's files came first", func(t *testing.T) {
		s, _ := setUp(t)
		ours := fill(t, partialFolder("7", s))
		fill(t, s.Folder)
		require.NoError(t, undoLayOut("7", s, note(laidOut{Inode: ours})))
		assert.FileExists(t, filepath.Join(s.Folder, "index.php"))
		assert.NoDirExists(t, partialFolder("7", s))
	})
}
