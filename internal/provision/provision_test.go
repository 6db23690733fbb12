package provision

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

func TestAHomeIsPrivateAndHeldByOne(t *testing.T) {
	home, err := NewHome(filepath.Join(t.TempDir(), "h"), "/engines")
	require.NoError(t, err)
	require.NoError(t, home.Prepare())
	info, err := os.Stat(home.Dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	assert.False(t, home.InUse())
	lock, err := home.lock()
	require.NoError(t, err)
	assert.True(t, home.InUse())
	_, err = home.lock()
	assert.ErrorIs(t, err, ErrHomeInUse)
	lock.Close()
	assert.False(t, home.InUse(), "a lock ends with its process, in whatever way")
	long, _ := NewHome("/"+strings.Repeat("h", 80), "/engines")
	assert.ErrorContains(t, long.Prepare(), "choose a shorter one")
	odd, _ := NewHome("/srv/it's", "/engines")
	assert.ErrorContains(t, odd.Prepare(), "cannot hold")
}

func TestSettingsAreSecretAndWhole(t *testing.T) {
	home := Home{Dir: t.TempDir()}
	settings, err := home.ReadSettings()
	require.NoError(t, err)
	settings.GatewayPort, settings.Ports["mariadb-10.11"] = 20080, 22000
	require.NoError(t, home.WriteSettings(settings))
	again, err := home.ReadSettings()
	require.NoError(t, err)
	assert.Equal(t, settings, again)
	info, err := os.Stat(filepath.Join(home.Dir, "home.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.WriteFile(filepath.Join(home.Dir, "home.json"), []byte("{"), 0o600))
	_, err = home.ReadSettings()
	assert.ErrorContains(t, err, "home.json", "never taken for a new home")
}

func TestTheHomeComesFromTheEnvironment(t *testing.T) {
	t.Setenv("VESSIK_HOME", "/srv/gardens")
	t.Setenv("VESSIK_ENGINES", "/srv/engines")
	home, err := DefaultHome()
	require.NoError(t, err)
	assert.Equal(t, Home{Dir: "/srv/gardens", Engines: "/srv/engines"}, home)
}

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

func TestProbeLinksOfAKilledServiceAreCleared(t *testing.T) {
	s := site.Site{Folder: t.TempDir()}
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(s.Folder, linkPrefix+"1.txt")))
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, linkPrefix+"2.txt"), nil, 0o644))
	clearLinks(s)
	assert.NoFileExists(t, filepath.Join(s.Folder, linkPrefix+"1.txt"))
	assert.FileExists(t, filepath.Join(s.Folder, linkPrefix+"2.txt"), "a file is somebody's")
}

func TestTitlesAreComparedByTheirLetters(t *testing.T) {
	assert.Equal(t, lettersOf(`Fern's “Garden” – 2`), lettersOf("Fern’s \"Garden\" -- 2"))
	assert.NotEqual(t, lettersOf("Fern"), lettersOf("Moss"))
	assert.Equal(t, "10.11.19", versionIn("10.11.19-MariaDB-0+deb12u1"))
	assert.Empty(t, versionIn("no version"))
}

func TestPHPErrorsInAPageAreSeen(t *testing.T) {
	for _, page := range []string{"<br />\n<b>Warning</b>:  Undefined variable $x in <b>/a.php</b>", "<b>Fatal error</b>: Uncaught", "There has been a critical error on this website.", "PHP Parse error: syntax"} {
		assert.True(t, phpError.MatchString(page), page)
	}
	for _, page := range []string{"<p>Warning: the path is icy</p>", "<b>Notice</b> of the keepers", "fatal error in the recipe"} {
		assert.False(t, phpError.MatchString(page), page)
	}
}

func TestTheLastFatalErrorIsQuotedWhileItIsFresh(t *testing.T) {
	log := filepath.Join(t.TempDir(), "php-error.log")
	assert.Empty(t, lastError(log))
	require.NoError(t, os.WriteFile(log, []byte("[x] PHP Fatal error:  first\n[x] PHP Fatal error:  Uncaught Error: moss in /a.php:2\nStack trace:\n#0 {main}\n"), 0o600))
	assert.Equal(t, ". PHP says: Uncaught Error: moss in /a.php:2", lastError(log))
}
