package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sourcesFolder writes apt sources of one address.
func sourcesFolder(t *testing.T, name, text string) string {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sources.list.d"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sources.list.d", name), []byte(text), 0o644))
	return dir
}

func TestTheMachinesOwnSourcesAreFollowed(t *testing.T) {
	for name, text := range map[string]string{
		"a.sources": "Types: deb\n# Comment\nURIs: http://archive.example/debian\nSuites: trixie trixie-updates\nComponents: main\n\nTypes: " +
			"deb\nURIs: http://safe.example/debian-security\nSuites: trixie-security\nComponents: main contrib\n\nTypes: deb\nURIs: " +
			"http://other.example/\nSuites: nodistro\nComponents: main\n",
		"a.list": "# none\ndeb [arch=amd64 signed-by=/k.gpg] http://archive.example/debian trixie main contrib\ndeb " +
			"http://safe.example/debian-security trixie-security main\ndeb http://other.example/apt tool main\ndeb-src " +
			"http://source.example/debian trixie main\n",
	} {
		t.Run(name, func(t *testing.T) {
			found, err := machineSources(sourcesFolder(t, name, text))
			require.NoError(t, err)
			assert.Equal(t, "http://archive.example/debian", found.main)
			assert.Equal(t, "http://safe.example/debian-security", found.security)
			assert.Contains(t, found.list("bookworm"), "http://archive.example/debian bookworm main")
			assert.Contains(t, found.list("bookworm"), "debian-security bookworm-security main")
		})
	}
	_, err := machineSources(t.TempDir())
	assert.ErrorContains(t, err, "sources.list(5)")
}

func TestAnUnreachableArchiveIsSaidPlainly(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0") // a port that nobody listens on any more
	require.NoError(t, err)
	address := listener.Addr().String()
	listener.Close()
	store := Store{Dir: t.TempDir(), Sources: sourcesFolder(t, "a.list", "deb http://"+address+"/debian bookworm main\n")}
	_, err = store.Ensure(context.Background(), []string{"nginx-1.22"}, nil)
	require.ErrorIs(t, err, ErrArchive)
	assert.ErrorContains(t, err, "Check the network")
	_, err = store.Find("nginx-1.22")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestAHalfUnpackedEngineIsNeverUsed(t *testing.T) {
	store := Store{Dir: t.TempDir()}
	partial := filepath.Join(store.Dir, ".partial-php-8.2-77", "root")
	require.NoError(t, os.MkdirAll(partial, 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(store.Dir, "php-8.2", "root"), 0o755)) // no manifest: not whole
	_, err := store.Find("php-8.2")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.Empty(t, store.List())
	store.removePartial()
	assert.NoDirExists(t, partial)
	_, err = store.Find("php-9.9")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = store.Find("../php-8.2")
	assert.ErrorContains(t, err, "not an engine's id")
	_, err = store.Lookup("php-9.9")
	assert.ErrorContains(t, err, "there are php-8.4")
}

func packed(t *testing.T, headers ...tar.Header) *bytes.Buffer {
	var out bytes.Buffer
	writer := tar.NewWriter(&out)
	for _, h := range headers {
		h.Mode, h.Size = 0o4755, 0
		if h.Typeflag == tar.TypeReg {
			h.Size = 2
		}
		require.NoError(t, writer.WriteHeader(&h))
		if h.Size > 0 {
			writer.Write([]byte("ok"))
		}
	}
	require.NoError(t, writer.Close())
	return &out
}

func TestPackagesAreUnpackedIntoATreeThatHoldsTogether(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, untar(packed(t,
		tar.Header{Name: "./lib/x86_64-linux-gnu/libc.so.6", Typeflag: tar.TypeReg},
		tar.Header{Name: "./lib64/ld.so", Typeflag: tar.TypeSymlink, Linkname: "/lib/x86_64-linux-gnu/libc.so.6"},
		tar.Header{Name: "./usr/share/doc/x/README", Typeflag: tar.TypeReg},
		tar.Header{Name: "./../../escaped", Typeflag: tar.TypeReg}), root))
	text, err := os.ReadFile(filepath.Join(root, "usr/lib64/ld.so"))
	require.NoError(t, err, "the absolute link leads into the tree")
	assert.Equal(t, "ok", string(text))
	assert.NoDirExists(t, filepath.Join(root, "usr/share/doc"))
	assert.NoFileExists(t, filepath.Join(root, "../../escaped"))
	assert.FileExists(t, filepath.Join(root, "escaped"), "held inside the tree")
	info, err := os.Stat(filepath.Join(root, "usr/lib/x86_64-linux-gnu/libc.so.6"))
	require.NoError(t, err)
	assert.Zero(t, info.Mode()&fs.ModeSetuid, "no program keeps another's rights")
}

func TestPortHoldersAreNamed(t *testing.T) {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	own, err := os.ReadFile("/proc/self/comm")
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%s (process %d)", strings.TrimSpace(string(own)), os.Getpid()), PortHolder(port))
	require.NoError(t, listener.Close())
	assert.Empty(t, PortHolder(port))
}

func TestWaitingForTheStoreCanBeGivenUp(t *testing.T) {
	store := Store{Dir: t.TempDir()}
	unlock, err := store.lock(context.Background(), func(string, float64) {})
	require.NoError(t, err)
	defer unlock()
	ctx, cancel := context.WithCancel(context.Background())
	told := ""
	_, err = store.lock(ctx, func(text string, _ float64) { told = text; cancel() })
	assert.True(t, errors.Is(err, context.Canceled))
	assert.Contains(t, told, "being fetched already")
}

func TestWhatALaterCatalogueHasBesidesIsAddedToAnEngineThatIsThere(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	e := &Engine{ID: "mariadb-10.11", Dir: filepath.Join(s.Dir, "mariadb-10.11"), Packages: []string{"libc6=1"}}
	partial := filepath.Join(s.Dir, ".partial")
	for path, text := range map[string]string{filepath.Join(e.Root(), "usr/bin/mariadb"): "in use",
		filepath.Join(partial, "root/usr/bin/mariadb"): "newer", filepath.Join(partial, "root/usr/bin/mariadb-dump"): "dumps",
		filepath.Join(partial, "root/usr/lib/new/libx.so"): "x"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o755))
	}
	require.NoError(t, writeManifest(e.Dir, e))
	found, err := s.Find(e.ID)
	require.NoError(t, err)
	assert.Contains(t, found.Lacking(), "mariadb-dump")
	require.NoError(t, add(found, partial, []string{"libc6=1", "mariadb-client=2"}))
	found, err = s.Find(e.ID)
	require.NoError(t, err)
	assert.NotContains(t, found.Lacking(), "mariadb-dump")
	assert.Contains(t, found.Lacking(), "mariadb-admin")
	assert.Equal(t, []string{"libc6=1", "mariadb-client=2"}, found.Packages)
	text, err := os.ReadFile(filepath.Join(e.Root(), "usr/bin/mariadb"))
	require.NoError(t, err)
	assert.Equal(t, "in use", string(text))
	assert.FileExists(t, filepath.Join(e.Root(), "usr/lib/new/libx.so"))
}
