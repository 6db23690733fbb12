package safefile

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func folders(t *testing.T) (site, outside string) {
	site, outside = t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "token"), []byte("secret"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(site, "public"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(site, "public/index.php"), []byte("fern"), 0o755))
	return site, outside
}

func TestNothingIsReadThroughALink(t *testing.T) {
	site, outside := folders(t)
	require.NoError(t, os.Symlink(filepath.Join(outside, "token"), filepath.Join(site, "link")))
	require.NoError(t, os.Symlink(outside, filepath.Join(site, "door")))
	require.NoError(t, unix.Mkfifo(filepath.Join(site, "pipe"), 0o600))
	for _, name := range []string{"link", "door/token", "pipe", "../" + filepath.Base(outside) + "/token", "/etc/hostname", "public"} {
		_, err := ReadFile(site, name)
		assert.Error(t, err, name)
	}
	for _, name := range []string{"link", "door/token", "pipe"} {
		_, err := ReadFile(site, name)
		assert.ErrorIs(t, err, ErrNotRegular, name)
	}
	text, err := ReadFile(site, "public/index.php")
	require.NoError(t, err)
	assert.Equal(t, "fern", string(text))
}

func TestNothingIsWrittenThroughALink(t *testing.T) {
	site, outside := folders(t)
	token := filepath.Join(outside, "token")
	require.NoError(t, os.Symlink(token, filepath.Join(site, "link")))
	require.NoError(t, os.Symlink(outside, filepath.Join(site, "door")))
	require.NoError(t, WriteFile(site, "link", []byte("moss"), 0o644), "what lies there is replaced")
	assert.Error(t, WriteFile(site, "door/token", []byte("moss"), 0o644))
	assert.Error(t, Remove(site, "door/token"))
	assert.Error(t, MakeFolder(site, "door/new"))
	text, err := os.ReadFile(token)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(text))
	require.NoError(t, os.Symlink(token, filepath.Join(site, "again")))
	assert.ErrorIs(t, Replace(site, "again", []byte("moss")), ErrNotRegular)
	require.NoError(t, Replace(site, "public/index.php", []byte("moss")))
	info, err := os.Stat(filepath.Join(site, "public/index.php"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o755), info.Mode().Perm())
	left, err := filepath.Glob(filepath.Join(site, "public/.*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestACopyHoldsLinksAsLinksAndLeavesPipesBehind(t *testing.T) {
	site, outside := folders(t)
	require.NoError(t, os.Symlink(filepath.Join(outside, "token"), filepath.Join(site, "public/link")))
	require.NoError(t, unix.Mkfifo(filepath.Join(site, "pipe"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(site, "cache"), 0o755))
	to := filepath.Join(t.TempDir(), "copy")
	skipped, err := Copy(context.Background(), site, to, "cache")
	require.NoError(t, err)
	assert.Equal(t, Skipped{"pipe"}, skipped)
	target, err := os.Readlink(filepath.Join(to, "public/link"))
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(outside, "token"), target)
	assert.NoDirExists(t, filepath.Join(to, "cache"))
	assert.Equal(t, int64(4), Bytes(site))
	names := int64(-1) // the folder itself
	require.NoError(t, filepath.WalkDir(site, func(string, fs.DirEntry, error) error { names++; return nil }))
	takes, err := Measure(site)
	require.NoError(t, err)
	assert.Equal(t, 4+4096*names, takes, "a name takes room, too")
	_, err = Measure(filepath.Join(site, "nowhere"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
	done, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Copy(done, site, filepath.Join(t.TempDir(), "none"))
	assert.ErrorIs(t, err, context.Canceled)
}

// A folder and a file are exchanged for links without pause while they are walked; nothing from outside ever comes into a copy.
func TestWhatIsExchangedWhileItIsCopiedLeadsNowhere(t *testing.T) {
	site, outside := folders(t)
	for _, name := range []string{"door", "file"} {
		require.NoError(t, os.Symlink(map[string]string{"door": outside, "file": filepath.Join(outside, "token")}[name], filepath.Join(site,
			name+"-link")))
	}
	require.NoError(t, os.Mkdir(filepath.Join(site, "door"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(site, "file"), []byte("moss"), 0o644))
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			for _, name := range []string{"door", "file"} {
				unix.Renameat2(unix.AT_FDCWD, filepath.Join(site, name), unix.AT_FDCWD, filepath.Join(site, name+"-link"), unix.RENAME_EXCHANGE)
			}
		}
	}()
	for end := time.Now().Add(time.Second); time.Now().Before(end); {
		to := filepath.Join(t.TempDir(), "copy")
		_, err := Copy(context.Background(), site, to)
		var fault *fs.PathError
		if err != nil && !errors.As(err, &fault) && !errors.Is(err, syscall.EINVAL) {
			t.Fatal(err)
		}
		filepath.WalkDir(to, func(path string, entry fs.DirEntry, err error) error {
			if err == nil && entry.Type().IsRegular() {
				text, _ := os.ReadFile(path)
				require.NotContains(t, string(text), "secret", path)
			}
			return nil
		})
	}
}
