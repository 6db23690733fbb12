package home

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vessik/internal/core/site"
	"vessik/internal/seal"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAHomeIsPrivateAndHeldByOne(t *testing.T) {
	home, err := New(filepath.Join(t.TempDir(), "h"), "/engines")
	require.NoError(t, err)
	require.NoError(t, home.Prepare())
	info, err := os.Stat(home.Dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	assert.False(t, home.InUse())
	lock, err := home.Lock()
	require.NoError(t, err)
	assert.True(t, home.InUse())
	_, err = home.Lock()
	assert.ErrorIs(t, err, ErrInUse)
	lock.Close()
	assert.False(t, home.InUse(), "a lock ends with its process, in whatever way")
	long, _ := New("/"+strings.Repeat("h", 80), "/engines")
	assert.ErrorContains(t, long.Prepare(), "choose a shorter one")
	odd, _ := New("/srv/it's", "/engines")
	assert.ErrorContains(t, odd.Prepare(), "cannot hold")
}

func TestSettingsAreSecretAndWhole(t *testing.T) {
	home := Home{Dir: t.TempDir()}
	settings, err := home.ReadSettings()
	require.NoError(t, err)
	settings.GatewayPort, settings.Ports["mariadb-10.11"] = 20080, 22000
	settings.Passwords["mariadb-10.11"], settings.RecordsDSN = "a garden gate", "vessik:moss and stone@tcp(10.0.0.5:3306)/vessik"
	require.NoError(t, home.WriteSettings(settings))
	again, err := home.ReadSettings()
	require.NoError(t, err)
	assert.Equal(t, settings, again)
	info, err := os.Stat(filepath.Join(home.Dir, "home.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(filepath.Join(home.Dir, "home.json"))
	require.NoError(t, err)
	for _, secret := range []string{"garden gate", "moss and stone"} {
		assert.NotContains(t, string(text), secret)
	}
	require.NoError(t, os.Rename(home.KeyFile(), home.KeyFile()+".away"))
	_, err = home.ReadSettings()
	assert.ErrorIs(t, err, seal.ErrNoKey, "no other key is made for what that one has sealed")
	require.NoError(t, os.WriteFile(filepath.Join(home.Dir, "home.json"),
		[]byte(`{"gateway_port":20080,"passwords":{"records":"old"},"records_dsn":"o:ld@/x"}`), 0o600))
	earlier, err := home.ReadSettings()
	require.NoError(t, err)
	assert.Equal(t, "old", earlier.Passwords["records"], "of earlier versions")
	assert.Equal(t, "o:ld@/x", earlier.RecordsDSN)
	require.NoError(t, home.WriteSettings(earlier))
	text, err = os.ReadFile(filepath.Join(home.Dir, "home.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), `"old"`)
	require.NoError(t, os.WriteFile(filepath.Join(home.Dir, "home.json"), []byte("{"), 0o600))
	_, err = home.ReadSettings()
	assert.ErrorContains(t, err, "home.json", "never taken for a new home")
}

func TestTheHomeComesFromTheEnvironment(t *testing.T) {
	t.Setenv("VESSIK_HOME", "/srv/gardens")
	t.Setenv("VESSIK_ENGINES", "/srv/engines")
	home, err := Default()
	require.NoError(t, err)
	assert.Equal(t, Home{Dir: "/srv/gardens", Engines: "/srv/engines"}, home)
}

func TestThePortForHTTPSIsKeptOnceItStandsInAddresses(t *testing.T) {
	home := Home{Dir: t.TempDir()}
	book, err := NewBook(home, Settings{GatewayPort: 20080})
	require.NoError(t, err)
	book.OpenHTTPS(20443)
	assert.Equal(t, site.Gateway{HTTP: 20080, HTTPS: 20443}, book.Gateway())
	kept := func() int {
		settings, err := home.ReadSettings()
		require.NoError(t, err)
		return settings.HTTPSPort
	}
	assert.Zero(t, kept(), "no site has it: another one may do as well at the next start")
	require.NoError(t, book.KeepHTTPS())
	book.OpenHTTPS(20444)
	require.NoError(t, book.KeepHTTPS())
	assert.Equal(t, 20443, kept())
}
