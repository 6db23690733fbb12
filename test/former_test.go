package test

import (
	"archive/tar"
	"errors"
	"io"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/core/site"
)

// A home that the version before wrote is taken on: its records, its defaults, its definitions of CMS, its stencils.
func TestAHomeOfTheVersionBefore(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	layFormerHome(t, home)
	s := start(t, home)
	sites, err := s.Sites(t.Context(), false)
	require.NoError(t, err)
	states := map[string]site.State{}
	for _, each := range sites {
		states[each.Name] = each.State
	}
	assert.Equal(t, map[string]site.State{"fernhollow": "running", "fernhollow-trial-1": "running", "moss": "stopped",
		"sedge": "running"}, states)
	out, errs, code := s.cli("verify")
	assert.Zero(t, code, out+errs)
	full := s.secrets(t, "fernhollow")
	assert.Equal(t, "own 1, ines, keeper@fernhollow.example, Gardens, stays on old engines, 300M", strings.Join([]string{
		full.CMS.Name + " " + full.CMS.Version, full.Administrator.Name, full.Administrator.Mail, full.Group, full.Note,
		full.PHPIni["memory_limit"]}, ", "))
	assert.True(t, full.Pinned)
	assert.Len(t, full.Administrator.Password, 28)
	out, errs, code = s.cli("new", "valley", "-stencil", "garden-usual", "-title", "Fernhollow")
	require.Zero(t, code, out+errs)
	out, _, _ = s.cli("defaults")
	assert.Regexp(t, `(?m)^administrator +ines `, out)
	assert.Regexp(t, `(?m)^mail +ines@fernhollow.example `, out)
	assert.Regexp(t, `(?m)^cms +own `, out)
	out, errs, code = s.cli("new", "brook")
	require.Zero(t, code, out+errs)
	assert.Equal(t, "own ines", s.site(t, "brook").CMS.Name+" "+s.site(t, "brook").Administrator.Name)
	out, _, _ = s.cli("operations")
	assert.Regexp(t, `(?m)^7 +match-fleet +done`, out)
	out, _, _ = s.cli("settings", "fernhollow", "-history")
	assert.Contains(t, out, "memory_limit")
	out, errs, code = s.cli("retire", "fernhollow", "fernhollow-trial-1", "moss", "sedge", "-yes")
	require.Zero(t, code, out+errs)
	left, err := os.ReadDir(filepath.Join(home, "sites"))
	require.NoError(t, err)
	assert.Len(t, left, 2, "nothing of them is left: %v", left)
}

// layFormerHome unpacks that home, as if it had been moved here, with ports that are free here.
func layFormerHome(t *testing.T, home string) {
	t.Helper()
	file, err := os.Open("ground/former-home.tar.zst")
	require.NoError(t, err)
	defer file.Close()
	expanded, err := zstd.NewReader(file)
	require.NoError(t, err)
	defer expanded.Close()
	ports := strings.NewReplacer("24080", strconv.Itoa(freePort(t)), "22000", strconv.Itoa(freePort(t)))
	reader := tar.NewReader(expanded)
	for {
		head, err := reader.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		path := filepath.Join(home, head.Name)
		if head.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(path, 0o700))
			continue
		}
		text, err := io.ReadAll(reader)
		require.NoError(t, err)
		if base := filepath.Base(path); base == "home.json" || base == "settings.php" {
			text = []byte(ports.Replace(string(text)))
		}
		require.NoError(t, os.WriteFile(path, text, head.FileInfo().Mode().Perm()))
	}
	handOver(t, home)
}

// handOver gives a home to the account that a service becomes which root starts.
func handOver(t *testing.T, home string) {
	t.Helper()
	if os.Geteuid() != 0 {
		return
	}
	account, err := user.Lookup("vessik")
	if err != nil { // no service was ever started here
		start(t, newHome(t)).stop()
		account, err = user.Lookup("vessik")
	}
	require.NoError(t, err)
	require.NoError(t, exec.Command("chown", "-R", account.Uid+":"+account.Gid, home).Run())
}
