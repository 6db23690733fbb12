// Package ground gives tests of single packages real engines to stand on. Started by root, such a test becomes the service's account
// first, as the service does: no engine runs as root.
package ground

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"vessik/internal/cell"
	"vessik/internal/cms"
	"vessik/internal/engine"
	"vessik/internal/home"
	"vessik/internal/proc"
	"vessik/internal/service"
)

var (
	store      engine.Store
	supervisor *proc.Supervisor
	scratch    string
	once       sync.Once
	database   *engine.DatabaseServer
)

// Main runs a package's tests; call it from TestMain.
func Main(m *testing.M) int {
	if slices.ContainsFunc(os.Args, func(a string) bool { return strings.HasPrefix(a, "-test.fuzz") }) {
		return m.Run() // its workers are started again and again, and need no engine
	}
	home, err := home.Default()
	if err != nil {
		panic(err)
	}
	store = engine.Store{Dir: home.Engines}
	if os.Geteuid() == 0 {
		return asAccount(store.Dir)
	}
	if scratch, err = os.MkdirTemp("", "vessik-ground-"); err != nil { // short: sockets live below it
		panic(err)
	}
	defer os.RemoveAll(scratch)
	cells, err := cell.Open(scratch)
	if err != nil {
		panic(err)
	}
	store.Cells = cells
	supervisor = proc.NewSupervisor(cells, filepath.Join(scratch, "ledger"))
	defer func() {
		if database != nil {
			database.Stop()
		}
	}()
	return m.Run()
}

// asAccount runs this same test program once more, as the service's account.
func asAccount(engines string) int {
	credential, err := service.Account(service.DefaultAccount, engines)
	if err != nil {
		panic(err)
	}
	arguments := slices.DeleteFunc(slices.Clone(os.Args[1:]),
		func(a string) bool { return strings.HasPrefix(a, "-test.testlogfile") }) // root's own
	command := exec.Command("/proc/self/exe", arguments...)
	command.Stdout, command.Stderr = os.Stdout, os.Stderr
	command.Env = append(os.Environ(), "VESSIK_ENGINES="+engines)
	command.SysProcAttr = &syscall.SysProcAttr{Credential: credential}
	if err := command.Run(); err != nil && command.ProcessState == nil {
		panic(err)
	}
	return command.ProcessState.ExitCode()
}

// Engines returns engines of the store, fetched if need be.
func Engines(t testing.TB, ids ...string) map[string]*engine.Engine {
	t.Helper()
	found, err := store.Ensure(context.Background(), ids, nil)
	require.NoError(t, err)
	return found
}

// Engine returns one.
func Engine(t testing.TB, id string) *engine.Engine {
	t.Helper()
	return Engines(t, id)[id]
}

// Supervisor starts processes for tests.
func Supervisor() *proc.Supervisor { return supervisor }

// Folder is a folder of this test's own, with a short path.
func Folder(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp(scratch, "f")
	require.NoError(t, err)
	return dir
}

// Database is a running MariaDB, one for all tests of a package.
func Database(t testing.TB) *engine.DatabaseServer {
	t.Helper()
	e := Engine(t, "mariadb-10.11")
	once.Do(func() {
		var err error
		database, err = engine.StartDatabase(context.Background(), supervisor,
			e, engine.DatabasePlace{Data: filepath.Join(scratch, "data"), Run: filepath.Join(scratch, "run"),
				Log: filepath.Join(scratch, "log"), Port: FreePort(t), Password: cms.Password(), BufferMB: 32})
		require.NoError(t, err)
	})
	require.NotNil(t, database, "the database server did not start")
	return database
}

// FreePort is a port that nobody listens on at this moment.
func FreePort(t testing.TB) int {
	t.Helper()
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}
