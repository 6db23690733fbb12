package parcel

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/archive"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/safefile"
)

var said = wire.Parcel{Site: "moss", Title: "Moss", CMS: site.CMS{Name: "wordpress", Version: "6.8"}, Prefix: "moss_",
	URL: "https://moss.example", Stack: site.Stack{PHP: "php-8.4"}, Configuration: "wp-config.php"}

// garden is what a parcel is made of.
func garden(t *testing.T) Content {
	t.Helper()
	folder, dump := t.TempDir(), filepath.Join(t.TempDir(), "dump")
	for path, text := range map[string]string{"index.php": "<?php", "beds/fern.txt": "fern", "cache/page": "old", "wp-config.php": "secret",
		"cached.txt": "stays"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, path), []byte(text), 0o644))
	}
	require.NoError(t, os.Chmod(filepath.Join(folder, "index.php"), 0o755))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "out")))
	require.NoError(t, os.WriteFile(dump, []byte("CREATE TABLE `moss_words` (id INT);\n"), 0o600))
	files, err := safefile.Folder(context.Background(), folder)
	require.NoError(t, err)
	return Content{Files: files, LeaveOut: []string{"cache"}, Dump: dump,
		Replace: map[string][]byte{"wp-config.php": []byte("<?php // blank")}}
}

func written(t *testing.T, form archive.Form, m wire.Parcel, content Content) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), FileName("Moss", form))
	to, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, Write(context.Background(), to, form, m, content, nil))
	require.NoError(t, to.Close())
	return file
}

func TestAParcelIsOpenedAsItWasMade(t *testing.T) {
	for _, form := range []archive.Form{archive.TarZstd, archive.Zip} {
		content, m := garden(t), said
		m.LeftOut = content.LeaveOut
		file := written(t, form, m, content)
		assert.Equal(t, "moss.parcel."+string(form), filepath.Base(file))
		read, err := Read(file)
		require.NoError(t, err)
		m.Format, m.Files, m.FileBytes, m.Database, m.DatabaseBytes, m.LinksLeftOut = Format, 4, 20, true, 36, 1
		assert.Equal(t, m, read)
		dir := filepath.Join(t.TempDir(), "opened")
		opened, err := Open(context.Background(), file, dir)
		require.NoError(t, err)
		for path, text := range map[string]string{"index.php": "<?php", "beds/fern.txt": "fern", "wp-config.php": "<?php // blank",
			"cached.txt": "stays"} {
			there, err := os.ReadFile(filepath.Join(opened.Files, path))
			require.NoError(t, err)
			assert.Equal(t, text, string(there))
		}
		info, err := os.Stat(filepath.Join(opened.Files, "index.php"))
		require.NoError(t, err)
		assert.NotZero(t, info.Mode()&0o111)
		assert.NoDirExists(t, filepath.Join(opened.Files, "cache"))
		_, err = os.Lstat(filepath.Join(opened.Files, "out"))
		assert.ErrorIs(t, err, os.ErrNotExist)
		dump, err := os.ReadFile(opened.Dump)
		require.NoError(t, err)
		assert.Equal(t, "CREATE TABLE `moss_words` (id INT);\n", string(dump))
	}
	content := garden(t)
	content.Dump = ""
	opened, err := Open(context.Background(), written(t, archive.Zip, said, content), filepath.Join(t.TempDir(), "opened"))
	require.NoError(t, err)
	assert.Empty(t, opened.Dump, "it was made without")
}

// A configuration that a site has made long is blank in a parcel all the same.
func TestALongFileIsReplacedToo(t *testing.T) {
	content := garden(t)
	for i := range content.Files.All {
		if content.Files.All[i].Path == "wp-config.php" {
			content.Files.All[i].Size = inMemory + 1
		}
	}
	opened, err := Open(context.Background(), written(t, archive.TarZstd, said, content), filepath.Join(t.TempDir(), "opened"))
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(opened.Files, "wp-config.php"))
	require.NoError(t, err)
	assert.Equal(t, "<?php // blank", string(text))
}

// What changes while it is packed: a file that goes away is left out, one that grows is as long as it was, a shorter one breaks off.
func TestFilesThatChangeWhileTheyArePacked(t *testing.T) {
	content := garden(t)
	whole := content.Files.Write
	large := int64(inMemory + 1)
	answer := func(bytes int64) {
		content.Files.Write = func(e safefile.Entry, to io.Writer) error {
			switch e.Path {
			case "beds/fern.txt":
				return os.ErrNotExist
			case "cached.txt":
				_, err := io.CopyN(to, strings.NewReader(strings.Repeat("x", int(bytes))), bytes)
				return err
			}
			return whole(e, to)
		}
	}
	for i := range content.Files.All {
		if content.Files.All[i].Path == "cached.txt" {
			content.Files.All[i].Size = large
		}
	}
	answer(large + 5)
	opened, err := Open(context.Background(), written(t, archive.TarZstd, said, content), filepath.Join(t.TempDir(), "opened"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(opened.Files, "cached.txt"))
	require.NoError(t, err)
	assert.Equal(t, large, info.Size())
	assert.NoFileExists(t, filepath.Join(opened.Files, "beds/fern.txt"))
	answer(large - 5)
	assert.ErrorContains(t, Write(context.Background(), io.Discard, archive.TarZstd, said, content, nil), "files/cached.txt became shorter")
	cancelled, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, Write(cancelled, io.Discard, archive.Zip, said, content, nil), context.Canceled)
}

// What somebody else has written is believed only as far as it was judged.
func TestParcelsThatAreNone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	pack := func(name, text string) {
		var out bytes.Buffer
		packer, err := archive.NewPacker(context.Background(), archive.Zip, &out)
		require.NoError(t, err)
		require.NoError(t, packer.Text(name, []byte(text)))
		require.NoError(t, packer.Close())
		require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
	}
	with := func(change func(m *wire.Parcel)) string {
		m := said
		m.Format = Format
		change(&m)
		text, err := json.Marshal(m)
		require.NoError(t, err)
		return string(text)
	}
	for text, why := range map[string]string{
		"{}": "no parcel that this Vessik can read",
		with(func(m *wire.Parcel) { m.Root = "../.." }):                           "the document root",
		with(func(m *wire.Parcel) { m.Prefix = "x`; DROP" }):                      "none of a table",
		with(func(m *wire.Parcel) { m.LeftOut = []string{"../x"} }):               "no place in a site",
		with(func(m *wire.Parcel) { m.Configuration = "/etc/passwd" }):            "no place in a site",
		with(func(m *wire.Parcel) { m.URL = "file:///etc" }):                      "no address of a site",
		with(func(m *wire.Parcel) { m.FileBytes = -1 }):                           "sizes below nothing",
		with(func(m *wire.Parcel) { m.CMS.Version = "6/../x" }):                   "no version",
		with(func(m *wire.Parcel) { m.CMS.Name = "../x" }):                        "no name",
		with(func(m *wire.Parcel) { m.Settings.Allow = []string{"/etc=inside"} }): "not of php.ini",
	} {
		pack(ManifestName, text)
		_, err := Read(file)
		assert.ErrorContains(t, err, why)
		_, err = Open(context.Background(), file, filepath.Join(t.TempDir(), "opened"))
		assert.ErrorContains(t, err, why)
	}
	pack("index.php", "<?php")
	_, err := Read(file)
	assert.ErrorIs(t, err, ErrNone)
	require.NoError(t, os.WriteFile(file, []byte("SELECT 1;"), 0o600))
	_, err = Read(file)
	assert.ErrorIs(t, err, ErrNone)
	_, err = Read(file + "-gone")
	assert.True(t, errors.Is(err, os.ErrNotExist))
}
