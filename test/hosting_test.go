package test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"vessik/client"
)

// An account is signed in to by a key, by one that a password opens, by an agent, and as another one is; what opens it is told to nobody.
func TestAnAccountIsSignedInToByKeyOrAgent(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-live", CMS: "empty"}))
	h := practiceHost(t, s, outside(t))
	e, err := h.Rent(s.site(t, "moss-live"), "moss", "live")
	require.NoError(t, err)
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	authorized, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	h.LetIn("moss-live", string(ssh.MarshalAuthorizedKey(authorized)))
	plain, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	locked, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("the-gate-is-open-9"))
	require.NoError(t, err)
	at, url := "sftp://moss-live@"+h.doors.SSH.Addr().String()+"/", strings.TrimSuffix(e.URL, "/")
	file := filepath.Join(outside(t), "key")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(plain), 0o600))
	socket := filepath.Join(outside(t), "agent")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	require.NoError(t, os.Chmod(socket, 0o777))
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: private}))
	go func() {
		for {
			asking, err := listener.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(ring, asking)
		}
	}()

	out, errs, code := s.cli("hosting", "add", "by-key", "-at", at, "-url", url, "-key", file)
	require.Zero(t, code, out+errs)
	for name, asked := range map[string]client.AddAccount{
		"by-locked-key": {Key: string(pem.EncodeToMemory(locked)), Password: "the-gate-is-open-9"}, "by-agent": {Agent: socket},
		"wrong-password": {Key: string(pem.EncodeToMemory(locked)), Password: "another-gate-9"}} {
		asked.Name, asked.At, asked.URL = name, at, url
		_, err := s.AddAccount(ctx, asked)
		require.NoError(t, err)
	}
	_, err = s.AddAccount(ctx, client.AddAccount{Name: "as-that", At: at, URL: url, Like: "by-key"})
	require.NoError(t, err)
	for name, status := range map[string]int{"by-key": 0, "by-locked-key": 0, "by-agent": 0, "as-that": 0, "wrong-password": 3} {
		out, _, code := s.cli("hosting", "check", name)
		assert.Equal(t, status, code, "%s: %s", name, out)
	}
	out, _, _ = s.cli("hosting", "-json")
	assert.NotContains(t, out, "PRIVATE KEY")
	assert.NotContains(t, out, "the-gate-is-open-9")
	assert.Empty(t, holding(t, filepath.Join(s.home, "records"), "the-gate-is-open-9"), "sealed where it is recorded")
}

// The practice host tells how its accounts are added, and so they are: what it printed works as it stands. It ends with all that it
// started.
func TestThePracticeHostIsAddedAsItSays(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	home, free := newHome(t), func() string {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer listener.Close()
		return strconv.Itoa(portOf(t, listener.Addr().String()))
	}
	out := &lockedBuffer{}
	host := exec.Command(program, "practice-host", "-home", home, "-ssh-port", free(), "-ftp-port", free(), "-fault", "no-shell")
	host.Stdout, host.Stderr = out, out
	require.NoError(t, host.Start())
	defer func() {
		require.NoError(t, host.Process.Signal(syscall.SIGTERM))
		assert.NoError(t, host.Wait())
		assert.Empty(t, processesOf(home))
	}()
	line := regexp.MustCompile(`VESSIK_HOST_PASSWORD=(\w+) (vessik hosting add orchard-live .*)`)
	require.Eventually(t, func() bool { return line.MatchString(out.text()) }, 4*time.Minute, 200*time.Millisecond)
	said := line.FindStringSubmatch(out.text())
	command := exec.Command(program, append(strings.Fields(said[2])[1:], "-home", s.home)...)
	command.Env = append(os.Environ(), "VESSIK_HOST_PASSWORD="+said[1])
	told, err := command.CombinedOutput()
	require.NoError(t, err, string(told))
	checked, errs, code := s.cli("hosting", "check", "orchard-live")
	require.Zero(t, code, checked+errs)
	assert.Contains(t, checked, "none, and none is needed")
	answer, errs, code := s.cli("practice-host", "-fault", "rain")
	assert.Equal(t, 2, code, answer)
	assert.Contains(t, errs, `-fault: "rain" is none`)
}
