package test

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/site"
)

// Nothing that is shown without being asked for by name tells a password, nor does what lies in the home beside the databases.
func TestPasswordsStayWhereTheyBelong(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "fernhollow", Administrator: site.Administrator{Password: "a-gate-of-moss-and-stone"}}))
	full := s.secrets(t, "fernhollow")
	require.Equal(t, "a-gate-of-moss-and-stone", full.Administrator.Password, "it is there for whoever asks")
	hash := query(t, full, "SELECT user_pass FROM wp_users LIMIT 1")
	require.NotEmpty(t, hash)
	status, err := s.Status(context.Background())
	require.NoError(t, err)
	token, err := os.ReadFile(filepath.Join(s.home, "token"))
	require.NoError(t, err)
	shown := ""
	for _, path := range []string{"/sites", "/sites/fernhollow", "/operations", "/operations/1", "/reports", "/fleet", "/status"} {
		request, err := http.NewRequest("GET", status.API+"/api/v1"+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		response, err := browser.Do(request)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		require.Equal(t, http.StatusOK, response.StatusCode, path)
		shown += string(text)
	}
	kept, err := os.ReadFile(filepath.Join(s.home, "home.json"))
	require.NoError(t, err)
	require.Contains(t, shown, "fernhollow-keeper")
	for _, secret := range []string{full.Administrator.Password, full.Database.Password, hash} {
		assert.NotContains(t, shown, secret)
		assert.NotContains(t, string(kept), secret)
	}
	_, errs, code := s.cli("defaults", "operations_days=90", "operations_kept=200")
	assert.Zero(t, code, errs)
	_, errs, code = s.cli("defaults", "operations_days=soon")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is not a number from 1")
	s.stop()
	again := start(t, s.home) // the key opens what it has sealed
	assert.Equal(t, full.Database.Password, again.secrets(t, "fernhollow").Database.Password)
}
