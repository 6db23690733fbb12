package proc

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == ConfineCommand { // the launcher is the service's own program: here, this one
		println(Confine(os.Args[2:]).Error())
		os.Exit(1)
	}
	os.Exit(m.Run())
}

func shell(t *testing.T, script string) (dir string, spec Spec) {
	dir = t.TempDir()
	return dir, Spec{Name: "a shell", Program: "/bin/sh", Arguments: []string{"-c", script}, Dir: dir, Log: filepath.Join(dir, "log"), StartWithin: 5 * time.Second,
		Ready: func(context.Context) error { _, err := os.Stat(filepath.Join(dir, "ready")); return err }}
}

func TestAProcessIsReadyStoppedAndItsGroupEnds(t *testing.T) {
	dir, spec := shell(t, "sleep 300 & echo $! > child; touch ready; wait")
	s := NewSupervisor(filepath.Join(dir, "ledger"))
	p, err := s.Start(context.Background(), spec)
	require.NoError(t, err)
	child := pidIn(t, filepath.Join(dir, "child"))
	assert.NotZero(t, p.PID())
	p.Stop()
	assert.Zero(t, p.PID())
	assert.Eventually(t, func() bool { return startTime(child) == "" }, 5*time.Second, 10*time.Millisecond, "what it started ends with it")
}

func TestAProcessThatEndsAtItsStartSaysWhy(t *testing.T) {
	_, spec := shell(t, "echo the garden gate is locked; exit 3")
	_, err := NewSupervisor(spec.Dir+"/ledger").Start(context.Background(), spec)
	require.Error(t, err)
	assert.ErrorContains(t, err, "the garden gate is locked")
	assert.ErrorContains(t, err, "exit status 3")
}

func TestAProcessThatIsKilledComesBack(t *testing.T) {
	dir, spec := shell(t, "touch ready; exec sleep 300")
	back := make(chan struct{}, 1)
	spec.Restarted = func() { back <- struct{}{} }
	p, err := NewSupervisor(filepath.Join(dir, "ledger")).Start(context.Background(), spec)
	require.NoError(t, err)
	defer p.Stop()
	first := p.PID()
	require.NoError(t, p.Signal(syscall.SIGKILL))
	<-back
	assert.NotEqual(t, first, p.PID())
	assert.NotEmpty(t, startTime(p.PID()))
}

func TestAProcessThatKeepsDyingIsGivenUp(t *testing.T) {
	dir, spec := shell(t, "touch ready; sleep 0.05; echo rot at the root; exit 1")
	given := make(chan error, 1)
	spec.Attempts, spec.GivenUp = 3, func(err error) { given <- err }
	p, err := NewSupervisor(filepath.Join(dir, "ledger")).Start(context.Background(), spec)
	require.NoError(t, err)
	select {
	case err := <-given:
		assert.ErrorContains(t, err, "rot at the root")
	case <-time.After(20 * time.Second):
		t.Fatal("it was never given up")
	}
	p.Stop()
}

func TestWhatADeadServiceLeftIsEnded(t *testing.T) {
	dir, spec := shell(t, "touch ready; exec sleep 300")
	ledgerPath := filepath.Join(dir, "ledger")
	p, err := NewSupervisor(ledgerPath).Start(context.Background(), spec)
	require.NoError(t, err)
	left := p.PID()
	ended := EndLeftovers(ledgerPath) // as the next service would
	assert.Len(t, ended, 1)
	assert.Empty(t, startTime(left), "it has ended when this returns")
	p.Stop()
	assert.Empty(t, EndLeftovers(ledgerPath), "nothing is known twice")
	// A process that happens to have a remembered id is not ours.
	text := `[{"name":"stranger","pid":` + strconv.Itoa(os.Getpid()) + `,"start":"1"}]`
	require.NoError(t, os.WriteFile(ledgerPath, []byte(text), 0o600))
	assert.Empty(t, EndLeftovers(ledgerPath))
}

// The kernel, not a setting, keeps a confined program inside.
func TestConfinement(t *testing.T) {
	abilities := FindAbilities()
	if !abilities.Files || !abilities.Sockets {
		t.Skipf("this kernel lacks the means: %+v", abilities)
	}
	own, other := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "secret"), []byte("s"), 0o644))
	script := `
		cat ` + other + `/secret && echo LEAK read
		ls ` + other + ` && echo LEAK list
		cat /etc/passwd && echo LEAK passwd
		echo x > ` + other + `/new && echo LEAK write
		ln ` + other + `/secret hard && echo LEAK link
		kill -0 ` + strconv.Itoa(os.Getpid()) + ` && echo LEAK signal
		perl -MSocket -e 'exit(socket(my $s, AF_UNIX, SOCK_STREAM, 0) ? 0 : 1)' && echo LEAK socket
		perl -MSocket -e 'exit(socket(my $s, AF_INET, SOCK_STREAM, 0) ? 0 : 1)' && echo inet
		echo y > mine && mkdir deep && mv mine deep/mine && cat deep/mine && ls /usr/bin >/dev/null && echo own
		touch ready; exec sleep 300`
	_, spec := shell(t, script)
	spec.Dir = own
	spec.Confine = &Confinement{WriteFolders: []string{own}}
	spec.Ready = func(context.Context) error {
		if _, err := os.Stat(filepath.Join(own, "ready")); err != nil {
			return errors.New("not yet")
		}
		return nil
	}
	p, err := NewSupervisor(filepath.Join(t.TempDir(), "ledger")).Start(context.Background(), spec)
	require.NoError(t, err)
	defer p.Stop()
	text, err := os.ReadFile(spec.Log)
	require.NoError(t, err)
	said := string(text)
	assert.Contains(t, said, "own", "its own folder is its own")
	assert.Contains(t, said, "inet", "the network is there")
	for line := range strings.Lines(said) {
		assert.False(t, strings.HasPrefix(line, "LEAK signal") && abilities.Signals || strings.HasPrefix(line, "LEAK") && !strings.HasPrefix(line, "LEAK signal"), line)
	}
}

func pidIn(t *testing.T, path string) int {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	require.NoError(t, err)
	return pid
}

func TestAProgramThatWorksOfflineReachesOnePort(t *testing.T) {
	if !FindAbilities().Ports {
		t.Skip("this kernel's Landlock tells no ports")
	}
	perl, err := exec.LookPath("perl") // any program that opens sockets; perl belongs to every Debian
	require.NoError(t, err)
	listen := func() (port string, closed func()) {
		listener, err := net.Listen("tcp4", "127.0.0.1:0")
		require.NoError(t, err)
		_, port, err = net.SplitHostPort(listener.Addr().String())
		require.NoError(t, err)
		return port, func() { listener.Close() }
	}
	own, closeOwn := listen()
	defer closeOwn()
	other, closeOther := listen()
	defer closeOther()
	number, err := strconv.ParseUint(own, 10, 16)
	require.NoError(t, err)
	script := `use Socket; for my $p (@ARGV) { socket(my $s, PF_INET, SOCK_STREAM, 0); print connect($s, pack_sockaddr_in($p, inet_aton("127.0.0.1"))) ? "yes " : "no "; } print socket(my $u, PF_INET, SOCK_DGRAM, 0) ? "yes" : "no";`
	for offline, said := range map[bool]string{true: "yes no no", false: "yes yes yes"} {
		confine := Confinement{WriteFolders: []string{t.TempDir()}}
		if offline {
			confine.OnlyPorts = []uint16{uint16(number)}
		}
		command, err := confine.Command(context.Background(), perl, "-e", script, own, other)
		require.NoError(t, err)
		out, err := command.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Equal(t, said, string(out), "offline %v", offline)
	}
}
