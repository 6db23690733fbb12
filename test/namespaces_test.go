package test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vessik/client"
)

// machine is a network namespace with names of its own, as long as a process in it sleeps.
type machine struct {
	t     testing.TB
	pid   int
	hosts string
}

// machineOf begins one that knows some hosts by name.
func machineOf(t testing.TB, hosts string) *machine {
	t.Helper()
	m := &machine{t: t, hosts: filepath.Join(outside(t), "hosts")}
	require.NoError(t, os.WriteFile(m.hosts, []byte("127.0.0.1 localhost\n"+hosts), 0o644))
	sleeping := exec.Command("sleep", "600")
	sleeping.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	require.NoError(t, sleeping.Start())
	m.pid = sleeping.Process.Pid
	t.Cleanup(func() { sleeping.Process.Kill(); sleeping.Wait() })
	m.run("ip", "link", "set", "lo", "up")
	return m
}

// command runs in the machine, with its names.
func (m *machine) command(words ...string) *exec.Cmd {
	const names = `mount --bind "$0" /etc/hosts && exec "$@"`
	return exec.Command("nsenter", append([]string{"-t", strconv.Itoa(m.pid), "-n", "unshare", "-m", "sh", "-c", names, m.hosts}, words...)...)
}

func (m *machine) run(words ...string) string {
	m.t.Helper()
	var errs strings.Builder
	command := m.command(words...)
	command.Stderr = &errs
	out, err := command.Output()
	require.NoError(m.t, err, "%v: %s %s", words, out, errs.String())
	return string(out)
}

// cabled connects two machines, of which the first has the address that ends in 1.
func cabled(a, b *machine, network string) {
	a.t.Helper()
	name := func(m *machine) string { return fmt.Sprintf("v%d-%s", m.pid, network[len(network)-2:]) }
	a.run("ip", "link", "add", name(a), "type", "veth", "peer", "name", name(b), "netns", strconv.Itoa(b.pid))
	for n, m := range []*machine{a, b} {
		m.run("ip", "address", "add", fmt.Sprintf("%s.%d/24", network, n+1), "dev", name(m))
		m.run("ip", "link", "set", name(m), "up")
	}
}

// dial connects from the machine.
func (m *machine) dial(ctx context.Context, address string) (net.Conn, error) {
	type dialed struct {
		net.Conn
		error
	}
	done := make(chan dialed, 1)
	go func() {
		runtime.LockOSThread() // and never let go: the thread ends with it
		there, err := os.Open(fmt.Sprintf("/proc/%d/ns/net", m.pid))
		if err == nil {
			defer there.Close()
			err = unix.Setns(int(there.Fd()), unix.CLONE_NEWNET)
		}
		var connection net.Conn
		if err == nil {
			connection, err = (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp4", address)
		}
		done <- dialed{connection, err}
	}()
	d := <-done
	return d.Conn, d.error
}

// Three machines: the builder's, which nobody reaches, the relay's, and a guest's, which reaches the relay alone. A guest signs in and
// changes something; when the cable is pulled out for a while and put back, the guest goes on.
func TestAGuestTheRelayAndTheBuilderOnMachinesOfTheirOwn(t *testing.T) {
	t.Parallel()
	if out, err := exec.Command("unshare", "-n", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("this machine lends no network namespaces: %s", out)
	}
	relayed := "10.77.11.1 guests.test\n"
	builder, middle, away := machineOf(t, relayed), machineOf(t, ""), machineOf(t, "")
	cabled(middle, builder, "10.77.11")
	cabled(middle, away, "10.77.12")

	certificate := certificateFile(t, "guests.test", "*.guests.test")
	home := filepath.Join(outside(t), "relay")
	relay := middle.command(program, "relay", "-home", home, "-domain", "guests.test", "-listen", ":443", "-certificate", certificate,
		"-key", certificate)
	require.NoError(t, relay.Start())
	t.Cleanup(func() { relay.Process.Signal(syscall.SIGTERM); relay.Wait() })
	token, errs, code := run(t, "relay", "token", "add", "ines", "-home", home)
	require.Zero(t, code, errs)

	place := newHome(t)
	serve := builder.command(append([]string{program}, serving(place)...)...)
	serve.Stdout, serve.Stderr = io.Discard, io.Discard
	require.NoError(t, serve.Start())
	t.Cleanup(func() { serve.Process.Signal(syscall.SIGTERM); serve.Wait() })
	at := func(words ...string) string {
		return builder.run(append(append([]string{program}, words...), "-home", place)...)
	}
	require.Eventually(t, func() bool {
		return builder.command(program, "status", "-wait", "5s", "-home", place).Run() == nil
	}, time.Minute, 100*time.Millisecond)
	at("new", "orchard-days")
	assert.Contains(t, at("relays", "join", "guests.test", "-token", strings.TrimSpace(token)), "stands")
	var i client.Invitation
	require.NoError(t, json.Unmarshal([]byte(at("invite", "orchard-days", "-label", "orchard-days", "-json")), &i))
	require.Equal(t, "https://orchard-days.guests.test/", i.Address)

	for _, port := range []string{"22", "80", "443", strconv.Itoa(gatewayPort(t, place))} {
		for from, m := range map[string]*machine{"the relay": middle, "the guest": away} {
			_, err := m.dial(t.Context(), "10.77.11.2:"+port)
			assert.Error(t, err, "%s reaches the builder's port %s", from, port)
		}
	}
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	by := &http.Client{Timeout: 40 * time.Second, Jar: jar, Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return away.dial(ctx, "10.77.12.1:443") }}}
	send := func(address string, form url.Values) string {
		answer, err := by.PostForm(address, form)
		require.NoError(t, err)
		return readAll(t, answer)
	}
	assert.Contains(t, send(i.Address+"vessik-guest/", url.Values{"password": {i.Password}, "to": {"/"}}), "<title>Orchard Days")
	var s client.Site
	require.NoError(t, json.Unmarshal([]byte(at("site", "orchard-days", "-secrets", "-json")), &s))
	getBy(t, by, i.Address+"wp-login.php")
	assert.Contains(t, send(i.Address+"wp-login.php", url.Values{"log": {s.Administrator.Name}, "pwd": {s.Administrator.Password},
		"testcookie": {"1"}}), "wpadminbar")
	cable := fmt.Sprintf("v%d-11", builder.pid)
	builder.run("ip", "link", "set", cable, "down")
	back := time.AfterFunc(3*time.Second, func() { builder.command("ip", "link", "set", cable, "up").Run() })
	defer back.Stop()
	status, page, _ := getBy(t, by, i.Address+"wp-admin/")
	assert.Equal(t, 200, status, "what was asked meanwhile is answered in the end")
	assert.Contains(t, page, "wpadminbar", "and who was signed in still is")
	assert.Contains(t, at("invites", "orchard-days", "-asked"), "10.77.12.2", "the guest's own address is known")
}

// gatewayPort is the port of a home's gateway.
func gatewayPort(t testing.TB, home string) int {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(home, "home.json"))
	require.NoError(t, err)
	var settings struct {
		GatewayPort int `json:"gateway_port"`
	}
	require.NoError(t, json.Unmarshal(text, &settings))
	require.NotZero(t, settings.GatewayPort)
	return settings.GatewayPort
}
