package provision

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

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
		from, err := openDump(file)
		require.NoError(t, err, name)
		text, err := io.ReadAll(from)
		require.NoError(t, err)
		require.NoError(t, from.Close())
		assert.Equal(t, dump, string(text), name)
	}
	broken := filepath.Join(t.TempDir(), "broken.gz")
	require.NoError(t, os.WriteFile(broken, []byte{0x1f, 0x8b, 1}, 0o600))
	_, err = openDump(broken)
	assert.Error(t, err)
}

func TestADumpStaysInTheSitesOwnDatabase(t *testing.T) {
	judge := foreign(func(statement string) (string, error) { return statement, nil })
	for _, gone := range []string{"USE mysql", "use `other`", "CREATE DATABASE x", "drop database x", "GRANT ALL ON *.* TO a", "SET GLOBAL max_connections=1", "LOCK TABLES a WRITE", "UNLOCK TABLES"} {
		left, err := judge(gone)
		require.NoError(t, err)
		assert.Empty(t, left, gone)
	}
	for _, kept := range []string{"CREATE TABLE users (a INT)", "INSERT INTO used VALUES ('USE mysql')", "SET NAMES utf8mb4", "DROP TABLE IF EXISTS a"} {
		left, err := judge(kept)
		require.NoError(t, err)
		assert.Equal(t, kept, left)
	}
}

func TestWhyAPathCannotBeUsed(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "dump.sql")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	assert.Empty(t, unreadable(dir, true))
	assert.Empty(t, unreadable(file, false))
	assert.Equal(t, file+" is no folder", unreadable(file, true))
	assert.Equal(t, dir+" is a folder", unreadable(dir, false))
	assert.Equal(t, dir+"/gone is not there", unreadable(dir+"/gone", false))
	assert.Equal(t, `"here" is not absolute`, unreadable("here", true))
}

func TestATicketIsGoodOnceAndForItsSite(t *testing.T) {
	p := &Provisioner{}
	fern, moss := site.Site{Name: "fern", Probe: "of fern"}, site.Site{Name: "moss"}
	draw := func(until time.Time) {
		p.tickets.valid = map[string]ticket{"token": {"fern", "ines", until}}
	}
	draw(time.Now().Add(time.Minute))
	user, secret, ok := p.TakeTicket(fern, "token")
	assert.True(t, ok)
	assert.Equal(t, "ines of fern", user+" "+secret)
	_, _, ok = p.TakeTicket(fern, "token")
	assert.False(t, ok, "used")
	draw(time.Now().Add(time.Minute))
	_, _, ok = p.TakeTicket(moss, "token")
	assert.False(t, ok, "of another site")
	_, _, ok = p.TakeTicket(fern, "token")
	assert.False(t, ok, "and used up by it")
	draw(time.Now().Add(-time.Second))
	_, _, ok = p.TakeTicket(fern, "token")
	assert.False(t, ok, "too late")
}
