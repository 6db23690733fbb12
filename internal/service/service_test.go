package service

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"vessik/internal/core/site"
	"vessik/internal/home"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProgressIsToldInQuarters(t *testing.T) {
	var out bytes.Buffer
	say := Lines(&out)
	say("asking", 0)
	for i := range 101 {
		say("downloading", float64(i)/100)
	}
	say("unpacking", -1)
	assert.Equal(t, "asking\ndownloading\ndownloading, 25%\ndownloading, 50%\ndownloading, 75%\ndownloading, 100%\nunpacking\n", out.String())
}

func TestAHeldGatewayPortIsNamedAndNoOtherChosen(t *testing.T) {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	_, err = openPort(portOf([]net.Listener{listener}), httpPort, gatewayPorts)
	require.Error(t, err)
	assert.ErrorContains(t, err, "service.test (process")
	_, _, err = openGateway(site.Gateway{HTTPS: portOf([]net.Listener{listener})})
	require.ErrorContains(t, err, "is held by service.test (process", "nor is one for https")
	plain, secure, err := openGateway(site.Gateway{})
	require.NoError(t, err)
	at := site.Gateway{HTTP: portOf(plain), HTTPS: portOf(secure)}
	closeAll(append(plain, secure...))
	plain, secure, err = openGateway(at)
	require.NoError(t, err, "a home's own ports are taken up again")
	assert.Equal(t, at, site.Gateway{HTTP: portOf(plain), HTTPS: portOf(secure)})
	closeAll(append(plain, secure...))
}

func TestTheAPIKeepsItsPort(t *testing.T) {
	place := home.Home{Dir: t.TempDir()}
	first, port, err := openAPI(place, 0)
	require.NoError(t, err)
	_, other, err := openAPI(home.Home{Dir: t.TempDir()}, 0)
	require.NoError(t, err)
	assert.NotEqual(t, port, other, "taken: the next free one")
	_, _, err = openAPI(place, other)
	assert.ErrorContains(t, err, "-api-port", "what is asked for is had, or nothing")
	for _, each := range first {
		each.Close()
	}
	again, port2, err := openAPI(place, 0)
	require.NoError(t, err)
	assert.Equal(t, port, port2)
	for _, each := range again {
		each.Close()
	}
}

func TestTokensAreMadeOnceAndSecret(t *testing.T) {
	home := home.Home{Dir: t.TempDir()}
	token, err := tokenOf(home)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(token), 40)
	again, err := tokenOf(home)
	require.NoError(t, err)
	assert.Equal(t, token, again)
	info, err := os.Stat(home.TokenFile())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestFoldersAreGivenToTheAccount(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives folders away")
	}
	dir := t.TempDir()
	const nobody = 65534
	owner := func(path string) int {
		info, err := os.Stat(path)
		require.NoError(t, err)
		return int(info.Sys().(*syscall.Stat_t).Uid)
	}
	require.NoError(t, give(filepath.Join(dir, "a/b/c"), nobody, nobody))
	assert.Equal(t, nobody, owner(filepath.Join(dir, "a")), "with what was made on the way")
	assert.Equal(t, nobody, owner(filepath.Join(dir, "a/b/c")))
	assert.Equal(t, 0, owner(dir), "and nothing else")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "mine/x"), 0o755))
	assert.ErrorContains(t, give(filepath.Join(dir, "mine"), nobody, nobody), "belongs to root",
		"a filled folder of somebody else is left alone")
	_, err := Account("root", filepath.Join(dir, "r"))
	assert.ErrorContains(t, err, "no engine may run as root")
}

// On a fresh machine, useradd of two services gave the name two numbers, and the first's folders were nobody's.
func TestServicesThatStartTogetherMakeOneAccount(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root makes accounts")
	}
	name := fmt.Sprintf("vessik-%d", os.Getpid())
	t.Cleanup(func() { assert.NoError(t, exec.Command("userdel", name).Run()) })
	var made sync.Map
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			account, err := Account(name)
			if assert.NoError(t, err) {
				made.Store(account.Uid, true)
			}
		})
	}
	all.Wait()
	count := 0
	made.Range(func(any, any) bool { count++; return true })
	assert.Equal(t, 1, count, "one number for one name")
}

func TestTheDocumentIsJSON(t *testing.T) {
	text, err := Document()
	require.NoError(t, err)
	var document map[string]any
	require.NoError(t, json.Unmarshal(text, &document))
	assert.Equal(t, "3.1.0", document["openapi"])
}

func TestRootHandsTheServiceToWhomItIsFor(t *testing.T) {
	fresh, kept := filepath.Join(t.TempDir(), "none"), t.TempDir()
	assert.Equal(t, "vessik", AccountFor("", fresh))
	assert.Equal(t, "vessik", AccountFor("root", fresh), "no engine runs as root")
	assert.Equal(t, "vessik", AccountFor("nobody-of-that-name", fresh))
	assert.Equal(t, "nobody", AccountFor("nobody", fresh), "whoever started sudo")
	require.NoError(t, os.WriteFile(filepath.Join(kept, "home.json"), nil, 0o600))
	if os.Geteuid() != 0 {
		t.Skip("only root gives folders away")
	}
	require.NoError(t, os.Chown(kept, 1, 1))
	assert.Equal(t, "daemon", AccountFor("nobody", fresh, kept), "what is there stays whose it is")
}
