package engine_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/engine"
	"vessik/test/ground"
)

func TestMain(m *testing.M) { os.Exit(ground.Main(m)) }

var ctx = context.Background()

func TestEnginesTellTheirVersions(t *testing.T) {
	ids := []string{}
	for _, row := range engine.Catalogue {
		ids = append(ids, row.ID)
	}
	for id, e := range ground.Engines(t, ids...) { // fetched together, where they have to be
		assert.Regexp(t, `^\d+\.\d+\.\d+$`, e.Version, id)
		assert.NotEmpty(t, e.Packages, id)
		assert.Positive(t, e.SizeBytes, id)
	}
}

// As another account would, over TCP.
func connect(t *testing.T, d *engine.DatabaseServer, user, password string) *sql.DB {
	pool, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/", user, password, d.Port))
	require.NoError(t, err)
	t.Cleanup(func() { pool.Close() })
	return pool
}

func TestADatabaseServerLetsOnlyKnownUsersIn(t *testing.T) {
	d := ground.Database(t)
	for _, user := range []string{"root", "", "mysql", "mariadb.sys"} {
		assert.Error(t, connect(t, d, user, "").Ping(), "%q without a password", user)
	}
	rows, err := d.Admin().Query("SELECT User, Host FROM mysql.global_priv WHERE User NOT IN ('mariadb.sys') AND User NOT LIKE 'garden%'")
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var user, host string
		require.NoError(t, rows.Scan(&user, &host))
		assert.Equal(t, "root localhost", user+" "+host)
	}
}

// keyOf is the algorithm of the key that a server shows by TLS.
func keyOf(t *testing.T, d *engine.DatabaseServer, user, password string) (key x509.PublicKeyAlgorithm) {
	require.NoError(t, mysql.RegisterTLSConfig("looked-at", &tls.Config{InsecureSkipVerify: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			key = state.PeerCertificates[0].PublicKeyAlgorithm
			return nil
		}}))
	pool, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/?tls=looked-at", user, password, d.Port))
	require.NoError(t, err)
	defer pool.Close()
	require.NoError(t, pool.Ping())
	return key
}

func TestADatabaseUserHasItsOwnDatabaseAndNoOther(t *testing.T) {
	d := ground.Database(t)
	require.NoError(t, d.CreateDatabase(ctx, "garden_a", "garden_a", `it's "a" \ secret`))
	require.NoError(t, d.CreateDatabase(ctx, "gardenXa", "gardenXa", "another"))
	pool, err := sql.Open("mysql", "garden_a:it's \"a\" \\ secret@tcp(127.0.0.1:"+strconv.Itoa(d.Port)+")/garden_a")
	require.NoError(t, err)
	defer pool.Close()
	_, err = pool.Exec("CREATE TABLE own (a INT)")
	require.NoError(t, err)
	for _, statement := range []string{"SELECT * FROM mysql.user", "USE gardenXa", "CREATE TABLE gardenXa.x (a INT)",
		"CREATE DATABASE gardenYa", "CREATE USER x", "GRANT ALL ON *.* TO garden_a@'127.0.0.1'", "SELECT 1 INTO OUTFILE '/tmp/x'"} {
		_, err := pool.Exec(statement)
		assert.Error(t, err, "%s: _ must not stand for any letter", statement)
	}
	has, err := d.HasDatabase(ctx, "garden_a", "nobody")
	require.NoError(t, err)
	assert.True(t, has)
	require.NoError(t, d.DropDatabase(ctx, "garden_a", "garden_a"))
	require.NoError(t, d.DropDatabase(ctx, "garden_a", "garden_a"), "it bears absence")
	has, err = d.HasDatabase(ctx, "garden_a", "garden_a")
	require.NoError(t, err)
	assert.False(t, has)
	has, err = d.HasDatabase(ctx, "gardenXa", "gardenXa")
	require.NoError(t, err)
	assert.True(t, has, "its neighbour stays")
}

// page is a virtual host that answers with its own name.
func page(t *testing.T, name string, port int) *engine.VirtualHost {
	return &engine.VirtualHost{Port: port, Logs: filepath.Join(ground.Folder(t), "logs"),
		Text: fmt.Sprintf("server { listen 127.0.0.1:%d; location / { return 200 %q; } }\n", port, name)}
}

func answer(port int) string {
	response, err := http.Get("http://127.0.0.1:" + strconv.Itoa(port))
	if err != nil {
		return "nothing: " + err.Error()
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(response.Body)
	return string(text)
}

func TestAWebServerServesManyAndLeavesOutWhatItRefuses(t *testing.T) {
	for _, id := range []string{"nginx-1.18", "nginx-1.22", "nginx-1.26"} {
		t.Run(id, func(t *testing.T) { servesMany(t, id) })
	}
}

func servesMany(t *testing.T, id string) {
	dir := ground.Folder(t)
	w, err := engine.NewWebServer(ground.Supervisor(), bell(t), ground.Engine(t, id), filepath.Join(dir, "run"))
	require.NoError(t, err)
	defer w.Stop()
	a, b, c := ground.FreePort(t), ground.FreePort(t), ground.FreePort(t)

	broken := w.Apply(ctx, map[string]*engine.VirtualHost{"a": page(t, "fern", a), "b": page(t, "moss", b)}, false)
	assert.Empty(t, broken)
	assert.Equal(t, "fern", answer(a), "what Apply names listens when it returns")
	assert.Equal(t, "moss", answer(b))
	main := w.PID("b")
	visitor := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	for i := range 20 {
		name := fmt.Sprint("fern ", i)
		require.Empty(t, w.Apply(ctx, map[string]*engine.VirtualHost{"a": page(t, name, a)}, false))
		response, err := visitor.Get("http://127.0.0.1:" + strconv.Itoa(a))
		require.NoError(t, err)
		text, _ := io.ReadAll(response.Body)
		response.Body.Close()
		require.Equal(t, name, string(text), "what Apply changes is served when it returns")
	}

	bad := page(t, "rot", ground.FreePort(t))
	bad.Text += "garden_gate open;\n"
	foreign, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer foreign.Close()
	broken = w.Apply(ctx, map[string]*engine.VirtualHost{"a": nil, "bad": bad, "c": page(t, "seed", c),
		"taken": page(t, "x", foreign.Addr().(*net.TCPAddr).Port)}, false)
	require.Len(t, broken, 2)
	assert.ErrorContains(t, broken["bad"], `unknown directive "garden_gate"`)
	assert.ErrorContains(t, broken["bad"], "garden_gate open;", "the line itself")
	assert.ErrorIs(t, broken["taken"], engine.ErrPortTaken)
	assert.Contains(t, answer(a), "refused", "withdrawn")
	assert.Equal(t, "moss", answer(b))
	assert.Equal(t, "seed", answer(c))
	assert.Equal(t, main, w.PID("b"), "its neighbours are not touched")
	assert.Equal(t, []string{"b", "c"}, w.Sites())

	require.NoError(t, syscall.Kill(main, syscall.SIGKILL))
	assert.Eventually(t, func() bool { return answer(b) == "moss" && w.PID("b") != main && w.PID("b") != 0 }, 10*time.Second,
		10*time.Millisecond, "killed, and back")
	w.Apply(ctx, map[string]*engine.VirtualHost{"b": nil, "c": nil}, false)
	assert.Contains(t, answer(b), "refused")
	assert.Empty(t, w.Processes(), "it ends with its last site")

	// Taking out what never came in asks nothing of nginx: an undo must bear an engine that does not work.
	none, err := engine.NewWebServer(ground.Supervisor(), bell(t), &engine.Engine{ID: "nginx-none", Dir: "/nonexistent"},
		filepath.Join(dir, "none"))
	require.NoError(t, err)
	assert.Empty(t, none.Apply(ctx, map[string]*engine.VirtualHost{"a": nil}, false))
}

// A fetch that is cut off, at whatever moment, leaves nothing that would be used, and the next one goes on.
func TestAnInterruptedFetchGoesOn(t *testing.T) {
	store := engine.Store{Dir: filepath.Join(ground.Folder(t), "engines")}
	for _, moment := range []string{"asking", "downloading", "unpacking"} {
		cut, cancel := context.WithCancel(ctx)
		_, err := store.Ensure(cut, []string{"nginx-1.22"}, func(text string, _ float64) {
			if strings.HasPrefix(text, moment) {
				cancel()
			}
		})
		require.Error(t, err, moment)
		assert.Empty(t, store.List(), moment)
	}
	told := []string{}
	found, err := store.Ensure(ctx, []string{"nginx-1.22"}, func(text string, _ float64) { told = append(told, text) })
	require.NoError(t, err)
	assert.Equal(t, ground.Engine(t, "nginx-1.22").Version, found["nginx-1.22"].Version)
	assert.Contains(t, told, "unpacking nginx-1.22")
	_, err = store.Ensure(ctx, []string{"nginx-1.22"}, func(text string, _ float64) { t.Errorf("fetched again: %s", text) })
	require.NoError(t, err)
	leftovers, err := filepath.Glob(filepath.Join(store.Dir, ".partial*"))
	require.NoError(t, err)
	assert.Empty(t, leftovers)

	moved := engine.Store{Dir: store.Dir + "-moved"} // to another folder, as with a new disk
	require.NoError(t, os.Rename(store.Dir, moved.Dir))
	found, err = moved.Ensure(ctx, []string{"nginx-1.22"}, nil)
	require.NoError(t, err)
	out, err := exec.Command(found["nginx-1.22"].Program("nginx"), "-v").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), found["nginx-1.22"].Version)
}
