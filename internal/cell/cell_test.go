package cell

import (
	"context"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestMain runs the tests as an ordinary account, as the service is one.
func TestMain(m *testing.M) {
	if os.Getuid() != 0 {
		os.Exit(m.Run())
	}
	command := exec.Command("/proc/self/exe", slices.DeleteFunc(os.Args[1:], func(a string) bool {
		return strings.HasPrefix(a,
			"-test.testlogfile")
	})...)
	command.Stdout, command.Stderr, command.Env = os.Stdout, os.Stderr, append(os.Environ(), "TMPDIR=/var/tmp")
	account := &syscall.Credential{Uid: 65534, Gid: 65534}
	command.SysProcAttr = &syscall.SysProcAttr{Credential: account}
	if err := ClaimGroups("tests", account); err != nil {
		panic(err)
	}
	if err := command.Run(); err != nil && command.ProcessState == nil {
		panic(err)
	}
	leaveGroups("tests")
	os.Exit(command.ProcessState.ExitCode())
}

func open(t *testing.T) *Cells {
	cells, err := Open(t.TempDir())
	require.NoError(t, err)
	return cells
}

// run runs a shell script in a cell and returns what it printed.
func run(t *testing.T, cells *Cells, cell Cell, script string, arguments ...string) string {
	cell.Init = true
	program, err := cells.Command(cell, nil, "/bin/sh", append([]string{"-c", script, "sh"}, arguments...)...)
	require.NoError(t, err)
	program.Env = []string{"PATH=/usr/bin:/bin"}
	if len(cell.WriteFolders) > 0 {
		program.Dir = cell.WriteFolders[0]
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := program.Run(ctx)
	require.NoError(t, err, string(out))
	return string(out)
}

// bothWays runs a test in cells and, as the second design, without namespaces.
func bothWays(t *testing.T, test func(t *testing.T, cells *Cells)) {
	t.Run("cells", func(t *testing.T) {
		cells := open(t)
		if !cells.Abilities.Namespaces {
			t.Skip(cells.Abilities.Why)
		}
		test(t, cells)
	})
	t.Run("without", func(t *testing.T) {
		t.Setenv(NoCells, "1")
		cells := open(t)
		if cells.Abilities.Landlock < 6 || !cells.Abilities.Governor {
			t.Skipf("this kernel lacks the means: %+v", cells.Abilities)
		}
		test(t, cells)
	})
}

func TestWhatIsNotInACellCannotBeReached(t *testing.T) {
	bothWays(t, func(t *testing.T, cells *Cells) {
		own, other, logs := t.TempDir(), t.TempDir(), t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(other, "secret"), []byte("s"), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(logs, "own.log"), nil, 0o644))
		server, err := net.Listen("unix", filepath.Join(other, "sock"))
		require.NoError(t, err)
		defer server.Close()
		said := run(t, cells, Cell{WriteFolders: []string{own}, WriteFiles: []string{filepath.Join(logs, "own.log")}}, `
			cat $1/secret && echo LEAK read
			ls $1 && echo LEAK list
			grep root: /etc/passwd && echo LEAK passwd
			echo x > $1/new && echo LEAK write
			ln $1/secret hard && echo LEAK link
			ln -s $1/secret soft; cat soft && echo LEAK soft
			kill -0 $2 && echo LEAK signal
			unshare -Ur true && echo LEAK namespace
			mount -t tmpfs x $3 && echo LEAK mount
			perl -MSocket -e 'socket(my $s, AF_UNIX, SOCK_STREAM, 0) && connect($s, pack_sockaddr_un($ARGV[0])) && print "LEAK socket\n"' $1/sock
			perl -MSocket -e 'socket(my $s, 16, SOCK_RAW, 0) && print "LEAK netlink\n"'
			perl -MSocket -e 'socket(my $s, AF_INET, SOCK_STREAM, 262) && print "LEAK mptcp\n"'
			echo y > mine && mkdir deep && mv mine deep/mine && cat deep/mine && ls /usr/bin >/dev/null && echo z >> $3/own.log && echo own`,
			other, strconv.Itoa(os.Getpid()), logs)
		assert.Contains(t, said, "own\n", "what is its own it has")
		assert.NotContains(t, said, "LEAK")
		log, err := os.ReadFile(filepath.Join(logs, "own.log"))
		require.NoError(t, err)
		assert.Equal(t, "z\n", string(log))
	})
}

// Of what lies outside, a cell cannot even tell that it is there, nor change its mode or time, which Landlock does not restrict.
func TestACellHasNothingOfTheMachine(t *testing.T) {
	cells := open(t)
	if !cells.Abilities.Namespaces {
		t.Skip(cells.Abilities.Why)
	}
	own, other := t.TempDir(), t.TempDir()
	said := run(t, cells, Cell{Name: "moss", WriteFolders: []string{own}}, `
		[ -e $1 ] && echo LEAK exists
		chmod 777 $1 && echo LEAK mode
		touch -c -d yesterday $1; [ -e $1 ] && echo LEAK time
		prlimit --pid $2 --nofile=10 && echo LEAK limit
		for s in /proc/[0-9]*; do echo $s; done | wc -l
		touch /new && echo LEAK root
		touch /usr/new && echo LEAK usr
		[ "$(hostname)" = moss ] && echo named
		id -un; cat /proc/sys/kernel/hostname`, other, strconv.Itoa(os.Getpid()))
	assert.NotContains(t, said, "LEAK")
	assert.Contains(t, said, "named\nsite\n")
}

func TestAllEndsWithTheFirstProcess(t *testing.T) {
	cells := open(t)
	if !cells.Abilities.Namespaces {
		t.Skip(cells.Abilities.Why)
	}
	own := t.TempDir()
	run(t, cells, Cell{WriteFolders: []string{own}}, `setsid sh -c 'while :; do date >> ticks; sleep 0.05; done' >/dev/null 2>&1 & sleep 0.3`)
	size := func() int64 {
		info, err := os.Stat(filepath.Join(own, "ticks"))
		require.NoError(t, err, "it ran")
		return info.Size()
	}
	before := size()
	time.Sleep(200 * time.Millisecond)
	assert.Equal(t, before, size(), "a process in a session of its own has ended, too")
}

// The governor hands connections in: where the policy leads, and nowhere else.
func TestConnectionsAreHandedIn(t *testing.T) {
	perl, err := exec.LookPath("perl") // any program that opens sockets; perl belongs to every Debian
	require.NoError(t, err)
	listen := func() (uint16, func()) {
		listener, err := net.Listen("tcp4", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			for {
				visitor, err := listener.Accept()
				if err != nil {
					return
				}
				visitor.Write([]byte("from " + listener.Addr().String()))
				visitor.Close()
			}
		}()
		return listener.Addr().(*net.TCPAddr).AddrPort().Port(), func() { listener.Close() }
	}
	own, closeOwn := listen()
	defer closeOwn()
	other, closeOther := listen()
	defer closeOther()
	script := `use Socket; for (@ARGV) { my ($to, $port) = split /:/; socket(my $s, PF_INET, SOCK_STREAM, 0);
		if (connect($s, pack_sockaddr_in($port, inet_aton($to)))) { sysread($s, my $text, 99); print "$text\n" } else { print "no\n" } }
		socket(my $u, PF_INET, SOCK_DGRAM, 0); print send($u, "x", 0, pack_sockaddr_in($ENV{OTHER}, inet_aton("127.0.0.1"))) ? "sent\n" : "no\n";`
	datagrams, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: int(other)})
	require.NoError(t, err)
	defer datagrams.Close()
	bothWays(t, func(t *testing.T, cells *Cells) {
		program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()},
			Network: &Network{Reach: func(to netip.AddrPort) Route {
				switch {
				case to.Addr().String() == "192.0.2.7":
					return Route{To: netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), own)}
				case to.Port() == own:
					return Route{To: to}
				}
				return Route{}
			}}}, nil, perl, "-e", script, "127.0.0.1:"+strconv.Itoa(int(own)), "127.0.0.1:"+strconv.Itoa(int(other)), "192.0.2.7:80")
		require.NoError(t, err)
		program.Env = []string{"OTHER=" + strconv.Itoa(int(other))}
		out, err := program.Run(context.Background())
		require.NoError(t, err, string(out))
		from := "from 127.0.0.1:" + strconv.Itoa(int(own))
		lines := strings.Split(string(out), "\n")
		assert.Equal(t, []string{from, "no", from}, lines[:3])
		datagrams.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		_, _, err = datagrams.ReadFrom(make([]byte, 8))
		assert.Error(t, err, "no datagram comes out")
	})
}

// Many connections at once are all judged, and none is lost.
func TestManyConnectionsAreJudged(t *testing.T) {
	listener, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			visitor, err := listener.Accept()
			if err != nil {
				return
			}
			visitor.Close()
		}
	}()
	own := listener.Addr().(*net.TCPAddr).AddrPort().Port()
	script := `use Socket; use POSIX ":sys_wait_h"; my $to = pack_sockaddr_in($ARGV[0], INADDR_LOOPBACK); pipe(my $r, my $w);
		for (1..4) { next if fork; my $stood = 0; for (1..500) { socket(my $s, PF_INET, SOCK_STREAM, 0); $stood++ if connect($s, $to); close $s }
			syswrite($w, "$stood\n"); exit } close $w; print while <$r>;`
	bothWays(t, func(t *testing.T, cells *Cells) {
		var asked, ended atomic.Int64
		program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}, Network: &Network{Reach: func(to netip.AddrPort) Route {
			asked.Add(1)
			return Route{To: to, Ended: func(_ time.Duration, fault error) {
				if fault == nil {
					ended.Add(1)
				}
			}}
		}}}, nil, "/usr/bin/perl", "-e", script, strconv.Itoa(int(own)))
		require.NoError(t, err)
		out, err := program.Run(context.Background())
		require.NoError(t, err, string(out))
		assert.Equal(t, strings.Repeat("500\n", 4), string(out))
		assert.Equal(t, []int64{2000, 2000}, []int64{asked.Load(), ended.Load()})
	})
}

// An address of no family is not what the kernel reads a moment later.
func TestAnAddressOfNoFamilyLeadsNowhere(t *testing.T) {
	listener, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer listener.Close()
	port := listener.Addr().(*net.TCPAddr).AddrPort().Port()
	script := `use Socket; socket(my $s, PF_INET, SOCK_STREAM, 0); my $to = pack_sockaddr_in($ARGV[0], INADDR_LOOPBACK);
		print connect($s, $to) ? "there\n" : "no\n"; substr(my $nobody = $to, 0, 2) = pack("S", 0);
		print connect($s, $nobody) ? "left\n" : "no\n", getpeername($s) ? "there still\n" : "gone\n";`
	bothWays(t, func(t *testing.T, cells *Cells) {
		program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}, Network: OnlyPorts(int(port))}, nil, "/usr/bin/perl", "-e",
			script, strconv.Itoa(int(port)))
		require.NoError(t, err)
		out, err := program.Run(context.Background())
		require.NoError(t, err, string(out))
		assert.Equal(t, "there\nleft\ngone\n", string(out))
	})
}

// A program that binds a port which the service holds is handed the service's listening socket.
func TestAListeningSocketIsHandedIn(t *testing.T) {
	bothWays(t, func(t *testing.T, cells *Cells) {
		listener, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		defer listener.Close()
		held, err := listener.File()
		require.NoError(t, err)
		defer held.Close()
		port := listener.Addr().(*net.TCPAddr).AddrPort().Port()
		script := `use Socket; socket(my $s, PF_INET, SOCK_STREAM, 0); bind($s, pack_sockaddr_in($ARGV[0], INADDR_LOOPBACK)) or die "bind: $!";
			listen($s, 5) or die;
			socket(my $t, PF_INET, SOCK_STREAM, 0); print bind($t, pack_sockaddr_in(0,
				INADDR_LOOPBACK)) ? "own\n" : "no\n"; $| = 1; accept(my $c, $s) or die "accept: $!"; syswrite($c, "hello"); print "served\n";`
		program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}, Listen: map[uint16]*os.File{port: held}}, nil,
			"/usr/bin/perl", "-e", script, strconv.Itoa(int(port)))
		require.NoError(t, err)
		said := make(chan string, 1)
		go func() { out, _ := program.Run(context.Background()); said <- string(out) }()
		visitor, err := net.Dial("tcp4", listener.Addr().String())
		require.NoError(t, err)
		text := make([]byte, 9)
		n, _ := visitor.Read(text)
		assert.Equal(t, "hello", string(text[:n]))
		assert.Contains(t, <-said, "served")
	})
}

func TestLimitsOfACell(t *testing.T) {
	cells := open(t)
	if !cells.Abilities.Namespaces || os.Getuid() == 0 {
		t.Skip("no cells, or root, whom the kernel does not limit: ", cells.Abilities.Why)
	}
	cell := Cell{WriteFolders: []string{t.TempDir()}, Limits: Limits{Processes: 20, MemoryBytes: 200 << 20, Files: 64, FileBytes: 1 << 20}}
	said := run(t, cells, cell, `
		perl -e 'my $n = 0; for (1 .. 60) { my $p = fork(); if (!defined $p) { last } if (!$p) { sleep 2; exit } $n++ }
			print $n < 30 ? "processes\n" : "LEAK processes\n"'
		perl -e 'my $x = "y" x (400 << 20); print "LEAK memory\n"'
		ulimit -n; head -c 3000000 /dev/zero > big; [ $(stat -c %s big) -le 1048576 ] && echo files`)
	assert.Contains(t, said, "processes")
	assert.Contains(t, said, "64\n")
	assert.Contains(t, said, "files\n")
	assert.NotContains(t, said, "LEAK")
}

func TestACellEndsWithItsContext(t *testing.T) {
	cells := open(t)
	program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}, Init: true}, nil, "/bin/sleep", "300")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	_, err = program.Run(ctx)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.ErrorIs(t, syscall.Kill(program.Process.Pid, 0), unix.ESRCH)
}

func BenchmarkACell(b *testing.B) {
	cells, err := Open(b.TempDir())
	require.NoError(b, err)
	for b.Loop() {
		program, err := cells.Command(Cell{WriteFolders: []string{b.TempDir()}, Network: &Network{}}, nil, "/bin/true")
		require.NoError(b, err)
		_, err = program.Run(context.Background())
		require.NoError(b, err)
	}
}
