package test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
)

// A site takes what it may have, and says so where it would take more.
func TestASiteIsHeldToItsLimits(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", CMS: "empty"}))
	defer s.retire(t, "orchard-days")
	made := s.site(t, "orchard-days")
	for _, wrong := range []string{"memory=lots", "memory=1M", "processes=3", "processes=many", "processor=1", "disk=-1"} {
		_, errs, code := s.cli("settings", "orchard-days", wrong)
		assert.NotZero(t, code, wrong)
		assert.NotEmpty(t, errs, wrong)
	}
	if _, errs, code := s.cli("settings", "orchard-days", "processor=50%"); code != 0 {
		assert.Contains(t, errs, "control groups", "the only reason not to")
	}
	out, errs, code := s.cli("settings", "orchard-days", "memory=300M", "processes=60", "disk=2M")
	require.Zero(t, code, out+errs)
	out, _, _ = s.cli("settings", "orchard-days")
	assert.Regexp(t, `memory: \d+ MB used, at most 300 MB`, out)
	assert.Regexp(t, `processes: \d+ used, at most 60`, out)
	assert.Regexp(t, `disk: 1 MB used, at most 2 MB`, out)

	hungry := filepath.Join(made.DocumentRoot, "hungry.php")
	require.NoError(t, os.WriteFile(hungry,
		[]byte(`<?php for ($i = 0; $i < 4; $i++) $p[] = proc_open(['/usr/bin/perl', '-e', 'my $x = "y" x (120 << 20); sleep 30'], [], $pipes);
sleep(4); echo count(array_filter($p, fn($one) => proc_get_status($one)['running'])); foreach ($p as $one) proc_terminate($one,
9);`), 0o644))
	_, text, _ := get(t, made.URL+"hungry.php")
	assert.Less(t, text, "4", "not all of them were left")
	require.Eventually(t, func() bool { return s.site(t, "orchard-days").Notice != "" }, 5*time.Second, 50*time.Millisecond)
	assert.Contains(t, s.site(t, "orchard-days").Notice, "memory limit of 300 MB")
	log, err := os.ReadFile(filepath.Join(s.home, "logs/sites/orchard-days/php-error.log"))
	require.NoError(t, err)
	assert.Contains(t, string(log), "memory limit of 300 MB")
	many := filepath.Join(made.DocumentRoot, "many.php")
	require.NoError(t, os.WriteFile(many,
		[]byte(`<?php $n = 0; for ($i = 0; $i < 100; $i++) { $p[$i] = @proc_open(['/bin/sleep', '20'], [], $pipes);
if ($p[$i] && proc_get_status($p[$i])['running']) $n++; } echo $n < 100 ? 'held' : 'all';
foreach ($p as $one) if ($one) proc_terminate($one, 9);`), 0o644))
	_, text, _ = get(t, made.URL+"many.php")
	if mustStatus(t, s).Confinement.Cells {
		assert.Contains(t, text, "held")
	}
	status, _, _ := get(t, s.site(t, "fernhollow").URL)
	assert.Equal(t, 200, status, "its neighbour goes on")
}
