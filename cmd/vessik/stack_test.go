package main

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

func TestSettingsAreReadFromTheCommandLine(t *testing.T) {
	page := client.SettingsPage{Settings: client.Settings{PHP: map[string]string{"memory_limit": "256M", "precision": "14"},
		Extensions: map[string]bool{"gd": false}, Allow: []string{"/a"}, Xdebug: 9003}}
	next, err := askedSettings{words: []string{"memory_limit=512M", "precision=", "debug=on", "xdebug=off", "rest=30m"},
		extensions: list{"gd=", "intl=off"},
		allow:      list{"/b", "/a"}}.change(page)
	require.NoError(t, err)
	assert.Equal(t, client.Settings{PHP: map[string]string{"memory_limit": "512M"}, Extensions: map[string]bool{"intl": false},
		HostLines: map[string]string{}, Allow: []string{"/a", "/b"}, Debug: true, RestAfter: 1800}, next)
	assert.Equal(t, "256M", page.Settings.PHP["memory_limit"], "what is there stays until the service has changed it")
	next, err = askedSettings{words: []string{"outgoing=closed", "xdebug=9100", "rest=never", "memory=1G", "processor=50%"},
		drop: list{"/a"}}.change(page)
	require.NoError(t, err)
	assert.Empty(t, next.Allow)
	assert.Equal(t, []int{9100, -1, 1 << 30, 50}, []int{next.Xdebug, next.RestAfter, int(next.Memory), next.Processor})
	assert.Equal(t, "closed", next.Outgoing)
	for _, bad := range []askedSettings{{words: list{"memory_limit"}}, {extensions: list{"gd=maybe"}}, {drop: list{"/c"}},
		{words: list{"debug=perhaps"}},
		{words: list{"xdebug=port"}}, {words: list{"rest=10ms"}}, {words: list{"memory=much"}}} {
		_, err := bad.change(page)
		assert.ErrorAs(t, err, &usageError{}, "%q", bad)
	}
	page.History = []plan.SettingsEntry{{ID: 7, Settings: client.Settings{Debug: true}}}
	entry, err := entryOf(page, 7)
	require.NoError(t, err)
	assert.True(t, entry.Debug)
	entry, err = entryOf(page, -1)
	require.NoError(t, err)
	assert.Equal(t, client.Settings{}, entry, "as the site was made")
	_, err = entryOf(page, 8)
	assert.ErrorContains(t, err, "no entry 8")
}

func TestOnlyWhatDiffersIsCompared(t *testing.T) {
	info := func(entries ...[3]string) (i client.Info) {
		for _, e := range entries {
			i.Entries = append(i.Entries, struct {
				Section string `json:"section"`
				Name    string `json:"name"`
				Value   string `json:"value"`
			}{e[0], e[1], e[2]})
		}
		return i
	}
	a := info([3]string{"PHP", "version", "8.2"}, [3]string{"php.ini", "same", "1"}, [3]string{"extensions", "gd", "8.2"},
		[3]string{"virtual host", "line 001", "server {"})
	b := info([3]string{"PHP", "version", "8.4"}, [3]string{"php.ini", "same", "1"}, [3]string{"extensions", "intl", "8.4"},
		[3]string{"virtual host", "line 001", "ServerName"})
	assert.Equal(t, [][]string{{"PHP", "version", "8.2", "8.4"}, {"extensions", "gd", "8.2", ""}, {"extensions", "intl", "", "8.4"}},
		differences(a, b))
}

func TestATrialBecomesSuites(t *testing.T) {
	stack := site.Stack{PHP: "php-8.4", Web: "nginx-1.26", Database: "mariadb-11.8"}
	passed := check.Of("copy", []check.Result{{ID: "front-page", Verdict: check.Pass}})
	report := trialReport(plan.Trial{Site: "moss", Cells: []plan.Cell{{Stack: stack, Verdict: check.Pass, Report: &passed},
		{Stack: stack, Verdict: check.Fail, Summary: "no disk left"}}})
	assert.Equal(t, "moss on php-8.4, nginx-1.26, mariadb-11.8", report.Sites[0].Site)
	assert.Equal(t, "no disk left", report.Sites[1].Checks[0].Observed, "a copy that could not be made fails its suite")
	var out strings.Builder
	require.NoError(t, check.WriteJUnit(&out, report))
	assert.Contains(t, out.String(), `failures="1"`)
}

func TestWhatFollowsTwoDashesIsTheCommandsOwn(t *testing.T) {
	values, err := pairs([]string{"a=1", "b=", "c=x=y"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"a": "1", "b": "", "c": "x=y"}, values)
	_, err = pairs([]string{"=1"})
	assert.ErrorAs(t, err, &usageError{})
	assert.Equal(t, exitCode(exitCheckFailed), outcome(client.Watched{Operation: client.Operation{
		Details: json.RawMessage(`{"went_back":true,"worse":["front-page"]}`), Sites: []wire.OperationSite{{State: plan.OperationFailed}}}}))
}

func TestStartingAtLogin(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	t.Setenv("PATH", t.TempDir()) // without systemd
	ask := func(arguments ...string) (string, int) {
		var out, errs bytes.Buffer
		code := run(context.Background(), append([]string{"at-login", "-home", "/srv/fern hollow"}, arguments...), &out, &errs)
		return out.String() + errs.String(), code
	}
	out, code := ask()
	assert.Zero(t, code)
	assert.Contains(t, out, "does not start when you log in")
	out, code = ask("on")
	assert.Zero(t, code)
	assert.Contains(t, out, "systemctl --user daemon-reload && systemctl --user enable vessik.service", "said where systemd does not answer")
	unit, err := os.ReadFile(filepath.Join(dir, "systemd/user/vessik.service"))
	require.NoError(t, err)
	assert.Contains(t, string(unit), `serve -home "/srv/fern hollow"`)
	assert.Contains(t, string(unit), "WantedBy=default.target")
	_, code = ask("off")
	assert.Zero(t, code)
	assert.NoFileExists(t, filepath.Join(dir, "systemd/user/vessik.service"))
	_, code = ask("maybe")
	assert.Equal(t, exitUsage, code)
}

func TestCompletionsAreReadByTheirShells(t *testing.T) {
	for _, shell := range []string{"bash", "zsh", "fish"} {
		var out, errs bytes.Buffer
		require.Zero(t, run(context.Background(), []string{"completion", shell}, &out, &errs), errs.String())
		for _, c := range commands {
			assert.Contains(t, out.String(), c.name, shell)
		}
		path, err := exec.LookPath(shell)
		if err != nil {
			continue
		}
		command := exec.Command(path, "-n")
		command.Stdin = &out
		text, err := command.CombinedOutput()
		assert.NoError(t, err, "%s", text)
	}
	var out, errs bytes.Buffer
	assert.Equal(t, exitUsage, run(context.Background(), []string{"completion", "moss"}, &out, &errs))
}
