package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
)

func TestFlagsStandBeforeOrAfterNames(t *testing.T) {
	for _, arguments := range [][]string{{"-all", "a", "b"}, {"a", "-all", "b"}, {"a", "b", "-all"}, {"a", "b", "--all=true"}} {
		var names []string
		var all bool
		word := command{name: "prune", names: "[NAME…]", run: func(_ context.Context, c *call) error {
			flag := c.flags.Bool("all", false, "all of them")
			err := c.parse()
			names, all = c.names, *flag
			return err
		}}
		assert.NoError(t, runCommand(context.Background(), word, arguments, &bytes.Buffer{}))
		assert.Equal(t, []string{"a", "b"}, names)
		assert.True(t, all)
	}
}

// A script whose variable is not set must not get what it did not ask for.
func TestAnEmptyFlagIsRefused(t *testing.T) {
	for name, fault := range map[string]string{"password": "-password is given, but empty; leave it out", "note": ""} {
		word := command{name: "prune", names: "[NAME…]", run: func(_ context.Context, c *call) error {
			c.flags.String("password", "", "of the site")
			c.flags.String("note", "", "a note, empty for none")
			c.mayBeEmpty = []string{"note"}
			return c.parse()
		}}
		err := runCommand(context.Background(), word, []string{"a", "-" + name, ""}, &bytes.Buffer{})
		if fault == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, fault)
	}
}

func TestACommandsOwnFlagsStayItsOwn(t *testing.T) {
	var names []string
	var env string
	word := command{name: "run", names: "NAME [[--] COMMAND…]", run: func(_ context.Context, c *call) error {
		named := c.flags.String("env", "", "names of variables")
		err := c.parse()
		names, env = c.names, *named
		return err
	}}
	for _, arguments := range [][]string{{"a", "-env", "STAGE", "php", "-v", "-env", "X"}, {"-env", "STAGE", "a", "php", "-v", "-env", "X"}} {
		require.NoError(t, runCommand(context.Background(), word, arguments, &bytes.Buffer{}))
		assert.Equal(t, []string{"a", "php", "-v", "-env", "X"}, names)
		assert.Equal(t, "STAGE", env)
	}
}

func TestErrorsBecomeExitCodes(t *testing.T) {
	for _, c := range []struct {
		err  error
		code int
		says string
	}{
		{nil, 0, ""},
		{usageError{"name a site"}, 2, "vessik prune: name a site; see: vessik prune -h"},
		{exitCode(3), 3, ""},
		{fmt.Errorf("%w: none runs", client.ErrUnreachable), 4, "cannot be reached"},
		{&client.ProblemDetails{Status: 422, Detail: "nothing was changed",
			Errors: []client.Problem{{Site: "a", Field: "administrator.password", Message: "is weak", Remedy: "leave it out"}}}, 2,
			"a: -password: is weak; leave it out"},
		{&client.ProblemDetails{Status: 404, Detail: "there is no site"}, 2, "there is no site"},
		{&client.ProblemDetails{Status: 409, Detail: "busy"}, 1, "busy"},
		{&client.ProblemDetails{Status: 500, Detail: "rain"}, 1, "rain"},
		{errors.New("frost"), 1, "vessik prune: frost"},
		{context.Canceled, 1, "interrupted"},
	} {
		var errs bytes.Buffer
		assert.Equal(t, c.code, finish(command{name: "prune"}, c.err, &errs), "%v", c.err)
		assert.Contains(t, errs.String(), c.says)
	}
}

func watched(state plan.OperationState, passed ...*bool) client.Watched {
	var w client.Watched
	w.State = state
	for i, p := range passed {
		w.Sites = append(w.Sites, wire.OperationSite{Site: fmt.Sprint("garden-", i), State: state, Report: &check.SiteReport{Passed: p}})
	}
	return w
}

func TestOutcomes(t *testing.T) {
	yes, no := true, false
	assert.NoError(t, outcome(watched("done", &yes, nil)), "a stopped site fails nothing")
	assert.Equal(t, exitCode(3), outcome(watched("done", &yes, &no)))
	assert.Equal(t, exitCode(1), outcome(watched("failed", &yes)))
	assert.Equal(t, exitCode(1), outcome(watched("cancelled", nil)))
}

func TestPlainProgressIsALineAStep(t *testing.T) {
	var out bytes.Buffer
	see, done := plainProgress(&out)
	w := watched("running", nil)
	w.Sites[0].Report = nil
	for _, text := range []string{"laying out files", "laying out files", "starting PHP"} {
		w.Activity = map[string]wire.Activity{"garden-0": {Text: text, Fraction: -1}}
		see(w)
	}
	yes := true
	see(watched("done", &yes))
	done()
	assert.Equal(t, "garden-0: laying out files\ngarden-0: starting PHP\ngarden-0: not checked\n", out.String())
}

func TestActivitySaysHowFar(t *testing.T) {
	w := watched("running", nil)
	assert.Equal(t, "waiting", activity(w, "garden-0"))
	w.Activity = map[string]wire.Activity{"garden-0": {Text: "downloading", Fraction: 0.42}}
	assert.Equal(t, "downloading 42%", activity(w, "garden-0"))
	assert.Empty(t, activity(w, "nobody"))
}

func TestCommandsForAFolder(t *testing.T) {
	for line, words := range map[string][]string{
		"code FOLDER":                      {"code", "/srv/a b"},
		"vim":                              {"vim", "/srv/a b"},
		"xterm -e 'cd \"FOLDER\" && bash'": {"xterm", "-e", `cd "/srv/a b" && bash`},
		`ed --title="" --dir=FOLDER`:       {"ed", "--title=", "--dir=/srv/a b"},
		"":                                 {},
	} {
		found, err := commandWords(line, "/srv/a b")
		require.NoError(t, err)
		assert.Equal(t, words, found, line)
	}
	_, err := commandWords("vim 'open", "/srv")
	assert.ErrorContains(t, err, "is not closed")
}

func TestATerminalIsNotCommandedByWhatIsPrinted(t *testing.T) {
	for text, want := range map[string]string{"plain\n\tfern": "plain\n\tfern", "\x1b[32mpass\x1b[0m": "\x1b[32mpass\x1b[0m",
		"\x1b]0;owned\x07": "�]0;owned�", "a\x1b[2Jb\rc": "a�[2Jb�c", "über \u202egnp.exe": "über �gnp.exe", "\u009b2J": "�2J"} {
		assert.Equal(t, want, string(harmless([]byte(text))))
	}
}
