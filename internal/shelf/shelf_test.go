package shelf

import (
	"archive/zip"
	"bytes"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cms"
)

func packed(t *testing.T, files ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	for i := 0; i < len(files); i += 2 {
		entry, err := archive.Create(files[i])
		require.NoError(t, err)
		_, err = entry.Write([]byte(files[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	return out.Bytes()
}

func menu(t *testing.T, version string) []byte {
	return packed(t, "garden-menu/readme.txt", "x", "garden-menu/menu.php",
		"<?php\n/*\nPlugin Name: Garden &amp; Menu\nVersion: "+version+"\n*/")
}

func TestWhatIsPutOnTheShelfIsKnownByWhatItSays(t *testing.T) {
	definitions, _ := cms.All("")
	s := &Shelf{Dir: filepath.Join(t.TempDir(), "shelf")}
	item, err := s.Add("garden-menu.1.9.zip", bytes.NewReader(menu(t, "1.9")), definitions)
	require.NoError(t, err)
	assert.Equal(t, [5]string{"plugin", "wordpress", "garden-menu", "Garden & Menu", "1.9"},
		[5]string{item.Kind, item.CMS, item.Name, item.Title, item.Version})
	_, err = s.Add("garden-menu.1.10.zip", bytes.NewReader(menu(t, "1.10")), definitions)
	require.NoError(t, err)
	item, err = s.Add("cms.zip", bytes.NewReader(packed(t, "wordpress/wp-includes/version.php", "<?php $wp_version = '6.9.4';",
		"wordpress/index.php", "<?php")), definitions)
	require.NoError(t, err)
	assert.Equal(t, [4]string{"release", "wordpress", "6.9.4", "wordpress"}, [4]string{item.Kind, item.CMS, item.Version, item.Main})
	require.NoError(t, os.WriteFile(s.File("valley.zip"), packed(t, "valley/style.css", "/* Theme Name: Valley\nVersion: 2 */"), 0o600),
		"dropped in by hand")

	items := s.Items(definitions)
	require.Len(t, items, 4)
	assert.Equal(t, [4]string{"garden-menu.1.10.zip", "garden-menu.1.9.zip", "cms.zip", "valley.zip"},
		[4]string{items[0].File, items[1].File, items[2].File, items[3].File})
	for asked, file := range map[string]string{"garden-menu": "garden-menu.1.10.zip", "garden-menu@1.9": "garden-menu.1.9.zip"} {
		found, ok := Find(items, "wordpress", Plugin, asked)
		assert.True(t, ok)
		assert.Equal(t, file, found.File)
	}
	for _, asked := range []string{"garden-menu@3", "garden", ""} {
		_, ok := Find(items, "wordpress", Plugin, asked)
		assert.False(t, ok, asked)
	}
	_, ok := Find(items, "spip", Plugin, "garden-menu")
	assert.False(t, ok)
	sums, err := os.ReadFile(filepath.Join(s.Dir, "SHA256SUMS"))
	require.NoError(t, err)
	assert.Contains(t, string(sums), items[0].SHA256+"  garden-menu.1.10.zip\n")

	require.NoError(t, os.WriteFile(s.File("valley.zip"), packed(t, "valley/style.css", "/* Theme Name: Valley\nVersion: 3 */"), 0o600))
	items = s.Items(definitions)
	assert.Contains(t, items[0].Fault+items[1].Fault+items[2].Fault+items[3].Fault, "its checksum is another one")
	require.NoError(t, s.Drop("valley.zip"))
	assert.Len(t, s.Items(definitions), 3)
	assert.ErrorIs(t, s.Drop("valley.zip"), os.ErrNotExist)
	assert.ErrorIs(t, s.Drop("../home.json"), os.ErrNotExist)
	sums, err = os.ReadFile(filepath.Join(s.Dir, "SHA256SUMS"))
	require.NoError(t, err)
	assert.NotContains(t, string(sums), "valley.zip")
}

func TestWhatCannotBeUsedIsNotTaken(t *testing.T) {
	definitions, _ := cms.All("")
	s := &Shelf{Dir: t.TempDir()}
	for name, content := range map[string][]byte{"../x.zip": menu(t, "1"), "x.tar": menu(t, "1"), ".zip": menu(t, "1"),
		"text.zip": []byte("no archive"), "other.zip": packed(t, "notes.txt", "x"),
		"deep.zip": packed(t, "a/b/c.php", "<?php /* Plugin Name: Deep */")} {
		_, err := s.Add(name, bytes.NewReader(content), definitions)
		assert.Error(t, err, name)
	}
	_, err := s.Add("a.zip", bytes.NewReader(menu(t, "1")), definitions)
	require.NoError(t, err)
	_, err = s.Add("a.zip", bytes.NewReader(menu(t, "2")), definitions)
	assert.ErrorContains(t, err, "already")
	left, err := os.ReadDir(s.Dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "the archive and the checksums")
	require.NoError(t, os.WriteFile(s.File("broken.zip"), []byte("x"), 0o600))
	items := s.Items(definitions)
	assert.Len(t, items, 2)
}

func TestAnArchiveIsFetchedFromAnAddress(t *testing.T) {
	definitions, _ := cms.All("")
	s := &Shelf{Dir: t.TempDir()}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/garden-menu.1.2.zip" {
			http.NotFound(w, r)
			return
		}
		w.Write(menu(t, "1.2"))
	}))
	defer server.Close()
	item, err := s.Fetch(t.Context(), server.URL+"/garden-menu.1.2.zip?download=1", definitions)
	require.NoError(t, err)
	assert.Equal(t, "1.2", item.Version)
	for _, address := range []string{server.URL + "/gone.zip", "file:///etc/passwd", "garden-menu.zip", "https://127.0.0.1:1/x.zip"} {
		_, err := s.Fetch(t.Context(), address, definitions)
		assert.Error(t, err, address)
	}
	assert.Len(t, s.Items(definitions), 1)
}
