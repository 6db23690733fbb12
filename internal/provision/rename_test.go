package provision

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/shelf"
)

// gardens is a provisioner with sites and without engines.
func gardens(t *testing.T, sites ...site.Site) *Provisioner {
	t.Helper()
	p := &Provisioner{Home: Home{Dir: t.TempDir()}, Store: engine.Store{Dir: t.TempDir()}, sites: map[string]site.Site{}, settings: Settings{GatewayPort: 20080, Ports: map[string]int{}}}
	p.Shelf = shelf.Shelf{Dir: p.Home.path("shelf")}
	p.HostsFile = p.Home.path("hosts")
	require.NoError(t, os.WriteFile(p.HostsFile, []byte("127.0.0.1 known.test\n"), 0o600))
	for _, s := range sites {
		s.State = site.Stopped
		p.sites[s.Name] = s
	}
	return p
}

func TestAFolderFollowsTheNameItIsCalledBy(t *testing.T) {
	for folder, wanted := range map[string]string{"/srv/sites/moss": "/srv/sites/fern", "/srv/sites/elsewhere": "/srv/sites/elsewhere"} {
		assert.Equal(t, wanted, folderAs(site.Site{Name: "moss", Folder: folder}, "fern"))
	}
	adopted := site.Site{Name: "moss", Folder: "/home/ines/moss", Origin: site.Origin{Kind: site.FromFolder}}
	assert.Equal(t, adopted.Folder, folderAs(adopted, "fern"), "it is the user's")
}

func TestWhatBelongsToASiteMovesAndBack(t *testing.T) {
	p := gardens(t)
	old := site.Site{Name: "moss", Folder: p.Home.path("sites", "moss")}
	next := old
	next.Name, next.Folder = "fern", p.Home.path("sites", "fern")
	for _, dir := range []string{"sites/moss", "logs/sites/moss", "mail/moss", "restore/moss/3", "logs/sites/fern"} { // and what a site of that name left
		require.NoError(t, os.MkdirAll(p.Home.path(dir), 0o700))
	}
	require.NoError(t, os.WriteFile(p.Home.path("mail/moss/a.eml"), []byte("x"), 0o600))
	require.NoError(t, p.move(old, next))
	assert.FileExists(t, p.Home.path("mail/fern/a.eml"))
	assert.NoDirExists(t, p.Home.path("sites/moss"))
	assert.DirExists(t, p.Home.path("restore/fern/3"))
	require.NoError(t, p.move(old, next), "half moved is moved on")
	require.NoError(t, p.move(next, old))
	assert.FileExists(t, p.Home.path("mail/moss/a.eml"))
	assert.NotEmpty(t, p.moveFault(site.Site{Name: "x", Folder: p.Home.path("sites/x")}, "moss"))
	assert.Empty(t, p.moveFault(old, "other"))
}

func TestDomainsThatThisMachineHasToBeToldOf(t *testing.T) {
	p := gardens(t,
		site.Site{Name: "moss", Domain: "moss.test", Domains: []string{"mosses.localhost", "mosses.example"}, Network: site.NetworkDomains, SubSites: []string{"north"}},
		site.Site{Name: "fern", Domain: "fern.localhost", Forwards: []site.Forward{{Domain: "old.test", Until: time.Now().Add(time.Hour)}}, Network: site.NetworkFolders, SubSites: []string{"south"}})
	assert.Equal(t, []string{"moss.test", "mosses.example", "north.moss.test", "old.test"}, p.foreignDomains())
	page := p.Hosts()
	assert.False(t, page.Current)
	assert.Equal(t, []string{"test", "example"}, page.Endings)
	assert.Contains(t, page.NotFound, "moss.test")
	assert.True(t, p.finds("any.localhost") && p.finds("known.test"))
	for host, name := range map[string]string{"moss.test": "moss", "mosses.localhost": "moss", "north.moss.test": "moss", "anything.moss.test": "moss", "old.test": "fern", "fern.localhost": "fern"} {
		found, ok := p.ByDomain(host)
		assert.True(t, ok, host)
		assert.Equal(t, name, found.Name, host)
	}
	for _, host := range []string{"north.fern.localhost", "test", "xmoss.test"} {
		_, ok := p.ByDomain(host)
		assert.False(t, ok, host)
	}
	s := p.sites["fern"]
	s.Forwards[0].Until = time.Now().Add(-time.Second)
	p.sites["fern"] = s
	_, ok := p.ByDomain("old.test")
	assert.False(t, ok, "its time is over")
}

func TestTheHostsBlockIsKeptOnlyWhereItIsAllowed(t *testing.T) {
	p := gardens(t, site.Site{Name: "moss", Domain: "moss.test"})
	read := func() string {
		text, err := os.ReadFile(p.HostsFile)
		require.NoError(t, err)
		return string(text)
	}
	p.syncHosts()
	assert.Equal(t, "127.0.0.1 known.test\n", read())
	require.NoError(t, p.AllowHosts(true))
	assert.Contains(t, read(), "127.0.0.1 moss.test\n::1 moss.test\n")
	assert.True(t, p.keepsHosts())
	assert.True(t, p.Hosts().Current)
	delete(p.sites, "moss")
	p.syncHosts()
	assert.Equal(t, "127.0.0.1 known.test\n", read())
	require.NoError(t, p.AllowHosts(false))
	settings, err := p.Home.ReadSettings()
	require.NoError(t, err)
	assert.False(t, settings.HostsAllowed)
}

func TestNewestAndShelvedReleasesAreKnown(t *testing.T) {
	p := gardens(t)
	require.NoError(t, os.MkdirAll(filepath.Join(p.KitFolder(), "moss"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.KitFolder(), "moss", "kit.yaml"), []byte("kit: moss\ntitle: Moss\nrecognise: {file: v.txt, version: '(\\S+)'}\n"), 0o600))
	assert.Empty(t, p.Releases()["moss"])
	assert.Contains(t, p.Releases()["wordpress"], "6.1")
	_, onShelf := p.shelfRelease(site.Kit{Name: "wordpress", Version: "6.1"})
	assert.False(t, onShelf, "that one is of the catalogue")
	found, all := p.onShelf("wordpress", "plugin", "garden-menu")
	assert.False(t, found)
	assert.Empty(t, all)
	assert.Empty(t, p.ShelfPage().Items)
	names, known := p.languages(site.Kit{Name: "wordpress", Version: "6.1"})
	assert.False(t, known, "they have not been fetched")
	assert.Empty(t, names)
	names, known = p.languages(site.Kit{Name: "empty", Version: "1"})
	assert.True(t, known)
	assert.Empty(t, names)
	s := site.Site{Kit: site.Kit{Name: "wordpress", Version: "6.1"}, Stack: site.Stack{PHP: "php-8.2", Web: "nginx-1.22", Database: "mariadb-10.11"}, Language: "de_DE"}
	assert.Contains(t, p.enginesOf(s), "languages-wordpress-6.1")
	s.Language = "en_US"
	assert.NotContains(t, p.enginesOf(s), "languages-wordpress-6.1")
}
