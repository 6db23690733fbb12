package parcel

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// opened is a mirror that lies open in a home.
func opened(t *testing.T, edit func(*wire.Parcel)) (home, dir string) {
	t.Helper()
	home = t.TempDir()
	dir = filepath.Join(home, Mirrors, "orchard-live")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, filesName, "a"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, filesName, "a/b"), []byte("fern"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, databaseName), []byte("SELECT 1;"), 0o600))
	m := wire.Parcel{Format: Format, Site: "orchard", Title: "Orchard", CMS: site.CMS{Name: "wordpress", Version: "6.8"}, Prefix: "k_",
		URL: "https://orchard.example", Database: true, Stack: site.Stack{PHP: "php-8.4", Web: "nginx-1.26", Database: "mariadb-11.8"}}
	if edit != nil {
		edit(&m)
	}
	text, err := json.Marshal(m)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, ManifestName), text, 0o600))
	return home, dir
}

// A mirror is read as a parcel is, and what was read of it stays when it is fetched anew.
func TestAMirrorIsAnOpenParcel(t *testing.T) {
	home, dir := opened(t, nil)
	assert.True(t, IsMirror(home, dir))
	for _, other := range []string{home, filepath.Join(home, Mirrors), filepath.Join(dir, "files"), "/etc", filepath.Join(dir, "..", "..",
		"x"),
		filepath.Join(home, "sites", "orchard-live")} {
		assert.False(t, IsMirror(home, other), other)
	}
	said, err := Read(dir)
	require.NoError(t, err)
	assert.Equal(t, "Orchard", said.Title)
	got, err := Open(context.Background(), dir, filepath.Join(home, "whole"))
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, filesName)))
	require.NoError(t, os.Remove(filepath.Join(dir, databaseName)))
	text, err := os.ReadFile(filepath.Join(got.Files, "a/b"))
	require.NoError(t, err)
	assert.Equal(t, "fern", string(text))
	text, err = os.ReadFile(got.Dump)
	require.NoError(t, err)
	assert.Equal(t, "SELECT 1;", string(text))
}

// One that is half of what was and half of what comes is none, and a host's word is judged as anybody's.
func TestAMirrorThatIsNotToBeRead(t *testing.T) {
	home, dir := opened(t, nil)
	require.NoError(t, os.Remove(filepath.Join(dir, ManifestName)))
	_, err := Read(dir)
	require.ErrorContains(t, err, "fetch it again")
	_, err = Open(context.Background(), dir, filepath.Join(home, "whole"))
	require.ErrorContains(t, err, "fetch it again")
	require.NoError(t, os.WriteFile(filepath.Join(dir, ManifestName), []byte(`{"format":"vessik-parcel/9"}`), 0o600))
	_, err = Read(dir)
	require.ErrorContains(t, err, "fetch it again")
	for says, edit := range map[string]func(*wire.Parcel){
		"no place in a site": func(m *wire.Parcel) { m.Configuration = "../../secrets.key" },
		"below nothing":      func(m *wire.Parcel) { m.DatabaseBytes = -1 },
		"not to be trusted":  func(m *wire.Parcel) { m.Prefix = "k`; DROP DATABASE x; --" },
		"is not to be":       func(m *wire.Parcel) { m.LeftOut = []string{"/etc"} },
	} {
		_, dir := opened(t, edit)
		_, err := Read(dir)
		assert.ErrorContains(t, err, says)
	}
}

// Who reads keeps nobody else from reading, and who changes waits for them.
func TestAMirrorIsChangedWhileNobodyReads(t *testing.T) {
	_, dir := opened(t, nil)
	first, err := LockMirror(context.Background(), dir, false)
	require.NoError(t, err)
	second, err := LockMirror(context.Background(), dir, false)
	require.NoError(t, err)
	brief, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	_, err = LockMirror(brief, dir, true)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	first()
	changed := make(chan error)
	go func() {
		unlock, err := LockMirror(context.Background(), dir, true)
		if err == nil {
			unlock()
		}
		changed <- err
	}()
	select {
	case <-changed:
		t.Fatal("it is read still")
	case <-time.After(100 * time.Millisecond):
	}
	second()
	require.NoError(t, <-changed)
}
