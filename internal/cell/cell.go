// Package cell starts programs in cells: a small root of what each needs and nothing else, no network but what the service hands in,
// no privilege, no way out. See docs/isolation.md for how one is made, by whom, in which order.
package cell

import (
	"bytes"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"vessik/internal/cell/inside"
)

//go:embed launcher
var launcher embed.FS

// Limits of a cell.
type Limits = inside.Limits

// Bind is a folder at a place of its own.
type Bind = inside.Bind

// Cell says what a program has. What is not named is not there.
type Cell struct {
	Name         string // the host name inside
	ReadFolders  []string
	ReadFiles    []string
	WriteFolders []string
	WriteFiles   []string
	// Binds are folders at other places than outside; where there are no namespaces, they are left out.
	Binds       []Bind
	UnixSockets bool // may be opened; those that are there are the ones in its folders
	// Network decides on connections to elsewhere; nil leaves none.
	Network *Network
	// Listen are listening sockets that the service holds, by port: the program that binds one is handed it.
	Listen map[uint16]*os.File
	Limits Limits
	// Init keeps the launcher as the cell's first process, for programs that are not made to be one, such as shells.
	Init bool
	// Terminal makes standard input the program's controlling terminal; it needs Init.
	Terminal bool
	// Orderly has the program asked to end, instead of ended, when the service dies.
	Orderly bool
}

// Network is what a cell may reach beyond itself.
type Network struct {
	// Reach decides on a connection.
	Reach func(to netip.AddrPort) Route
	// Names answers, until they are closed, what is asked of the cell's own name server; nil for none.
	Names func(packets net.PacketConn, streams net.Listener)
}

// Route is where a connection really goes; not valid for nowhere. Ended is told how long it took until it stood, or why it does not; it
// is asked for all that go somewhere, unless it is nil, and must not wait.
type Route struct {
	To    netip.AddrPort
	Ended func(took time.Duration, fault error)
}

// OnlyPorts is a network in which there are some ports of this machine.
func OnlyPorts(ports ...int) *Network {
	return &Network{Reach: func(to netip.AddrPort) Route {
		if to.Addr().IsLoopback() && slices.Contains(ports, int(to.Port())) {
			return Route{To: to}
		}
		return Route{}
	}}
}

// Cells starts programs in cells.
type Cells struct {
	Abilities Abilities
	launcher  string
	groups    *groups
	spawn     chan func()
	closed    chan struct{}
}

// Open writes the launcher into a folder and finds out, by a trial, which walls this machine can raise.
func Open(dir string) (*Cells, error) {
	program, err := launcher.ReadFile("launcher/vessik-cell")
	if err != nil {
		return nil, errors.New("this program was built without its launcher: build it with make")
	}
	sum := sha256.Sum256(program)
	c := &Cells{launcher: filepath.Join(dir, "vessik-cell-"+hex.EncodeToString(sum[:6])), spawn: make(chan func()),
		closed: make(chan struct{})}
	if _, err := os.Stat(c.launcher); err != nil {
		partial := c.launcher + ".partial"
		if err := errors.Join(os.MkdirAll(dir, 0o700), os.WriteFile(partial, program, 0o700), os.Rename(partial, c.launcher)); err != nil {
			return nil, fmt.Errorf("write the launcher of cells: %w", err)
		}
	}
	former, _ := filepath.Glob(filepath.Join(dir, "vessik-cell-*"))
	for _, path := range former { // of earlier versions
		if path != c.launcher {
			os.Remove(path)
		}
	}
	go func() { // the one thread from which everything is started: the parent-death signal is bound to it
		runtime.LockOSThread()
		for {
			select {
			case start := <-c.spawn:
				start()
			case <-c.closed:
				return
			}
		}
	}()
	c.Abilities = c.findAbilities()
	own := sha256.Sum256([]byte(dir))
	if c.groups = openGroups(hex.EncodeToString(own[:6])); c.groups.dir != "" && c.tryGroups() != nil {
		os.Remove(c.groups.dir)
		c.groups = &groups{}
	}
	c.Abilities.Groups = c.groups.controllers
	return c, nil
}

// Close gives back what Open took, once all cells have ended: programs that still run would end with the thread that began them.
func (c *Cells) Close() {
	close(c.closed)
	if c.groups.dir != "" {
		os.Remove(c.groups.dir)
	}
}

// Program is a program in a cell, or on its way there.
type Program struct {
	exec.Cmd
	cells   *Cells
	cell    Cell
	control [2]*os.File // ours, the launcher's; nil where nothing is governed
	group   *group
	// namespaces is how it was begun: what the machine can do is still being tried at the first one.
	namespaces bool
}

// Command prepares a program in a cell. files are handed over as descriptor 3 and on.
func (c *Cells) Command(cell Cell, files []*os.File, program string, arguments ...string) (*Program, error) {
	p := &Program{cells: c, cell: cell, namespaces: c.Abilities.Namespaces}
	s := inside.Spec{Namespaces: c.Abilities.Namespaces, ReadFolders: cell.ReadFolders, ReadFiles: cell.ReadFiles,
		WriteFolders: cell.WriteFolders, WriteFiles: cell.WriteFiles, Binds: cell.Binds,
		UnixSockets: cell.UnixSockets ||
			c.Abilities.Namespaces, Listens: len(cell.Listen) > 0, Landlock: c.Abilities.Landlock >= 2, Init: cell.Init, Terminal: cell.Terminal,
		Hostname: cell.Name, DeathSignal: int(syscall.SIGKILL), Limits: cell.Limits}
	s.Names = s.Namespaces && cell.Network != nil && cell.Network.Names != nil
	s.Governed = cell.Network != nil || !s.Namespaces && !cell.UnixSockets
	if cell.Orderly {
		s.DeathSignal = int(syscall.SIGTERM)
	}
	if s.Governed || s.Listens {
		pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return nil, fmt.Errorf("make a cell: %w", err)
		}
		p.control = [2]*os.File{os.NewFile(uintptr(pair[0]), "control"), os.NewFile(uintptr(pair[1]), "control")}
		s.Control = 3 + len(files)
		files = append(files[:len(files):len(files)], p.control[1])
	}
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	p.Cmd = exec.Cmd{Path: c.launcher, Args: append([]string{"vessik-cell", string(text), program}, arguments...), ExtraFiles: files,
		Env: []string{}}
	p.SysProcAttr = &syscall.SysProcAttr{Setsid: true,
		Pdeathsig: syscall.Signal(s.DeathSignal)} // a session of its own: the kernel shares time out by session, see sched(7)
	if s.Namespaces {
		p.SysProcAttr.Cloneflags = unix.CLONE_NEWUSER | unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWNET | unix.CLONE_NEWIPC |
			unix.CLONE_NEWUTS
		p.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: os.Geteuid(), HostID: os.Geteuid(), Size: 1}}
		p.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getegid(), HostID: os.Getegid(), Size: 1}}
		p.SysProcAttr.AmbientCaps = []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN, unix.CAP_NET_BIND_SERVICE, unix.CAP_SETPCAP}
	}
	return p, nil
}

// Start starts the launcher; what it asks is answered from then on, until the last process of the cell has ended.
func (p *Program) Start() error {
	err := p.start()
	if p.control[0] == nil {
		return err
	}
	p.control[1].Close()
	if err != nil {
		p.control[0].Close()
		return err
	}
	go p.govern()
	return nil
}

func (p *Program) start() (err error) {
	if p.group, err = p.cells.groups.begin(p.cell.Limits); err != nil {
		return err
	}
	if p.group != nil {
		p.SysProcAttr.UseCgroupFD, p.SysProcAttr.CgroupFD = true, int(p.group.file.Fd())
	}
	started := make(chan error, 1)
	select {
	case p.cells.spawn <- func() { started <- p.Cmd.Start() }:
		err = <-started
	case <-p.cells.closed:
		err = errors.New("start a program: the service ends")
	}
	if err != nil {
		p.group.end()
	}
	return err
}

// leftAfter is how long output is waited for that something outside the program's session still holds, where there are neither
// namespaces nor groups to end it.
const leftAfter = time.Second

// Wait waits until the program has ended, ends what it left, and returns its fault.
func (p *Program) Wait() error {
	for unix.Waitid(unix.P_PID, p.Process.Pid, nil, unix.WEXITED|unix.WNOWAIT, nil) == unix.EINTR {
	}
	p.group.end()
	syscall.Kill(-p.Process.Pid, syscall.SIGKILL) // not reaped yet, so the number is still its own
	p.WaitDelay = leftAfter
	if err := p.Cmd.Wait(); !errors.Is(err, exec.ErrWaitDelay) {
		return err
	}
	return nil
}

// Run starts the program, waits for its end, and returns all that it printed. When ctx ends, so does the cell.
func (p *Program) Run(ctx context.Context) ([]byte, error) {
	var printed capped
	p.Stdout, p.Stderr = &printed, &printed
	if err := p.Start(); err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { syscall.Kill(-p.Process.Pid, syscall.SIGKILL) })
	err := p.Wait()
	if !stop() && ctx.Err() != nil {
		err = ctx.Err()
	}
	return printed.Bytes(), err
}

// capped keeps the first megabytes of what is printed, and lets go of the rest.
type capped struct {
	mu sync.Mutex
	bytes.Buffer
}

const mostPrinted = 16 << 20

func (c *capped) Write(text []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if room := mostPrinted - c.Len(); room < len(text) {
		c.Buffer.Write(text[:max(room, 0)])
		return len(text), nil
	}
	return c.Buffer.Write(text)
}

var _ io.Writer = (*capped)(nil)
