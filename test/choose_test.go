package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// Sites are chosen by what they are, for the list and for what is done with them.
func TestSitesAreChosenByGroupStateEngineAndFailure(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "reed", CMS: "empty", Group: "Ponds"},
		client.Request{Name: "sedge", CMS: "empty", Group: "Ponds", PHP: "7.4"}, client.Request{Name: "rush", CMS: "empty", PHP: "7.4"}))
	defer s.retire(t, "rush")
	chosen := func(flags ...string) (names []string) {
		out, errs, code := s.cli(append([]string{"sites", "-json"}, flags...)...)
		require.Zero(t, code, errs)
		var sites []client.Site
		require.NoError(t, json.Unmarshal([]byte(out), &sites))
		for _, each := range sites {
			names = append(names, each.Name)
		}
		return names
	}
	assert.Equal(t, []string{"reed", "sedge"}, chosen("-group", "ponds"))
	assert.Equal(t, []string{"rush", "sedge"}, chosen("-engine", "php-7.4"))
	assert.Equal(t, []string{"sedge"}, chosen("-group", "Ponds", "-engine", "php-7.4"))
	_, errs, code := s.cli("stop", "-engine", "php-7.4")
	require.Zero(t, code, errs)
	assert.Equal(t, []string{"rush", "sedge"}, chosen("-state", "stopped"))
	_, errs, code = s.cli("start", "-state", "stopped", "-group", "Ponds")
	require.Zero(t, code, errs)
	assert.Equal(t, []string{"rush"}, chosen("-state", "stopped"))

	index := filepath.Join(s.site(t, "reed").Folder, "public/index.php")
	require.NoError(t, os.WriteFile(index, []byte("<?php seeds_missing();"), 0o644))
	_, _, code = s.cli("verify", "-group", "Ponds")
	assert.Equal(t, 3, code)
	assert.Equal(t, []string{"reed"}, chosen("-failed"))
	require.NoError(t, os.WriteFile(index, []byte("<?php echo 'well';"), 0o644))
	out, errs, code := s.cli("verify", "-failed")
	assert.Zero(t, code, errs)
	assert.Contains(t, out, "reed")
	assert.NotContains(t, out, "\nsedge ")

	_, errs, code = s.cli("verify", "-failed")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "none of ", "nothing is asked, rather than everything")
	for _, arguments := range [][]string{{"stop", "-all", "-group", "Ponds"}, {"verify", "reed", "-failed"}, {"retire", "-yes"}} {
		_, errs, code = s.cli(arguments...)
		assert.Equal(t, 2, code, arguments)
		assert.Contains(t, errs, "-group", arguments)
	}
	_, errs, code = s.cli("retire", "-group", "Ponds", "-yes")
	require.Zero(t, code, errs)
	assert.Empty(t, chosen("-group", "Ponds"))
}
