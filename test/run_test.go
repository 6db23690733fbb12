package test

import (
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCommandsRunAsOneOfTheSitesOwn(t *testing.T) {
	s := shared(t)
	made := s.site(t, "fernhollow")
	in := func(words ...string) (string, string, int) {
		return run(t, append([]string{"run", "fernhollow", "-home", s.home, "--"}, words...)...)
	}
	out, errs, code := in("php", "-r", "echo PHP_VERSION, ' ', getcwd(), ' ', getenv('MYSQL_DATABASE');")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, made.Stack.PHP.Version+" "+made.Folder+" fernhollow", out)
	out, errs, code = in("mariadb", "-N", "-e", "SELECT option_value FROM "+made.Prefix+"options WHERE option_name='siteurl'")
	require.Equal(t, 0, code, errs)
	assert.Equal(t, strings.TrimSuffix(made.URL, "/"), strings.TrimSpace(out))
	// The clients of its own server, under either name.
	_, errs, code = s.cli("engines", "fetch", made.Stack.Database.Engine)
	require.Zero(t, code, errs)
	for _, words := range [][]string{{"mariadb-dump", "fernhollow"}, {"mysqldump", "--no-data", "fernhollow"}} {
		out, errs, code = in(words...)
		require.Zero(t, code, errs)
		assert.Contains(t, out, made.Stack.Database.Version, "its own server's program")
		assert.Contains(t, out, "CREATE TABLE `"+made.Prefix+"options`")
	}
	out, errs, code = in("mysql", "-N", "-e", "SELECT CURRENT_USER()")
	require.Zero(t, code, errs)
	assert.Equal(t, "fernhollow@127.0.0.1\n", out)
	out, errs, code = in("sh", "-c", "mysqladmin ping && mariadb-show && mariadb-check fernhollow && command -v mysqlimport")
	require.Zero(t, code, out+errs)
	_, _, code = in("sh", "-c", "exit 7")
	assert.Equal(t, 7, code, "the command's own exit code")
	_, errs, code = in("no-such-command")
	assert.Equal(t, 127, code, "as a shell has it")
	assert.Contains(t, errs, "no-such-command")
	t.Setenv("GARDEN_KEY", "of whoever calls")
	out, _, code = in("sh", "-c", "echo [$GARDEN_KEY]; cat "+s.home+"/token || echo none")
	require.Zero(t, code)
	assert.Equal(t, "[]\nnone\n", out, "neither the caller's environment nor the service's files")
	out, errs, code = run(t, "run", "fernhollow", "-env", "GARDEN_KEY", "-home", s.home, "--", "sh", "-c", "echo $GARDEN_KEY")
	require.Zero(t, code, errs)
	assert.Equal(t, "of whoever calls\n", out)

	// A log is followed as it grows.
	command := exec.Command(program, "logs", "fernhollow", "-f", "-last", "0", "-log", "access", "-home", s.home)
	output := &lockedBuffer{}
	command.Stdout = output
	require.NoError(t, command.Start())
	defer func() { command.Process.Signal(syscall.SIGINT); command.Wait() }()
	require.Eventually(t, func() bool {
		get(t, made.URL+"?a-visitor-of-the-log")
		return strings.Contains(output.text(), "a-visitor-of-the-log")
	}, 10*time.Second, 100*time.Millisecond)
}
