package test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
)

func TestEveryEngineServesWithEveryOther(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	stacks := combinations()
	requests := []client.Request{}
	for i, stack := range stacks {
		requests = append(requests, client.Request{Name: fmt.Sprintf("garden-%d", i), PHP: stack[0], Web: stack[1], Database: stack[2]})
	}
	requests[0].CMSVersion = "5.7" // of the oldest generation, on PHP 7.4
	requests[1].CMSVersion = "6.1"
	requirePassed(t, s.made(t, requests...))
	for i, stack := range stacks {
		php, web, database := onStack(t, s, requests[i].Name)
		assert.Equal(t, [3]string{fullVersion(t, s, stack[0]), fullVersion(t, s, stack[1]), fullVersion(t, s, stack[2])},
			[3]string{php, web, database}, "%v", stack)
		made := s.site(t, requests[i].Name)
		assert.Equal(t, cmp.Or(requests[i].CMSVersion, "6.8"), made.CMS.Version)
		status, text, _ := get(t, made.URL+"hello-world/")
		assert.Equal(t, 200, status, "readable addresses work on %s", stack[1])
		assert.Contains(t, text, "Hello world!")
		status, _, _ = get(t, made.URL+".htaccess")
		assert.Contains(t, []int{403, 404}, status)
	}
	engines, err := s.Engines(context.Background())
	require.NoError(t, err)
	for generation, bytes := range engines.Disk {
		assert.Less(t, bytes, int64(250<<20), generation)
	}
	for _, e := range engines.Engines {
		if e.Kind != "release" && e.Kind != "languages" && e.Generation != "own" {
			assert.NotEmpty(t, e.Processes, e.ID)
			assert.Positive(t, e.MemoryBytes, e.ID)
		}
	}
	_, errs, code := s.cli("engines", "drop", "nginx-1.18")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nginx-1.18 is used by garden-")
}

func TestEnginesOfTheUsersOwnAreAdopted(t *testing.T) {
	s := shared(t)
	status := mustStatus(t, s)
	source := filepath.Join(status.EngineStore, "nginx-1.22/root") // stands for a folder that somebody built
	_, errs, code := s.cli("engines", "adopt", "nginx-9.9", "-path", source)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "which nginx-9.9 does not say")
	_, errs, code = s.cli("engines", "adopt", "nginx-1.22-own", "-path", "/nowhere")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "/nowhere is not a folder")
	out, errs, code := s.cli("engines", "adopt", "nginx-1.22-own", "-path", source)
	require.Equal(t, 0, code, errs)
	defer s.cli("engines", "drop", "nginx-1.22-own") // the store is not the test's own
	assert.Contains(t, out, "was started and adopted from "+source)
	requirePassed(t, s.made(t, client.Request{Name: "orchard-days", Web: "1.22-own"}))
	_, errs, code = s.cli("engines", "drop", "nginx-1.22-own")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is used by orchard-days")
	other := start(t, newHome(t))
	requirePassed(t, other.made(t, client.Request{Name: "moss-archive", CMS: "empty", Web: "1.22-own"}))
	s.retire(t, "orchard-days")
	_, errs, code = s.cli("engines", "drop", "nginx-1.22-own")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is used in the home "+other.home)
	other.retire(t, "moss-archive")
	require.EventuallyWithT(t, func(t *assert.CollectT) {
		_, errs, code := s.cli("engines", "drop", "nginx-1.22-own")
		assert.Zero(t, code, errs)
	}, 10*time.Second, 100*time.Millisecond)
	assert.DirExists(t, source, "what it consists of stays")

	_, errs, code = s.cli("engines", "fetch", "nginx-1.18", "wordpress-5")
	assert.Equal(t, 0, code, errs)
	_, errs, code = s.cli("engines", "fetch", "moss")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `no engine fits "moss"`)

	// Server variables: checked by the server, in effect, taken back.
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "max_connection=77")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is no variable of mariadb-11.8; did you mean max_connections?", "which the server would take for the same")
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "max_connectoins=7")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "unknown variable 'max_connectoins=7'", "the server's own words")
	v := visit(s.site(t, "fernhollow").URL, 1)
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "max_connections=321")
	v.end()
	require.Equal(t, 0, code, errs)
	assert.Zero(t, v.failed.Load(), "%v", v.first.Load())
	out, _, _ = s.cli("info", "fernhollow", "-search", "max_connections")
	assert.Contains(t, out, "321")
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "init_connect=SELEKT") // said to every site that connects
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "no longer passes", "the server starts with it, and the sites do not work")
	assert.Contains(t, errs, "the server runs as before")
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "max-connections=654", "wait_timeout=7000")
	require.Equal(t, 0, code, errs)
	out, _, _ = s.cli("engines", "set", "mariadb-11.8")
	assert.Contains(t, out, "max_connections = 654, wait_timeout = 7000")
	assert.NotContains(t, out, "SELEKT", "what was taken back is not of the history")
	page, err := s.Variables(context.Background(), "11.8")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(page.History), 2)
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "-back", fmt.Sprint(page.History[1].ID))
	require.Equal(t, 0, code, errs)
	page, err = s.Variables(context.Background(), "11.8")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"max_connections": "321"}, page.Variables)
	_, errs, code = s.cli("engines", "set", "mariadb-11.8", "-back", "-1")
	require.Equal(t, 0, code, errs)
	requirePassed(t, s.do(t, plan.Verify, "fernhollow"))
}

// PHP that loops or leaks answers with an error, and the neighbours keep their pace.
func TestALoopingSiteIsEndedAndItsNeighbourKeepsItsPace(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.newSites(t, "orchard-days"))
	defer s.retire(t, "orchard-days")
	_, errs, code := s.cli("settings", "orchard-days", "max_execution_time=2")
	require.Equal(t, 0, code, errs)
	made, neighbour := s.site(t, "orchard-days"), s.site(t, "fernhollow")
	for name, text := range map[string]string{"loop": "while (true) {}", "sleep": "sleep(600);",
		"leak": "$a = []; while (true) $a[] = str_repeat('x', 1 << 20);"} {
		require.NoError(t, os.WriteFile(filepath.Join(made.Folder, name+".php"),
			[]byte("<?php ini_set('max_execution_time', '"+map[bool]string{true: "0", false: "2"}[name == "sleep"]+"'); "+text), 0o644))
	}
	status, _, _ := get(t, made.URL+"leak.php")
	assert.Equal(t, 500, status)
	began := time.Now()
	calm := time.Duration(0)
	for range 5 {
		get(t, neighbour.URL)
	}
	calm = time.Since(began)
	var group sync.WaitGroup
	for range 6 {
		group.Go(func() {
			status, _, _ := get(t, made.URL+"loop.php")
			assert.GreaterOrEqual(t, status, 500)
		})
	}
	time.Sleep(300 * time.Millisecond)
	began = time.Now()
	for range 5 {
		status, _, _ := get(t, neighbour.URL)
		assert.Equal(t, 200, status)
	}
	assert.Less(t, time.Since(began), 10*calm+time.Second, "beside six loops on this machine's processors")
	group.Wait()
	began = time.Now()
	status, _, _ = get(t, made.URL+"sleep.php")
	assert.GreaterOrEqual(t, status, 500)
	assert.Less(t, time.Since(began), time.Minute)
	requirePassed(t, s.do(t, plan.Verify, "orchard-days", "fernhollow"))
}

// Engines that are killed under load are back, and nobody hangs.
func TestEnginesKilledUnderLoad(t *testing.T) {
	s := shared(t)
	requirePassed(t, s.made(t, client.Request{Name: "moss-archive", Web: "apache-2.4-bookworm", PHP: "7.4"}))
	defer s.retire(t, "moss-archive")
	for name, patterns := range map[string][]string{"fernhollow": {"nginx: master", "php-fpm: master", "/run/mariadb-11.8/"},
		"moss-archive": {"apache2", "php-fpm: master"}} {
		for _, pattern := range patterns {
			address := s.site(t, name).URL
			v := visit(address, 3)
			require.Eventually(t, func() bool { return v.answered.Load() > 5 }, 20*time.Second, 10*time.Millisecond)
			killed := 0
			for _, line := range processesOf(s.home) {
				pid, command, _ := strings.Cut(line, " ")
				if strings.Contains(command, pattern) && (strings.HasPrefix(pattern, "nginx") || strings.Contains(pattern, "mariadb") ||
					strings.Contains(command, "/"+name+"/")) {
					number, _ := strconv.Atoi(pid)
					if err := syscall.Kill(number, syscall.SIGKILL); !errors.Is(err, syscall.ESRCH) { // it may have ended since it was listed
						require.NoError(t, err)
						killed++
					}
				}
			}
			require.NotZero(t, killed, "%s of %s in %v", pattern, name, processesOf(s.home))
			answered := v.answered.Load()
			assert.Eventually(t, func() bool { return v.answered.Load() > answered+5 }, 20*time.Second, 10*time.Millisecond, "%s of %s", pattern,
				name)
			v.end()
			assert.Zero(t, v.failed.Load(), "%s of %s: %v", pattern, name, v.first.Load())
			assert.Less(t, v.longest.Load(), int64(10000))
		}
	}
	requirePassed(t, s.do(t, plan.Verify, "fernhollow", "moss-archive"))
}
