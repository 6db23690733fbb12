package rename

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/change"
	"vessik/internal/core/site"
	"vessik/internal/running/runningtest"
)

func TestAFolderFollowsTheNameItIsCalledBy(t *testing.T) {
	for folder, wanted := range map[string]string{"/srv/sites/moss": "/srv/sites/fern", "/srv/sites/elsewhere": "/srv/sites/elsewhere"} {
		assert.Equal(t, wanted, folderAs(site.Site{Name: "moss", Folder: folder}, "fern"))
	}
	adopted := site.Site{Name: "moss", Folder: "/home/ines/moss", Origin: site.Origin{Kind: site.FromFolder}}
	assert.Equal(t, adopted.Folder, folderAs(adopted, "fern"), "it is the user's")
}

func TestWhatBelongsToASiteMovesAndBack(t *testing.T) {
	f := &Feature{Changer: &change.Changer{Machine: runningtest.Machine(t)}}
	p := f.Changer.Machine
	old := site.Site{Name: "moss", Folder: p.Home.Path("sites", "moss")}
	next := old
	next.Name, next.Folder = "fern", p.Home.Path("sites", "fern")
	for _, dir := range []string{"sites/moss", "logs/sites/moss", "mail/moss", "restore/moss/3",
		"logs/sites/fern"} { // and what a site of that name left
		require.NoError(t, os.MkdirAll(p.Home.Path(dir), 0o700))
	}
	require.NoError(t, os.WriteFile(p.Home.Path("mail/moss/a.eml"), []byte("x"), 0o600))
	require.NoError(t, f.move(old, next))
	assert.FileExists(t, p.Home.Path("mail/fern/a.eml"))
	assert.NoDirExists(t, p.Home.Path("sites/moss"))
	assert.DirExists(t, p.Home.Path("restore/fern/3"))
	require.NoError(t, f.move(old, next), "half moved is moved on")
	require.NoError(t, f.move(next, old))
	assert.FileExists(t, p.Home.Path("mail/moss/a.eml"))
	assert.NotEmpty(t, f.moveFault(site.Site{Name: "x", Folder: p.Home.Path("sites/x")}, "moss"))
	assert.Empty(t, f.moveFault(old, "other"))
}
