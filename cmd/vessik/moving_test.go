package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/wire"
	"vessik/practice"
)

func TestFaultsAreReadFromTheCommandLine(t *testing.T) {
	f, engines, err := faultsOf([]string{"slow=200000", "cut=5", "quota=7", "read-only", "no-shell", "time=5", "upload=2M", "php=7.4",
		"names=latin1"})
	assert.Equal(t, ofEngines{php: "7.4", latin1Names: true, directives: map[string]string{"max_execution_time": "5",
		"upload_max_filesize": "2M", "post_max_size": "2M"}}, engines)
	require.NoError(t, err)
	assert.Equal(t, practice.Faults{BytesPerSecond: 200000, CutAfter: 5, Cuts: 1 << 30, Quota: 7, ReadOnly: true, NoShell: true}, f)
	for _, bad := range []string{"rain", "slow", "slow=fast", "slow=-1", "cut=0", "read-only=yes", "rain=5"} {
		_, _, err := faultsOf([]string{bad})
		assert.ErrorAs(t, err, &usageError{}, bad)
		assert.ErrorContains(t, err, bad)
	}
}

// What would be pushed is shown whole where it is little, and counted where it is much.
func TestAPushIsShown(t *testing.T) {
	shown := func(p client.Pushed) string {
		out := &bytes.Buffer{}
		require.NoError(t, (&call{out: out}).printPushed(&p))
		return out.String()
	}
	assert.Contains(t, shown(client.Pushed{}), "Nothing was changed here that the host does not have.")
	p := client.Pushed{New: 60, Changed: 1, Gone: 1, Bytes: 5 << 20, Stays: 3, StaysTables: []string{"k_users"}, Conflicts: 2,
		Warnings: []string{"the host's PHP is 7.4"}}
	for range 60 {
		p.Files = append(p.Files, wire.PushedFile{Path: "a.txt", What: "new"})
	}
	p.Files[0] = wire.PushedFile{Path: "b.txt", What: "changed", Conflict: true}
	p.Tables = append(p.Tables, wire.PushedTable{Name: "k_posts", New: 2, Gone: 1, Lost: 4})
	text := shown(p)
	for _, says := range []string{"changed  b.txt", "conflict: changed at the host as well", "and 22 more", "2 rows come, 1 go",
		"conflict: 4 changed at the host as well", "files: 60 new, 1 changed, 1 gone; tables: 1; 5 MB to carry",
		"stays at the host: 3 files, tables k_users", "→ the host's PHP is 7.4", "→ 2 conflicts: keep the host's with -keep"} {
		assert.Contains(t, text, says)
	}
	assert.NotContains(t, shown(client.Pushed{New: 1, Files: p.Files[1:2]}), "conflict")
}

func TestWhatWasFetchedIsShown(t *testing.T) {
	off := false
	out := &bytes.Buffer{}
	c := &call{out: out, json: &off}
	require.NoError(t, c.showFetched(nil, true, nil))
	assert.Empty(t, out.String(), "it did not get so far")
	require.ErrorIs(t, c.showFetched(nil, false, exitCode(exitFailed)), exitCode(exitFailed))
	f := &client.Fetched{PHP: "8.4.1", Database: "11.8-MariaDB", Files: 3, New: 2, Changed: 1, Gone: 4, Warnings: []string{"2 links are left"}}
	require.NoError(t, c.showFetched(f, true, nil))
	assert.Contains(t, out.String(), "2 new, 1 changed, 4 gone")
	assert.Contains(t, out.String(), "→ 2 links are left\nNothing was carried.")
	out.Reset()
	require.NoError(t, c.showFetched(f, false, nil))
	assert.NotContains(t, out.String(), "Nothing was carried.")
}

// Whoever says how to sign in is asked for nothing more.
func TestHowAnAccountIsSignedIn(t *testing.T) {
	t.Setenv("VESSIK_HOST_PASSWORD", "the-gate-is-open-9")
	t.Setenv("SSH_AUTH_SOCK", "")
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte("a private key"), 0o600))
	var by client.AddAccount
	require.NoError(t, credentials(&by, "", false, false))
	assert.Equal(t, client.AddAccount{Password: "the-gate-is-open-9"}, by)
	by = client.AddAccount{}
	require.NoError(t, credentials(&by, key, false, false))
	assert.Equal(t, client.AddAccount{Key: "a private key"}, by)
	require.NoError(t, credentials(&by, key, false, true))
	assert.Equal(t, "the-gate-is-open-9", by.Password, "that opens the key")
	by = client.AddAccount{Like: "orchard-live"}
	require.NoError(t, credentials(&by, "", false, false))
	assert.Empty(t, by.Password)
	require.ErrorContains(t, credentials(&by, "", true, false), "-agent: no SSH agent is known here")
	t.Setenv("SSH_AUTH_SOCK", "/run/agent")
	require.NoError(t, credentials(&by, "", true, false))
	assert.Equal(t, "/run/agent", by.Agent)
	require.Error(t, credentials(&by, filepath.Join(t.TempDir(), "nowhere"), false, false))
}

// An account is shown with what may be left at its host, and its checks with what to do.
func TestAccountsAndChecksAreShown(t *testing.T) {
	off := false
	out := &bytes.Buffer{}
	c := &call{out: out, json: &off}
	require.NoError(t, c.showAccounts(nil, nil))
	assert.Contains(t, out.String(), "There is no hosting account. Add one with: vessik hosting add NAME")
	out.Reset()
	require.NoError(t, c.showAccounts([]client.Account{{Name: "orchard-live", URL: "https://orchard.example", Leftover: "move-x.php"}}, nil))
	assert.Regexp(t, `orchard-live .* never\n`, out.String())
	assert.Contains(t, out.String(), "→ move-x.php may still be there")
	out.Reset()
	found := client.HostChecks{Passed: false}
	found.Checks = append(found.Checks, wire.HostCheck{ID: "signed-in", Title: "the user is let in", Remedy: "see user and password"},
		wire.HostCheck{ID: "reached", Title: "the host is reached", Passed: true})
	require.ErrorIs(t, c.showHostChecks(found, nil), exitCode(exitCheckFailed))
	assert.Regexp(t, `(?s)fail .*→ see user and password\npass `, out.String())
	found.Passed = true
	require.NoError(t, c.showHostChecks(found, nil))
}
