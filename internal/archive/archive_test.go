package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type entry struct {
	name, text, link string
	kind             byte
}

func tarOf(t *testing.T, entries ...entry) []byte {
	var out bytes.Buffer
	writer := tar.NewWriter(&out)
	for _, e := range entries {
		if e.kind == 0 {
			e.kind = tar.TypeReg
		}
		require.NoError(t, writer.WriteHeader(&tar.Header{Name: e.name, Linkname: e.link, Typeflag: e.kind, Mode: 0o4777,
			Size: int64(len(e.text)), Format: tar.FormatGNU}))
		_, err := writer.Write([]byte(e.text))
		require.NoError(t, err)
	}
	require.NoError(t, writer.Close())
	return out.Bytes()
}

func packed(t *testing.T, how string, raw []byte) []byte {
	var out bytes.Buffer
	var writer io.WriteCloser = gzip.NewWriter(&out)
	if how == "zst" {
		var err error
		writer, err = zstd.NewWriter(&out)
		require.NoError(t, err)
	}
	_, err := writer.Write(raw)
	require.NoError(t, err)
	require.NoError(t, writer.Close())
	return out.Bytes()
}

func zipOf(t *testing.T, mode os.FileMode, entries ...entry) []byte {
	var out bytes.Buffer
	writer := zip.NewWriter(&out)
	for _, e := range entries {
		head := &zip.FileHeader{Name: e.name, Method: zip.Deflate, NonUTF8: e.kind == 'x'}
		head.SetMode(mode)
		w, err := writer.CreateHeader(head)
		require.NoError(t, err)
		_, err = w.Write([]byte(e.text))
		require.NoError(t, err)
	}
	require.NoError(t, writer.Close())
	return out.Bytes()
}

func unpack(t *testing.T, raw []byte, limits Limits) (dir string, err error) {
	file := filepath.Join(t.TempDir(), "archive")
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	dir = filepath.Join(t.TempDir(), "out")
	return dir, Unpack(context.Background(), file, dir, limits)
}

func TestEveryFormatIsUnpacked(t *testing.T) {
	entries := []entry{{name: "moss/", kind: tar.TypeDir}, {name: "moss/public/index.php", text: "<?php"},
		{name: "moss/Ærenpreis.txt", text: "wet"}}
	plain := tarOf(t, entries...)
	for name, raw := range map[string][]byte{"tar": plain, "gz": packed(t, "gz", plain), "zst": packed(t, "zst", plain),
		"zip": zipOf(t, 0o644, entries[1:]...)} {
		dir, err := unpack(t, raw, Usual)
		require.NoError(t, err, name)
		assert.Equal(t, filepath.Join(dir, "moss"), Top(dir), name)
		text, err := os.ReadFile(filepath.Join(dir, "moss/Ærenpreis.txt"))
		require.NoError(t, err)
		assert.Equal(t, "wet", string(text))
		root, ok := DocumentRoot(Top(dir))
		assert.True(t, ok)
		assert.Equal(t, "public", root)
		info, err := os.Stat(filepath.Join(dir, "moss/public/index.php"))
		require.NoError(t, err)
		assert.Zero(t, info.Mode()&os.ModeSetuid)
	}
	_, ok := DocumentRoot(t.TempDir())
	assert.False(t, ok)
}

// Whatever an archive holds, nothing is written outside its folder, and nothing stays of one that is refused.
func TestLinksArePassedByWhereTheyMayBe(t *testing.T) {
	limits := Usual
	limits.PassLinks = true
	for _, raw := range [][]byte{tarOf(t, entry{name: "www", link: "/etc", kind: tar.TypeSymlink}, entry{name: "www/evil", text: "x"},
		entry{name: "hard", link: "/etc/passwd", kind: tar.TypeLink}), zipOf(t, os.ModeSymlink|0o777, entry{name: "www", text: "/etc"})} {
		dir, err := unpack(t, raw, limits)
		require.NoError(t, err)
		assert.NoFileExists(t, filepath.Join(dir, "hard"))
		assert.NoFileExists(t, "/etc/evil")
		info, err := os.Lstat(filepath.Join(dir, "www"))
		assert.True(t, err != nil || info.IsDir(), "none is made")
	}
}

func TestHostileArchivesAreRefused(t *testing.T) {
	good := entry{name: "good.txt", text: "good"}
	zeros := string(make([]byte, 8<<20))
	for name, c := range map[string]struct {
		raw []byte
		why string
	}{
		"a path upwards":         {tarOf(t, good, entry{name: "../evil", text: "x"}), "leads out of its folder"},
		"a path upwards, hidden": {tarOf(t, good, entry{name: "a/../../evil", text: "x"}), "leads out of its folder"},
		"an absolute path":       {tarOf(t, good, entry{name: "/tmp/evil", text: "x"}), "leads out of its folder"},
		"a path upwards, zip":    {zipOf(t, 0o644, good, entry{name: "../evil", text: "x"}), "leads out of its folder"},
		"an absolute path, zip":  {zipOf(t, 0o644, good, entry{name: "/evil", text: "x"}), "leads out of its folder"},
		"backslashes":            {zipOf(t, 0o644, good, entry{name: `..\evil`, text: "x"}), "backslashes"},
		"a link": {tarOf(t, good, entry{name: "out", link: "/etc", kind: tar.TypeSymlink}, entry{name: "out/evil", text: "x"}),
			"is a link"},
		"a hard link":               {tarOf(t, good, entry{name: "passwd", link: "/etc/passwd", kind: tar.TypeLink}), "is a link"},
		"a link, zip":               {zipOf(t, os.ModeSymlink|0o777, entry{name: "out", text: "/etc"}), "is a link"},
		"a device":                  {tarOf(t, good, entry{name: "disk", kind: tar.TypeBlock}), "neither a file nor a folder"},
		"a pipe":                    {tarOf(t, good, entry{name: "pipe", kind: tar.TypeFifo}), "neither a file nor a folder"},
		"a device, zip":             {zipOf(t, os.ModeDevice|0o600, entry{name: "disk"}), "neither a file nor a folder"},
		"another encoding":          {tarOf(t, good, entry{name: "caf\xe9.txt", text: "x"}), "another encoding"},
		"another encoding, zip":     {zipOf(t, 0o644, good, entry{name: "caf\xe9.txt", text: "x", kind: 'x'}), "another encoding"},
		"a line end in a name":      {tarOf(t, entry{name: "a\nb", text: "x"}), "control characters"},
		"one file twice":            {tarOf(t, good, good), "is in it twice"},
		"a bomb, gz":                {packed(t, "gz", tarOf(t, entry{name: "bomb", text: zeros})), "expands to more than can be meant"},
		"a bomb, zst":               {packed(t, "zst", tarOf(t, entry{name: "bomb", text: zeros})), "expands to more than can be meant"},
		"a bomb, zip":               {zipOf(t, 0o644, entry{name: "bomb", text: zeros}), "expands to more than can be meant"},
		"too many":                  {tarOf(t, good, entry{name: "b"}, entry{name: "c"}, entry{name: "d"}), "is one too many"},
		"half of one":               {packed(t, "gz", tarOf(t, good))[:60], "is not whole"},
		"a file where a folder is":  {tarOf(t, entry{name: "a/b", text: "x"}, entry{name: "a", text: "x"}), "a"},
		"nothing":                   {packed(t, "gz", tarOf(t)), "is empty"},
		"none":                      {[]byte("moss"), "is none that can be read"},
		"text that begins like one": {[]byte("PK\x03\x04 moss"), "is not whole"},
	} {
		t.Run(name, func(t *testing.T) {
			dir, err := unpack(t, c.raw, Limits{Bytes: 64 << 20, Entries: 3, Ratio: 20})
			require.ErrorContains(t, err, c.why)
			left, err := os.ReadDir(filepath.Dir(dir))
			require.NoError(t, err)
			require.Len(t, left, 1)
			inside, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Empty(t, inside)
			assert.NoFileExists(t, "/tmp/evil")
		})
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine"), nil, 0o600))
	file := filepath.Join(t.TempDir(), "a.tar")
	require.NoError(t, os.WriteFile(file, tarOf(t, good), 0o600))
	assert.ErrorContains(t, Unpack(context.Background(), file, dir, Usual), "is not empty")
	assert.FileExists(t, filepath.Join(dir, "mine"))
}
