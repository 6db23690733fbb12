package origin

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/running/runningtest"
	"vessik/internal/shelf"
)

func TestNewestAndShelvedReleasesAreKnown(t *testing.T) {
	m := runningtest.Machine(t)
	p := &Origins{Machine: m, Shelf: &shelf.Shelf{Dir: m.Home.Path("shelf")}}
	require.NoError(t, os.MkdirAll(filepath.Join(m.CMS.Dir, "moss"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(m.CMS.Dir, "moss", "cms.yaml"),
		[]byte("cms: moss\ntitle: Moss\nrecognise: {file: v.txt, version: '(\\S+)'}\n"), 0o600))
	assert.Empty(t, p.Releases()["moss"])
	assert.Contains(t, p.Releases()["wordpress"], "6.1")
	_, onShelf := p.ShelfRelease(site.CMS{Name: "wordpress", Version: "6.1"})
	assert.False(t, onShelf, "that one is of the catalogue")
	found, all := p.OnShelf("wordpress", "plugin", "garden-menu")
	assert.False(t, found)
	assert.Empty(t, all)
	names, known := p.LanguagesOf(site.CMS{Name: "wordpress", Version: "6.1"})
	assert.False(t, known, "they have not been fetched")
	assert.Empty(t, names)
	names, known = p.LanguagesOf(site.CMS{Name: "empty", Version: "1"})
	assert.True(t, known)
	assert.Empty(t, names)
	s := site.Site{CMS: site.CMS{Name: "wordpress", Version: "6.1"},
		Stack: site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.11"}, Language: "de_DE"}
	assert.Contains(t, p.EnginesOf(s), "languages-wordpress-6.1")
	s.Language = "en_US"
	assert.NotContains(t, p.EnginesOf(s), "languages-wordpress-6.1")
}
