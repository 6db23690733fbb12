// Package inside is what the launcher does in a cell before the cell's program begins: it builds a small root of what the cell has,
// gives up every privilege, closes the kernel's other doors, and executes the program in its own place.
package inside

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// NotEntered is the exit code of a launcher that could not make its cell.
const NotEntered = 125

// notFound is that of a command that cannot be started, as shells have it.
const notFound = 127

// Spec is what the service tells the launcher. Paths are the same inside as outside.
type Spec struct {
	Namespaces   bool     `json:"namespaces"` // false: the second design, without a root of its own
	ReadFolders  []string `json:"read_folders,omitempty"`
	ReadFiles    []string `json:"read_files,omitempty"`
	WriteFolders []string `json:"write_folders,omitempty"`
	WriteFiles   []string `json:"write_files,omitempty"`
	// Binds are folders that stand inside at another place than outside; they need namespaces.
	Binds       []Bind `json:"binds,omitempty"`
	UnixSockets bool   `json:"unix_sockets,omitempty"` // may be opened; with namespaces, those that are bound into the cell
	Governed    bool   `json:"governed,omitempty"`     // connect(2) is answered by the service
	Listens     bool   `json:"listens,omitempty"`      // so is bind(2), in any cell
	Names       bool   `json:"names,omitempty"`        // the service answers on the cell's own port 53
	Landlock    bool   `json:"landlock,omitempty"`
	Control     int    `json:"control,omitempty"` // descriptor on which the listener for those answers is sent to the service; 0 for none
	Init        bool   `json:"init,omitempty"`    // the program is a child of the launcher, which waits for it
	Terminal    bool   `json:"terminal,omitempty"`
	Hostname    string `json:"hostname,omitempty"`
	Account     string `json:"account,omitempty"` // how the account's own id is called inside
	DeathSignal int    `json:"death_signal,omitempty"`
	Limits      Limits `json:"limits"`

	names []int // sockets of the cell's port 53
}

// Bind is a folder at a place of its own, below another folder of the cell, where there must be a folder for it.
type Bind struct {
	From  string `json:"from"`
	At    string `json:"at"`
	Write bool   `json:"write,omitempty"`
}

// sharedBytes is what a program may map beyond its own data.
const sharedBytes = 4 << 30

// Limits of a cell, see setrlimit(2); zero leaves one as it is.
type Limits struct {
	Processes   int   `json:"processes,omitempty"`    // at one time, threads included; counted for the cell alone, so it needs namespaces
	MemoryBytes int64 `json:"memory_bytes,omitempty"` // private data of one process
	Files       int   `json:"files,omitempty"`        // open at one time in one process
	FileBytes   int64 `json:"file_bytes,omitempty"`   // of one file
	Processor   int   `json:"processor,omitempty"`    // percent of one processor's time, for the cell as a whole; needs control groups
}

// Enter reads the spec, the program and its arguments, and becomes the program. It returns only on failure.
func Enter(arguments []string) error {
	runtime.LockOSThread()
	if len(arguments) == 1 && arguments[0] == "--trial" {
		return tryConnect()
	}
	if len(arguments) < 2 {
		return errors.New("vessik-cell is for the service itself")
	}
	var s Spec
	if err := json.Unmarshal([]byte(arguments[0]), &s); err != nil {
		return fmt.Errorf("read the cell: %w", err)
	}
	if s.DeathSignal != 0 {
		if err := unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(s.DeathSignal), 0, 0, 0); err != nil {
			return err
		}
	}
	if s.Namespaces {
		if err := s.furnish(); err != nil {
			return fmt.Errorf("make the cell: %w", err)
		}
		if s.Names {
			var err error
			if s.names, err = openNames(); err != nil {
				return err
			}
		}
	}
	if err := s.lock(); err != nil {
		return fmt.Errorf("close the cell: %w", err)
	}
	program := arguments[1]
	if path, err := exec.LookPath(program); err == nil {
		program = path
	}
	if s.Init {
		return s.wait(program, arguments[1:])
	}
	return fmt.Errorf("start %s: %w", program, syscall.Exec(program, arguments[1:], os.Environ()))
}

// lock gives up what the launcher could still do. The order matters: limits and Landlock need no privilege, the filter comes last.
func (s Spec) lock() error {
	if err := s.limit(); err != nil {
		return err
	}
	if err := dropCapabilities(); err != nil {
		return err
	}
	if s.Landlock {
		if err := s.landlock(); err != nil {
			return err
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	listener, err := s.filter()
	if err != nil {
		return err
	}
	if s.Control == 0 {
		return nil
	}
	defer unix.Close(s.Control)
	if listener < 0 {
		return nil
	}
	descriptors := append([]int{listener}, s.names...)
	defer func() {
		for _, fd := range descriptors {
			unix.Close(fd)
		}
	}()
	return unix.Sendmsg(s.Control, []byte{1}, unix.UnixRights(descriptors...), nil, 0)
}

// openNames opens port 53 of the cell's own loopback, for datagrams and streams, while the launcher still may.
func openNames() (sockets []int, err error) {
	for _, kind := range []int{unix.SOCK_DGRAM, unix.SOCK_STREAM} {
		socket, err := unix.Socket(unix.AF_INET, kind|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return nil, err
		}
		if err := unix.Bind(socket, &unix.SockaddrInet4{Port: 53, Addr: [4]byte{127, 0, 0, 1}}); err != nil {
			return nil, fmt.Errorf("open the cell's port for names: %w", err)
		}
		if kind == unix.SOCK_STREAM {
			if err := unix.Listen(socket, 16); err != nil {
				return nil, err
			}
		}
		sockets = append(sockets, socket)
	}
	return sockets, nil
}

func (s Spec) limit() error {
	limits := map[int]uint64{unix.RLIMIT_CORE: 0}
	if s.Limits.MemoryBytes > 0 { // what is mapped and shared is no data; compiled PHP and libraries are
		limits[unix.RLIMIT_AS] = uint64(s.Limits.MemoryBytes) + sharedBytes
	}
	for resource, value := range map[int]int64{unix.RLIMIT_DATA: s.Limits.MemoryBytes, unix.RLIMIT_FSIZE: s.Limits.FileBytes} {
		if value > 0 {
			limits[resource] = uint64(value)
		}
	}
	if s.Namespaces && s.Limits.Processes > 0 {
		limits[unix.RLIMIT_NPROC] = uint64(s.Limits.Processes)
	}
	for resource, value := range limits {
		if err := unix.Prlimit(0, resource, &unix.Rlimit{Cur: value, Max: value}, nil); err != nil {
			return fmt.Errorf("limit %d: %w", resource, err)
		}
	}
	if s.Limits.Files > 0 { // through this package, or Go would give the program back what it found
		most := syscall.Rlimit{}
		if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &most); err != nil {
			return err
		}
		value := min(uint64(s.Limits.Files), most.Max)
		return syscall.Setrlimit(syscall.RLIMIT_NOFILE, &syscall.Rlimit{Cur: value, Max: value})
	}
	return nil
}

// dropCapabilities leaves none, and no way to any; see capabilities(7).
func dropCapabilities() error {
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return err
	}
	for capability := uintptr(0); capability <= unix.CAP_LAST_CAP; capability++ {
		if unix.Prctl(unix.PR_CAPBSET_DROP, capability, 0, 0, 0) != nil {
			break // no privilege to drop, and none to be had: no_new_privs follows
		}
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	none := [2]unix.CapUserData{}
	return unix.Capset(&header, &none[0])
}

// wait runs the program as a child, takes in what it leaves behind, and ends with its exit code: the first process of a cell is sent
// no signal that it does not ask for, which would leave a command deaf to Ctrl-C.
func (s Spec) wait(program string, arguments []string) error {
	attributes := &syscall.SysProcAttr{}
	if s.Terminal {
		attributes.Setsid, attributes.Setctty = true, true
	}
	if !s.Namespaces {
		attributes.Pdeathsig = syscall.SIGKILL
	}
	told := make(chan os.Signal, 8)
	signal.Notify(told, syscall.SIGTERM, syscall.SIGINT, syscall.SIGQUIT, syscall.SIGHUP)
	child, err := syscall.ForkExec(program, arguments, &syscall.ProcAttr{Env: os.Environ(), Files: []uintptr{0, 1, 2}, Sys: attributes})
	if err != nil {
		fmt.Fprintf(os.Stderr, "%s cannot be started: %v\n", arguments[0], err)
		os.Exit(notFound)
	}
	go func() {
		for each := range told {
			syscall.Kill(child, each.(syscall.Signal))
		}
	}()
	for {
		var status syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &status, 0, nil)
		switch {
		case err == syscall.EINTR:
		case err != nil:
			return err
		case pid == child && status.Signaled():
			os.Exit(128 + int(status.Signal()))
		case pid == child && status.Exited():
			os.Exit(status.ExitStatus())
		}
	}
}

// tryConnect is what the service's trial has a cell do: a connection to an address that is nobody's (RFC 5737).
func tryConnect() error {
	socket, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
	if err != nil {
		return err
	}
	if err := unix.Connect(socket, &unix.SockaddrInet4{Port: 9, Addr: [4]byte{192, 0, 2, 1}}); err != nil {
		return fmt.Errorf("connect: %w", err)
	}
	text := make([]byte, 16)
	if n, err := unix.Read(socket, text); err != nil || string(text[:max(n, 0)]) != "welcome" {
		return fmt.Errorf("a socket that was handed in does not work: %q %v", text, err)
	}
	os.Exit(0)
	return nil
}
