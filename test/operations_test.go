package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
)

// Verifications that wait for sites to start must not keep those starts from what they need.
func TestVerifyingAndStartingSideBySideBothEnd(t *testing.T) {
	s := shared(t)
	names, requests := []string{}, []client.Request{}
	for i := range 12 {
		names = append(names, fmt.Sprintf("bed-%d", i))
		requests = append(requests, client.Request{Name: names[i], CMS: "empty"})
	}
	requirePassed(t, s.made(t, requests...))
	defer s.retire(t, names...)
	s.do(t, plan.Stop, names[6:]...)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	_, err := s.Do(ctx, plan.Verify, wire.Names{Names: names[:6]}) // has the machine busy
	require.NoError(t, err)
	verifying, err := s.Do(ctx, plan.Verify, wire.Names{Names: names[6:]})
	require.NoError(t, err)
	starting, err := s.Do(ctx, plan.Start, wire.Names{Names: names[6:]})
	require.NoError(t, err)
	for _, id := range []string{starting.ID, verifying.ID} {
		watched, err := s.Watch(ctx, id, nil)
		require.NoError(t, err, "one waits for the other")
		assert.Equal(t, plan.OperationDone, watched.State)
	}
}

// What is changed while a site is being worked on is either refused or kept.
func TestNothingIsLostBesideARunningChange(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "moss-archive"))
	defer s.retire(t, "moss-archive")
	ctx, group := context.Background(), "beside"
	for _, engine := range []string{"8.2", "8.4"} {
		operation, err := s.Restack(ctx, "moss-archive", client.Restack{PHP: engine})
		require.NoError(t, err)
		_, err = s.SetDomains(ctx, "moss-archive", client.Domains{Domains: []string{"moss-" + engine + ".localhost"}})
		require.ErrorContains(t, err, "is being worked on by operation "+operation.ID)
		group += engine
		_, err = s.Label(ctx, client.Label{Names: []string{"moss-archive"}, Group: &group})
		require.NoError(t, err)
		watched := s.watch(t, operation)
		require.Equal(t, plan.OperationDone, watched.State)
		now := s.site(t, "moss-archive")
		assert.Equal(t, group, now.Group)
		assert.Empty(t, now.Domains)
	}
	renaming, err := s.Rename(ctx, "moss-archive", client.Rename{Name: "fern-archive"})
	require.NoError(t, err)
	for state := plan.OperationState(""); state != plan.OperationDone; { // at any moment of it
		watched, err := s.Operation(ctx, renaming.ID)
		require.NoError(t, err)
		if state = watched.State; state != plan.OperationRunning {
			require.Equal(t, plan.OperationDone, state)
		}
		next := group + "x"
		for _, name := range []string{"moss-archive", "fern-archive"} {
			if _, err := s.Label(ctx, client.Label{Names: []string{name}, Group: &next}); err == nil {
				group = next
			}
		}
	}
	assert.Equal(t, group, s.site(t, "fern-archive").Group)
	back, err := s.Rename(ctx, "fern-archive", client.Rename{Name: "moss-archive"})
	require.NoError(t, err)
	require.Equal(t, plan.OperationDone, s.watch(t, back).State)
	requirePassed(t, s.do(t, plan.Verify, "moss-archive"))
}

// The server of a stopped site stays for as long as a command of the site needs it.
func TestACommandOfAStoppedSiteKeepsItsDatabase(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "fernhollow", Database: "10.11"})) // the records are on another
	s.do(t, plan.Stop, "fernhollow")
	out, errs, code := run(t, "run", "fernhollow", "-home", s.home, "--", "sh", "-c",
		`for i in 1 2 3; do mariadb -e "SELECT CONCAT('rows ', COUNT(*)) FROM $(mariadb -Ne 'SHOW TABLES' | grep options)" || exit 1; sleep 2;
done`)
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "rows ")
	require.Eventually(t, func() bool {
		engines, err := s.Engines(context.Background())
		require.NoError(t, err)
		return !slices.ContainsFunc(engines.Engines, func(e client.Engine) bool { return e.ID == "mariadb-10.11" && len(e.Processes) > 0 })
	}, 20*time.Second, 100*time.Millisecond, "it stops once nobody needs it")
}

// One site that cannot be taken back is told; the service starts, and the other sites answer.
func TestASiteThatCannotBeTakenBackLeavesTheOthersAlone(t *testing.T) {
	t.Parallel()
	home := newHome(t)
	s := start(t, home)
	requirePassed(t, s.newSites(t, "fernhollow"))
	_, err := s.New(context.Background(), client.Request{Name: "frost", Database: "10.11"})
	require.NoError(t, err)
	data := filepath.Join(home, "databases/mariadb-10.11")
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(data, "frost")); return err == nil }, 30*time.Second,
		time.Millisecond, "its database is made")
	s.kill()
	require.NoError(t, os.Rename(data, data+".away"))
	require.NoError(t, os.WriteFile(data, nil, 0o600)) // no server starts there
	s = start(t, home)
	assert.Equal(t, "running", string(s.site(t, "fernhollow").State))
	requirePassed(t, s.do(t, plan.Verify, "fernhollow"))
	left := s.site(t, "frost")
	assert.Equal(t, "failed", string(left.State))
	assert.Contains(t, left.Reason, "taking it back failed")
	assert.Contains(t, left.Reason, "vessik retire frost")
	require.NoError(t, os.Remove(data))
	require.NoError(t, os.Rename(data+".away", data))
	s.retire(t, "frost")
	assert.NoDirExists(t, filepath.Join(data, "frost"))
}
