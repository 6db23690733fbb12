package test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

func TestSettingsGoWithCopiesAndWithStencilsWhereAsked(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", CMS: "empty", PHP: "7.4", Web: "apache"}))
	defer s.retire(t, "moss-archive")
	_, errs, code := s.cli("settings", "moss-archive", "memory_limit=300M", "-extension", "gd=off", "-allow", t.TempDir())
	assert.Equal(t, 2, code, "the service cannot reach that folder: %s", errs)
	_, errs, code = s.cli("settings", "moss-archive", "memory_limit=300M", "memory=1G", "-extension", "gd=off")
	require.Zero(t, code, errs)
	for _, words := range [][]string{{"copy", "moss-archive", "fern-archive", "-title", "Moss Archive"},
		{"stencil", "save", "moss-archive", "moss-basics", "-settings"},
		{"stencil", "save", "moss-archive", "moss-bare"}} {
		_, errs, code = s.cli(words...)
		require.Zero(t, code, errs)
	}
	defer s.cli("stencil", "drop", "moss-basics")
	defer s.cli("stencil", "drop", "moss-bare")
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Title: "Moss Archive", Stencil: "moss-basics"},
		client.Request{Name: "seed-days", Title: "Moss Archive", Stencil: "moss-bare"}))
	defer s.retire(t, "fern-archive", "orchard-days", "seed-days")
	settings := func(name string) client.SettingsPage {
		page, err := s.Settings(ctx, name)
		require.NoError(t, err)
		return page
	}
	assert.Equal(t, settings("moss-archive").Settings, settings("fern-archive").Settings)
	assert.Equal(t, "php-7.4", s.site(t, "fern-archive").Stack.PHP.Engine)
	drawn := settings("orchard-days").Settings
	assert.Equal(t, "300M", drawn.PHP["memory_limit"])
	assert.False(t, drawn.Extensions["gd"])
	assert.Zero(t, drawn.Memory, "what this machine gives a site stays here")
	assert.Empty(t, settings("seed-days").Settings.PHP)
}

func TestWhatIsEasilyGuessedIsMadeWhenItIsSaidAgain(t *testing.T) {
	s := shared(t)
	_, errs, code := s.cli("new", "moss-archive", "-cms", "empty", "-administrator", "admin", "-password", "garden-2")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `"admin" is what everybody tries first`)
	assert.Contains(t, errs, "-force-weak")
	_, errs, code = s.cli("new", "moss-archive", "-cms", "empty", "-administrator", "admin", "-password", "garden-2", "-force-weak")
	require.Zero(t, code, errs)
	defer s.retire(t, "moss-archive")
	assert.Equal(t, "admin garden-2", s.secrets(t, "moss-archive").Administrator.Name+" "+s.secrets(t, "moss-archive").Administrator.Password)
	_, errs, code = s.cli("new", "fern-archive", "-cms", "empty", "-password", "short", "-force-weak")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "characters short of 12")
}
