package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

func TestNetworksOfSites(t *testing.T) {
	s := shared(t)
	_, errs, code := s.cli("new", "orchard-days", "-cms", "empty", "-network", "folders")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "makes no network")
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Network: "folders", SubSites: []string{"north", "south"}},
		client.Request{Name: "moss-archive", Network: "domains", SubSites: []string{"north", "south"}, Web: "apache-2.4-trixie", Database: "10.5",
			PHP: "7.4"}))
	defer s.retire(t, "orchard-days", "moss-archive")
	sub := func(name, sub string) string {
		for _, address := range s.site(t, name).SubSites {
			if strings.Contains(address, sub) {
				return address
			}
		}
		return ""
	}
	assert.Equal(t, s.site(t, "orchard-days").URL+"north/", sub("orchard-days", "north"))
	assert.Equal(t, strings.Replace(s.site(t, "moss-archive").URL, "//", "//north.", 1), sub("moss-archive", "north"))
	for _, name := range []string{"orchard-days", "moss-archive"} {
		address := sub(name, "north")
		status, text, _ := get(t, address)
		assert.Equal(t, 200, status)
		assert.Contains(t, text, "<title>North")
		status, _, answer := get(t, address+"wp-includes/css/dist/block-library/style.min.css")
		assert.Equal(t, 200, status)
		assert.Contains(t, answer.Get("Content-Type"), "text/css")
		status, _, answer = get(t, address+"wp-admin")
		assert.Equal(t, 301, status)
		assert.True(t, strings.HasSuffix(answer.Get("Location"), "/wp-admin/"), answer.Get("Location"))
		status, text, _ = get(t, address+"wp-login.php")
		assert.Equal(t, 200, status)
		assert.Contains(t, text, `id="loginform"`)
		status, _, _ = get(t, address+"no-such-page/")
		assert.Equal(t, 404, status)
	}
	// Sub-sites that are added later, as their administration does.
	for _, name := range []string{"orchard-days", "moss-archive"} {
		made := s.site(t, name)
		require.NoError(t, os.WriteFile(filepath.Join(made.DocumentRoot, "add.php"), []byte(`<?php require 'wp-load.php';
$in = get_network()->domain; $folders = !is_subdomain_install();
echo wpmu_create_blog($folders ? $in : "east.$in", $folders ? '/east/' : '/', 'East', 1);`), 0o644))
		_, text, _ := get(t, made.URL+"add.php")
		assert.Equal(t, "4", text)
		require.NoError(t, os.Remove(filepath.Join(made.DocumentRoot, "add.php")))
		require.NotEmpty(t, sub(name, "east"), "it is told")
		status, text, _ := get(t, sub(name, "east"))
		assert.Equal(t, 200, status)
		assert.Contains(t, text, "<title>East")
		requirePassed(t, s.do(t, plan.Verify, name))
	}
	status, text, _ := get(t, strings.Replace(s.site(t, "moss-archive").URL, "//", "//nobody.", 1))
	assert.NotContains(t, text, "No site is called", "the gateway routes every sub-domain: %d", status)

	// A copy, a stencil and another name: every sub-site follows, and the network has one keeper, the new one.
	requirePassed(t, s.made(t, client.Request{Name: "fern-archive", CopyOf: "moss-archive"}))
	out, errs, code := s.cli("rename", "fern-archive", "apple-archive")
	require.Zero(t, code, out+errs)
	defer s.retire(t, "apple-archive")
	_, errs, code = s.cli("stencil", "save", "orchard-days", "valley")
	require.Zero(t, code, errs)
	defer s.cli("stencil", "drop", "valley")
	requirePassed(t, s.made(t, client.Request{Name: "valley-days", Stencil: "valley", Web: "apache"}))
	defer s.retire(t, "valley-days")
	_, errs, code = s.cli("users", "apple-archive", "-replace", s.site(t, "apple-archive").Administrator.Name, "-by", "tobias")
	require.Zero(t, code, errs)
	requirePassed(t, s.do(t, plan.Verify, "apple-archive"))
	for _, name := range []string{"apple-archive", "valley-days"} {
		made := s.secrets(t, name)
		status, text, _ := get(t, sub(name, "south"))
		assert.Equal(t, 200, status)
		assert.Contains(t, text, "<title>South")
		for _, old := range []string{"moss-archive", "fern-archive", "orchard-days"} {
			assert.NotContains(t, text, old)
		}
		admins := query(t, made, "SELECT meta_value FROM wp_sitemeta WHERE meta_key='site_admins'")
		assert.Contains(t, admins, `"`+made.Administrator.Name+`"`)
		assert.Equal(t, made.Prefix+"2_user_roles", query(t, made, "SELECT option_name FROM wp_2_options WHERE option_name LIKE '%user\\_roles'"))
	}
}
