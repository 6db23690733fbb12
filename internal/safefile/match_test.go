package safefile

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// draw fills a folder with files, folders and links of few names, so that one often stands where another one stood.
func draw(t *rapid.T, dir, label string) {
	for i := range rapid.IntRange(0, 14).Draw(t, label) {
		at := dir
		for range rapid.IntRange(0, 2).Draw(t, fmt.Sprint(label, "depth", i)) {
			at = filepath.Join(at, rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, fmt.Sprint(label, "part", i)))
		}
		if info, err := os.Lstat(at); err == nil && !info.IsDir() || os.MkdirAll(at, 0o755) != nil {
			continue
		}
		name := filepath.Join(at, rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, fmt.Sprint(label, "name", i)))
		switch rapid.IntRange(0, 3).Draw(t, fmt.Sprint(label, "kind", i)) {
		case 0:
			os.Symlink(rapid.SampledFrom([]string{"/etc", "a", "../..", "nowhere"}).Draw(t, fmt.Sprint(label, "link", i)), name)
		case 1:
			os.Mkdir(name, 0o755)
		default:
			if info, err := os.Lstat(name); err != nil || info.Mode().IsRegular() {
				os.WriteFile(name, []byte(rapid.SampledFrom([]string{"", "one", "two", "three"}).Draw(t, fmt.Sprint(label, "text", i))), 0o644)
			}
		}
	}
}

func listed(t require.TestingT, dir string) (found []string) {
	require.NoError(t, Walk(context.Background(), dir, nil, func(e Entry) error {
		text := []byte{}
		if e.Type.IsRegular() {
			text, _ = ReadFile(dir, e.Path)
		}
		found = append(found, fmt.Sprint(e.Path, e.Type.Type(), e.Link, string(text)))
		return nil
	}))
	return found
}

// Whatever stands where: afterwards a folder is like the other, nothing is left to be done, and what links lead to is as it was.
func TestAFolderIsMadeLikeAnother(t *testing.T) {
	base := t.TempDir()
	n := 0
	rapid.Check(t, func(t *rapid.T) {
		n++
		from, to := filepath.Join(base, fmt.Sprint(n), "from"), filepath.Join(base, fmt.Sprint(n), "to")
		require.NoError(t, os.MkdirAll(from, 0o755))
		require.NoError(t, os.MkdirAll(to, 0o755))
		draw(t, from, "from")
		draw(t, to, "to")
		wanted := listed(t, from)
		_, err := Match(context.Background(), open(t, from), to)
		require.NoError(t, err)
		assert.Equal(t, wanted, listed(t, to))
		left, err := Compare(context.Background(), open(t, from), to)
		require.NoError(t, err)
		assert.Equal(t, Difference{}, left)
		entries, err := os.ReadDir(filepath.Dir(to))
		require.NoError(t, err)
		assert.Len(t, entries, 2, "nothing beside it")
	})
}

func TestWhatIsLeftOutStays(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	for _, path := range []string{"plugins/own/kept.php", "plugins/other/gone.php"} {
		require.NoError(t, os.MkdirAll(filepath.Join(to, filepath.Dir(path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(to, path), []byte("x"), 0o644))
	}
	difference, err := Match(context.Background(), open(t, from), to, "plugins/own")
	require.NoError(t, err)
	assert.Equal(t, []string{"plugins/other"}, difference.Gone)
	assert.FileExists(t, filepath.Join(to, "plugins/own/kept.php"))
	assert.NoDirExists(t, filepath.Join(to, "plugins/other"))
}

func open(t require.TestingT, folder string) Source {
	source, err := Folder(context.Background(), folder)
	require.NoError(t, err)
	return source
}
