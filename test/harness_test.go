// Package test drives the real thing from outside: the service on loopback with real engines, through the Go client, the command
// line, plain HTTP and a browser.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// program is the binary under test.
var program string

func TestMain(m *testing.M) { os.Exit(mainCode(m)) }

func mainCode(m *testing.M) int {
	done, err := openScratch()
	if err != nil {
		panic(err)
	}
	defer done()
	program = filepath.Join(scratch, "vessik")
	if out, err := exec.Command("go", "build", "-o", program, "../cmd/vessik").CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v: %s", err, out))
	}
	defer endShared()
	return m.Run()
}

// service is one running service of a test, in a home of its own.
type service struct {
	t       testing.TB
	home    string
	command *exec.Cmd
	out     *lockedBuffer
	ended   chan struct{}
	*client.Client
}

// lockedBuffer is written by a process and read by a test. The buffer is not embedded: its ReadFrom would go past the lock.
type lockedBuffer struct {
	mu      sync.Mutex
	written bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.written.Write(p)
}

func (b *lockedBuffer) text() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.written.String()
}

// start runs a service in a home until the test ends, and waits until its sites are settled.
func start(t testing.TB, home string, flags ...string) *service {
	t.Helper()
	s := launch(t, home, flags...)
	t.Cleanup(s.stop)
	return s
}

func launch(t testing.TB, home string, flags ...string) *service {
	t.Helper()
	return launchAs(t, nil, home, flags...)
}

var (
	portsOf    = map[string]int{} // by home, the first of those that its sites have
	portsOfAll sync.Mutex
)

// forgetPorts lets a home's ports be those of another.
func forgetPorts(home string) {
	portsOfAll.Lock()
	defer portsOfAll.Unlock()
	delete(portsOf, home)
}

// serving is the command that serves a home, whose API, gateway and sites have ports that those of no other home have: a port is free for a
// moment now and then, and services that run side by side would take it from each other.
func serving(home string) []string {
	const count = 400
	first := 25000
	if given, err := strconv.Atoi(os.Getenv("VESSIK_TEST_PORTS")); err == nil { // the other half of the tests runs beside this one
		first = given
	}
	portsOfAll.Lock()
	defer portsOfAll.Unlock()
	from, known := portsOf[home]
	for from = max(from, first); !known && slices.Contains(slices.Collect(maps.Values(portsOf)), from); {
		from += count
	}
	portsOf[home] = from
	command := []string{"serve", "-home", home, "-site-ports", fmt.Sprintf("%d-%d", from, from+count-4), "-api-port",
		strconv.Itoa(from + count - 3)}
	if _, err := os.Stat(filepath.Join(home, "home.json")); err != nil { // one that is there keeps those that it has
		command = append(command, "-gateway-port", strconv.Itoa(from+count-1), "-https-port", strconv.Itoa(from+count-2))
	}
	return command
}

// anyGateway lets the service choose its gateway's ports.
var anyGateway = []string{"-gateway-port", "0", "-https-port", "0"}

// launchAs has an account start the service; nil is that of the tests.
func launchAs(t testing.TB, account *syscall.Credential, home string, flags ...string) *service {
	t.Helper()
	command := exec.Command(program, append(serving(home), flags...)...)
	command.SysProcAttr = &syscall.SysProcAttr{Credential: account}
	return launchCommand(t, command, home)
}

// launchCommand starts a service by a command of one's own.
func launchCommand(t testing.TB, command *exec.Cmd, home string) *service {
	t.Helper()
	s := &service{t: t, home: home, command: command, out: &lockedBuffer{}, ended: make(chan struct{})}
	s.command.Stdout, s.command.Stderr = s.out, s.out
	require.NoError(t, s.command.Start())
	go func() {
		s.command.Wait()
		close(s.ended)
	}()
	for settled := false; !settled; {
		select {
		case <-s.ended:
			require.Fail(t, "the service ended", s.out.text())
		default:
		}
		_, errs, code := run(t, "status", "-wait", "5s", "-home", home)
		settled = code == 0
		require.True(t, settled || code == 4 || strings.Contains(errs, "on their way"), "%d %s\n%s", code, errs, s.out.text())
	}
	var err error
	s.Client, err = client.ForHome(home)
	require.NoError(t, err)
	return s
}

func (s *service) stop() {
	select {
	case <-s.ended:
		return
	default:
	}
	s.command.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.ended:
	case <-time.After(60 * time.Second):
		s.command.Process.Kill()
		s.t.Errorf("the service did not end within a minute:\n%s", s.out.text())
	}
}

// kill ends the service without a word, as a crash would.
func (s *service) kill() {
	s.command.Process.Kill()
	<-s.ended
}

// run runs one command of the command line.
func run(t testing.TB, arguments ...string) (out, errs string, code int) {
	t.Helper()
	command := exec.Command(program, arguments...)
	var stdout, stderr bytes.Buffer
	command.Stdout, command.Stderr = &stdout, &stderr
	err := command.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return stdout.String(), stderr.String(), command.ProcessState.ExitCode()
}

// cli runs a command against this service.
func (s *service) cli(arguments ...string) (out, errs string, code int) {
	return run(s.t, append(arguments, "-home", s.home)...)
}

// newSites makes sites through the client and waits until they are proven.
func (s *service) newSites(t testing.TB, names ...string) client.Watched {
	t.Helper()
	requests := []client.Request{}
	for _, name := range names {
		requests = append(requests, client.Request{Name: name})
	}
	return s.made(t, requests...)
}

func (s *service) made(t testing.TB, requests ...client.Request) client.Watched {
	t.Helper()
	operation, err := s.New(context.Background(), requests...)
	require.NoError(t, err)
	return s.watch(t, operation)
}

func (s *service) watch(t testing.TB, operation client.Operation) client.Watched {
	t.Helper()
	watched, err := s.Watch(context.Background(), operation.ID, nil)
	require.NoError(t, err)
	return watched
}

func (s *service) do(t testing.TB, kind plan.Kind, names ...string) client.Watched {
	t.Helper()
	operation, err := s.Do(context.Background(), kind, wire.Names{Names: names})
	require.NoError(t, err)
	return s.watch(t, operation)
}

func (s *service) site(t testing.TB, name string) client.Site {
	t.Helper()
	found, err := s.Site(context.Background(), name, true)
	require.NoError(t, err)
	return found
}

// secrets is a site with its passwords.
func (s *service) secrets(t testing.TB, name string) client.Site {
	t.Helper()
	found, err := s.Site(context.Background(), name, true)
	require.NoError(t, err)
	return found
}

func readAll(t testing.TB, response *http.Response) string {
	t.Helper()
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return string(text)
}

func requirePassed(t testing.TB, watched client.Watched) {
	t.Helper()
	require.Equal(t, plan.OperationDone, watched.State, "%+v", watched.Sites)
	for _, part := range watched.Sites {
		require.NotNil(t, part.Report, part.Site)
		text, _ := json.MarshalIndent(part.Report.Checks, "", " ")
		require.NotNil(t, part.Report.Passed, "%s", text)
		require.True(t, *part.Report.Passed, "%s: %s", part.Site, text)
	}
}

// browser asks as a browser on this machine would: names below localhost are this machine.
var browser = &http.Client{Timeout: 60 * time.Second, Transport: &http.Transport{DialContext: client.DialLoopback, DisableKeepAlives: true},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

func get(t testing.TB, address string, header ...string) (status int, body string, answer http.Header) {
	t.Helper()
	return getBy(t, browser, address, header...)
}

func getBy(t testing.TB, by *http.Client, address string, header ...string) (status int, body string, answer http.Header) {
	t.Helper()
	request, err := http.NewRequest("GET", address, nil)
	require.NoError(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			request.Host = header[i+1]
		}
		request.Header.Set(header[i], header[i+1])
	}
	response, err := by.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, string(text), response.Header
}

// processesOf lists the processes that name a folder on their command line: what a home has running.
func processesOf(home string) []string {
	found := []string{}
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, path := range lines {
		text, err := os.ReadFile(path)
		if err != nil || !strings.Contains(string(text), home+"/") && !strings.HasSuffix(strings.TrimRight(string(text), "\x00"), home) {
			continue
		}
		if pid := strings.Split(path, "/")[2]; pid != strconv.Itoa(os.Getpid()) {
			found = append(found, pid+" "+strings.ReplaceAll(string(text), "\x00", " "))
		}
	}
	return found
}

var (
	sharedOnce    sync.Once
	sharedService *service
	earlyTicket   client.Ticket // drawn when the shared service was made, for the test that comes last
)

// shared is one service for all tests that leave it as they found it; it has the sites fernhollow and seed-exchange.
func shared(t testing.TB) *service {
	t.Helper()
	sharedOnce.Do(func() {
		s := launch(t, lastingHome(t), anyGateway...)
		requirePassed(t, s.made(t, client.Request{Name: "fernhollow", Title: "Fernhollow Garden Network",
			Administrator: site.Administrator{Name: "head-keeper", Mail: "ines@fernhollow.example"}},
			client.Request{Name: "seed-exchange", Title: "Fernhollow Seed Exchange",
				Administrator: site.Administrator{Name: "head-keeper", Mail: "tobias@fernhollow.example"}}))
		var err error
		if earlyTicket, err = s.Ticket(context.Background(), "fernhollow", ""); err != nil {
			t.Errorf("draw a ticket: %v", err)
		}
		sharedService = s
	})
	require.NotNil(t, sharedService, "the shared service did not start")
	return sharedService
}

func endShared() {
	if sharedService != nil {
		sharedService.command.Process.Signal(syscall.SIGTERM)
		<-sharedService.ended
	}
}

func namesOf(names ...string) wire.Names { return wire.Names{Names: names} }

// retire removes sites, all of which must go.
func (s *service) retire(t testing.TB, names ...string) client.Watched {
	t.Helper()
	watched := s.do(t, plan.Retire, names...)
	require.Equal(t, plan.OperationDone, watched.State, "%+v", watched.Sites)
	return watched
}

// setPassword gives a user another password, a generated one.
func (s *service) setPassword(t testing.TB, site, user string) string {
	t.Helper()
	password, err := s.SetPassword(context.Background(), site, user, client.NewPassword{})
	require.NoError(t, err)
	return password.Password
}

// between is what stands in a text after one thing and before another.
func between(text, before, after string) string {
	_, text, _ = strings.Cut(text, before)
	text, _, _ = strings.Cut(text, after)
	return text
}

// inPHP runs PHP in the sites of a service, with WordPress loaded, and answers what it prints.
func inPHP(t testing.TB, s *service) func(name, code string) string {
	return func(name, code string) string {
		t.Helper()
		out, errs, status := run(t, "run", name, "-home", s.home, "--", "php", "-r", "require 'wp-load.php'; "+code)
		require.Zero(t, status, errs)
		return out
	}
}
