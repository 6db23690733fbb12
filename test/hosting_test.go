package test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"net"
	"net/http"
	"net/url"
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

// A host with an account page is signed in to there, with a one-time code: it tells the environments, and lends their passwords for a time.
func TestAHostIsSignedInToAtItsPage(t *testing.T) {
	t.Parallel()
	s := start(t, newHome(t))
	requirePassed(t, s.made(t, client.Request{Name: "moss-live", CMS: "empty"}, client.Request{Name: "moss-staging", CMS: "empty"}))
	h := practiceHost(t, s, outside(t))
	for _, kind := range []string{"live", "staging"} {
		_, err := h.Rent(s.site(t, "moss-"+kind), "moss", kind)
		require.NoError(t, err)
	}
	at := "http://" + h.doors.Page.Addr().String()
	customer, err := h.Customer("moss")
	require.NoError(t, err)
	window := time.Now().Add(-30 * time.Second) // a code is good for half a minute before and after its own
	signIn := func(do string, arguments ...string) (string, string, int) {
		t.Helper()
		command := exec.Command(program, append([]string{"hosting", "sign-in", at, "-home", s.home}, arguments...)...)
		out, errs := &lockedBuffer{}, &lockedBuffer{}
		command.Stdout, command.Stderr = out, errs
		require.NoError(t, command.Start())
		asked := regexp.MustCompile(`Open (\S+) and let Vessik in with the code (\S+);`)
		require.Eventually(t, func() bool { return asked.MatchString(out.text()) }, 20*time.Second, 20*time.Millisecond, errs.text())
		found := asked.FindStringSubmatch(out.text())
		code, err := customer.Code(window)
		require.NoError(t, err)
		window = window.Add(30 * time.Second) // none is good twice
		response, err := http.PostForm(found[1], url.Values{"user_code": {found[2]}, "customer": {"moss"}, "password": {customer.Password},
			"code": {code}, "do": {do}})
		require.NoError(t, err)
		response.Body.Close()
		require.Equal(t, 200, response.StatusCode)
		err = command.Wait()
		var exit *exec.ExitError
		require.True(t, err == nil || errors.As(err, &exit))
		return out.text(), errs.text(), command.ProcessState.ExitCode()
	}
	out, errs, code := signIn("allow", "-environment", "all")
	require.Zero(t, code, out+errs)
	assert.Regexp(t, `moss-staging +staging +moss-live +http`, out)
	accounts, err := s.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, accounts, 2)
	assert.Equal(t, []string{"moss-live", "moss-live", "page", at}, []string{accounts[0].Name, accounts[1].Of, accounts[0].SignIn,
		accounts[0].Page})
	out, errs, code = s.cli("pull", "moss-live", "moss-days")
	require.Zero(t, code, out+errs)
	accounts, err = s.Accounts(ctx)
	require.NoError(t, err)
	assert.Regexp(t, `^SHA256:`, accounts[0].HostKey, "the page told which key the host has")
	h.EndLent() // before its time: another password is asked for
	out, errs, code = s.cli("hosting", "check", "moss-live")
	require.Zero(t, code, out+errs)

	out, errs, code = signIn("refuse")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, errs, "it was refused at the host's page")
	h.end()
	practiceHostAt(t, s, h) // which knows no token of before
	_, errs, code = s.cli("pull", "moss-staging", "moss-two")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "sign in again: vessik hosting sign-in "+at+" -again moss-staging")
	out, errs, code = signIn("allow", "-again", "moss-staging")
	require.Zero(t, code, out+errs)
	out, errs, code = s.cli("pull", "moss-staging", "moss-two")
	require.Zero(t, code, out+errs)
	for arguments, says := range map[string]string{
		"hosting sign-in " + s.site(t, "moss-live").URL: "is no page of a host that Vessik can sign in to",
		"hosting sign-in http://host.example":           "is not https",
		"hosting sign-in javascript:alert(1)":           "is no address",
	} {
		_, errs, code := s.cli(strings.Fields(arguments)...)
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, says)
	}
}
