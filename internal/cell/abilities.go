package cell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Abilities tells which walls this machine can raise.
type Abilities struct {
	Namespaces bool   // sites live in cells of their own
	Governor   bool   // the service hands sockets in
	Why        string // there are no cells
	Landlock   int    // its ABI version, 0 where absent
	// Groups are the controllers by which the kernel holds all processes of a cell together: cpu, memory, pids, or what there is of them.
	Groups []string
}

// Files tells whether a site's programs reach no file of another; Signals, whether they cannot signal others.
func (a Abilities) Files() bool   { return a.Namespaces || a.Landlock >= 2 }
func (a Abilities) Signals() bool { return a.Namespaces || a.Landlock >= 6 }

// Lines says, a line each, which walls stand and what does not hold.
func (a Abilities) Lines() (lines [][2]string) {
	if a.Namespaces {
		return [][2]string{{"cells", "each site's programs live in cells of their own, in which there is nothing of others"},
			{"network", "the service decides on every connection, and hands in the sockets"}, {"second wall", a.second()},
			{"limits", a.limits()}}
	}
	lines = append(lines, [2]string{"cells", "NONE: " + a.Why}, [2]string{"files", a.second()})
	if a.Governor {
		lines = append(lines, [2]string{"network", "the service decides on every connection, and hands in the sockets"})
	} else {
		lines = append(lines, [2]string{"network", "NOT held: this kernel does not let the service answer for sites' connections"})
	}
	return append(lines, [2]string{"not held",
		"modes and times of files elsewhere, limits and priority of other processes, who else listens, processes that part from their parent"})
}

func (a Abilities) limits() string {
	if len(a.Groups) == 0 {
		return "of each process by the kernel, of a cell's memory as a whole by a look every second; no control groups"
	}
	return "of each cell as a whole by the kernel's control groups: " + strings.Join(a.Groups, ", ")
}

func (a Abilities) second() string {
	switch {
	case a.Landlock >= 6:
		return fmt.Sprintf("Landlock %d and seccomp", a.Landlock)
	case a.Landlock >= 2:
		return fmt.Sprintf("Landlock %d (signals are not held) and seccomp", a.Landlock)
	}
	return "seccomp alone: this kernel has no Landlock"
}

// NoCells is the name of the environment variable that has the service do without namespaces, for tests.
const NoCells = "VESSIK_NO_CELLS"

// findAbilities asks the kernel (landlock_create_ruleset(2)) and makes a cell as a trial: a connection to an address that is nobody's
// must lead to a listener of ours.
func (c *Cells) findAbilities() Abilities {
	abi, _, errno := syscall.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, unix.LANDLOCK_CREATE_RULESET_VERSION)
	if errno != 0 {
		abi = 0
	}
	c.Abilities = Abilities{Landlock: int(abi)}
	why := "the environment variable " + NoCells + " is set"
	if os.Getenv(NoCells) == "" {
		c.Abilities.Namespaces = true
		if why = c.try(); why == "" {
			return Abilities{Namespaces: true, Governor: true, Landlock: int(abi)}
		}
	}
	c.Abilities.Namespaces = false
	return Abilities{Governor: c.try() == "", Landlock: int(abi), Why: why}
}

// tryGroups makes one control group with limits, and one cell in a group.
func (c *Cells) tryGroups() error {
	one, err := c.groups.begin(Limits{Processes: 64, MemoryBytes: 1 << 30, Processor: 100})
	one.end()
	if err != nil {
		return err
	}
	if fault := c.try(); c.Abilities.Governor && fault != "" {
		return errors.New(fault)
	}
	return nil
}

// try makes one cell and returns what went wrong.
func (c *Cells) try() (fault string) {
	listener, err := net.ListenTCP("tcp4", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return err.Error()
	}
	defer listener.Close()
	go func() {
		if visitor, err := listener.Accept(); err == nil {
			visitor.Write([]byte("welcome"))
			visitor.Close()
		}
	}()
	program, err := c.Command(Cell{ReadFiles: []string{c.launcher}, Network: &Network{Reach: func(netip.AddrPort) Route {
		return Route{To: listener.Addr().(*net.TCPAddr).AddrPort()}
	}, Names: func(net.PacketConn, net.Listener) {}}}, nil, c.launcher, "--trial")
	if err != nil {
		return err.Error()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	out, err := program.Run(ctx)
	if err != nil {
		return string(bytes.TrimSpace(append(out, []byte(" ("+err.Error()+")")...)))
	}
	return ""
}
