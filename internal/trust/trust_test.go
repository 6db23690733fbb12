package trust

import (
	"crypto/x509"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/authority"
)

// roots are two certificates of one authority, the second for more.
func roots(t *testing.T) (first, second *x509.Certificate) {
	a, err := authority.Open(t.TempDir())
	require.NoError(t, err)
	endings := []string{"localhost"}
	a.Endings = func() []string { return endings }
	first, err = a.Root()
	require.NoError(t, err)
	endings = []string{"localhost", "garden.example"}
	second, err = a.Root()
	require.NoError(t, err)
	return first, second
}

// believed is what a place says of an authority.
func believed(t *testing.T, p Place, root *x509.Certificate) string {
	now, earlier, err := p.Believes(t.Context(), root)
	require.NoError(t, err)
	return map[[2]bool]string{{true, false}: "now", {true, true}: "now and earlier", {false, true}: "earlier", {}: "no"}[[2]bool{now, earlier}]
}

func TestABrowserBelievesAndForgets(t *testing.T) {
	home := t.TempDir()
	profile := filepath.Join(home, ".mozilla/firefox/moss.default")
	require.NoError(t, os.MkdirAll(profile, 0o700))
	_, err := certutil(t.Context(), profile, nil, "-N", "--empty-password")
	require.NoError(t, err)
	first, second := roots(t)
	places := Browsers(home)
	require.Len(t, places, 2)
	assert.Equal(t, "Chromium", places[0].Title)
	assert.True(t, places[0].Missing)
	assert.Equal(t, "Firefox, profile moss.default", places[1].Title)
	for _, place := range places {
		assert.Equal(t, "no", believed(t, place, first))
		require.NoError(t, place.Add(t.Context(), first))
	}
	for _, place := range Browsers(home) {
		assert.False(t, place.Missing)
		assert.Equal(t, "now", believed(t, place, first))
		assert.Equal(t, "earlier", believed(t, place, second))
		require.NoError(t, place.Add(t.Context(), second))
		assert.Equal(t, "now and earlier", believed(t, place, second))
		require.NoError(t, place.Drop(t.Context(), second))
		require.NoError(t, place.Drop(t.Context(), second), "twice is once")
	}
	assert.NoDirExists(t, filepath.Join(home, ".pki/nssdb"), "it was made for this alone")
	assert.Equal(t, "no", believed(t, Browsers(home)[1], first))
}

func TestTheMachinesStoreBelievesAndForgets(t *testing.T) {
	dir := t.TempDir()
	own, made := filepath.Join(dir, "own"), filepath.Join(dir, "made")
	for _, each := range []string{own, made, filepath.Join(dir, "usual"), filepath.Join(dir, "hooks")} {
		require.NoError(t, os.MkdirAll(each, 0o755))
	}
	other, _ := roots(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "usual", "other.crt"), authority.PEM(other), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "list"), []byte("other.crt\n"), 0o644))
	place := Place{Title: "the machine's store", Folder: own, store: files{certificates: made, update: []string{"update-ca-certificates",
		"--certsconf", filepath.Join(dir, "list"), "--certsdir", filepath.Join(dir, "usual"), "--localcertsdir", own, "--etccertsdir", made,
		"--hooksdir", filepath.Join(dir, "hooks")}}}
	first, second := roots(t)
	assert.Equal(t, "no", believed(t, place, first))
	require.NoError(t, place.Add(t.Context(), first))
	assert.Equal(t, "now", believed(t, place, first))
	assert.Equal(t, "earlier", believed(t, place, second))
	require.NoError(t, place.Add(t.Context(), second))
	assert.Equal(t, "now", believed(t, place, second), "one takes the other's place")
	require.NoError(t, place.Drop(t.Context(), second))
	assert.Equal(t, "no", believed(t, place, first))
	for folder, count := range map[string]int{own: 0, made: 3} { // the other one, a link to it by its hash, and all in one
		left, err := os.ReadDir(folder)
		require.NoError(t, err)
		assert.Len(t, left, count, folder)
	}
}

func TestWhatCannotBeDoneIsSaid(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	assert.Contains(t, Machine().Fault(), "ca-certificates")
	home := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".pki/nssdb"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".pki/nssdb/cert9.db"), nil, 0o600))
	place := Browsers(home)[0]
	assert.Contains(t, place.Fault(), "libnss3-tools")
	first, _ := roots(t)
	require.ErrorIs(t, place.Add(t.Context(), first), ErrNoCertutil)
	_, _, err := place.Believes(t.Context(), first)
	require.ErrorIs(t, err, ErrNoCertutil)
}
