package stencil

import (
	"bytes"
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

var ctx = context.Background()

func saved(t *testing.T) (Shelf, Manifest) {
	dir := t.TempDir()
	write := func(name, text string) {
		path := filepath.Join(dir, "site", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("index.php", "<?php")
	write("config.php", "password 'secret'")
	write("cache/old", "stale")
	write("uploads/Ærenpreis.txt", "blue")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "site/empty"), 0o755))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "site/leak")))
	dump, picture := filepath.Join(dir, "d.sql"), filepath.Join(dir, "p.jpg")
	require.NoError(t, os.WriteFile(dump, []byte("SELECT 1;\n"), 0o600))
	require.NoError(t, os.WriteFile(picture, []byte("a picture"), 0o600))
	shelf := Shelf{Dir: filepath.Join(dir, "stencils")}
	told := int64(0)
	m, err := shelf.Save(ctx, Manifest{Format: Format, Name: "moss", Description: "wet", CMS: site.CMS{Name: "wordpress", Version: "6.1"}},
		Source{Folder: filepath.Join(dir, "site"), LeaveOut: []string{"cache"}, Replace: map[string][]byte{"config.php": []byte("password ''")},
			Database: dump, Picture: picture}, func(done int64) { told = done })
	require.NoError(t, err)
	assert.Positive(t, told)
	return shelf, m
}

func TestAStencilIsWhatWasSaved(t *testing.T) {
	shelf, m := saved(t)
	assert.Equal(t, 3, m.Files)
	assert.Equal(t, 1, m.LinksLeftOut)
	assert.Positive(t, m.SizeBytes)
	files, database, err := shelf.Open(ctx, "moss", filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	for name, want := range map[string]string{"index.php": "<?php", "config.php": "password ''", "uploads/Ærenpreis.txt": "blue"} {
		text, err := os.ReadFile(filepath.Join(files, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(text))
	}
	assert.DirExists(t, filepath.Join(files, "empty"))
	assert.NoDirExists(t, filepath.Join(files, "cache"))
	assert.NoFileExists(t, filepath.Join(files, "leak"))
	assert.FileExists(t, database)
	picture, err := shelf.Picture("moss")
	require.NoError(t, err)
	assert.Equal(t, "a picture", string(picture))
	_, err = shelf.Save(ctx, m, Source{Folder: files, Database: database}, nil)
	assert.ErrorContains(t, err, "already", "nothing is written over")
	left, err := filepath.Glob(filepath.Join(shelf.Dir, ".partial*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestADamagedStencilIsNotOpened(t *testing.T) {
	shelf, _ := saved(t)
	whole, err := os.ReadFile(shelf.File("moss"))
	require.NoError(t, err)
	reader, err := zstd.NewReader(bytes.NewReader(whole))
	require.NoError(t, err)
	var plain bytes.Buffer
	_, err = plain.ReadFrom(reader)
	require.NoError(t, err)
	packed := func(text []byte) *bytes.Reader {
		var out bytes.Buffer
		writer, err := zstd.NewWriter(&out)
		require.NoError(t, err)
		writer.Write(text)
		require.NoError(t, writer.Close())
		return bytes.NewReader(out.Bytes())
	}
	for why, raw := range map[string]*bytes.Reader{
		"files/uploads/Ærenpreis.txt\" does not have the checksum": packed(bytes.Replace(plain.Bytes(), []byte("blue"), []byte("grey"), 1)),
		"it does not begin with":                                   bytes.NewReader(whole[:len(whole)/2]),
		"is not a stencil":                                         packed([]byte("no archive at all")),
		"this Vessik can read": packed(bytes.Replace(plain.Bytes(), []byte("vessik-stencil/2"),
			[]byte("vessik-stencil/9"), 1)),
		"config.php has no check": packed(bytes.Replace(plain.Bytes(), []byte("  files/config.php\n"), []byte("  files/confuse.php\n"), 1)),
	} {
		_, err := shelf.Import(ctx, "other", raw)
		if why == "config.php has no check" {
			assert.ErrorContains(t, err, "files/confuse.php\" does not have the checksum")
			continue
		}
		assert.ErrorContains(t, err, why)
	}
	entries, err := os.ReadDir(shelf.Dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing of them is left")
	m, err := shelf.Import(ctx, "other", bytes.NewReader(whole))
	require.NoError(t, err)
	assert.Equal(t, "other wet", m.Name+" "+m.Description)
}

func TestStencilsAreDescribedRenamedAndDropped(t *testing.T) {
	shelf, _ := saved(t)
	require.NoError(t, shelf.Describe("moss", "fern", "drier"))
	_, err := shelf.Find("moss")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	all := shelf.List()
	require.Len(t, all, 1)
	assert.Equal(t, "fern drier", all[0].Name+" "+all[0].Description)
	assert.ErrorContains(t, shelf.Describe("fern", "../evil", ""), "is not a stencil's name")
	assert.ErrorIs(t, shelf.Drop("moss"), fs.ErrNotExist)
	_, err = shelf.Find("../fern")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, shelf.Drop("fern"))
	left, err := os.ReadDir(shelf.Dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAStencilFromAnybodyIsJudged(t *testing.T) {
	good := Manifest{Root: "public", Prefix: "wp_", URL: "http://a.localhost", Title: "Seeds & <Swaps>"}
	require.NoError(t, Judge(good))
	for why, spoil := range map[string]func(m *Manifest){
		"leads out":        func(m *Manifest) { m.Root = "../.." },
		"leads out of":     func(m *Manifest) { m.Root = "/etc" },
		"signs in it":      func(m *Manifest) { m.Root = "a\";}\nserver {" },
		"none of a table":  func(m *Manifest) { m.Prefix = "wp`" },
		"no address":       func(m *Manifest) { m.URL = "file:///etc/passwd" },
		"no name":          func(m *Manifest) { m.SubSites = []string{"../a"} },
		"no kind":          func(m *Manifest) { m.Network = "x" },
		"text of one line": func(m *Manifest) { m.Title = "a\nb" },
		"no text of one":   func(m *Manifest) { m.CMS.Version = "6\n" },
		"which is no name": func(m *Manifest) { m.CMS.Name = "Word Press" },
	} {
		m := good
		spoil(&m)
		assert.ErrorContains(t, Judge(m), why)
	}
}
