package proc

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"unsafe"

	"github.com/landlock-lsm/go-landlock/landlock"
	llsyscall "github.com/landlock-lsm/go-landlock/landlock/syscall"
	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// ConfineCommand is the word by which the service's own program is asked to act as the launcher.
const ConfineCommand = "confine"

// Confinement says what a confined program may reach. Everything else of the file system is closed to it and to what it starts, and
// it may not open unix sockets unless that is said, whatever the file permissions say.
type Confinement struct {
	ReadFolders  []string `json:"read_folders"` // may also be executed from
	ReadFiles    []string `json:"read_files"`
	WriteFolders []string `json:"write_folders"`
	WriteFiles   []string `json:"write_files"`
	UnixSockets  bool     `json:"unix_sockets"` // it may open unix sockets after all
	// OnlyPorts are the TCP ports that it may connect to; where there are any, it can ask no name server either. Empty allows everything.
	OnlyPorts []uint16 `json:"only_ports,omitempty"`
}

// SystemFolders and SystemFiles are what programs need of the machine: libraries, commands, certificates, time zones, name lookup.
// The list of accounts is not among them.
var (
	SystemFolders = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/etc/ssl", "/etc/alternatives", "/usr/share/zoneinfo"}
	SystemFiles   = []string{"/etc/ld.so.cache", "/etc/localtime", "/etc/resolv.conf", "/etc/hosts", "/etc/nsswitch.conf", "/etc/mime.types", "/etc/services", "/etc/protocols", "/dev/zero", "/dev/random", "/dev/urandom"}
)

// Abilities tells which means of confinement this kernel has.
type Abilities struct {
	Landlock int  `json:"landlock" doc:"Landlock ABI version, 0 when absent"`
	Files    bool `json:"files" doc:"Site PHP is held to its own folder"`
	Signals  bool `json:"signals" doc:"Site PHP cannot signal other processes"`
	Ports    bool `json:"ports" doc:"A site that works offline is held to its database's port (Landlock); names are not looked up in any case (seccomp)"`
	Sockets  bool `json:"sockets" doc:"Site PHP cannot open unix sockets (seccomp)"`
}

// FindAbilities asks the kernel (landlock_create_ruleset(2), prctl(2)).
func FindAbilities() Abilities {
	abi, _, errno := syscall.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, unix.LANDLOCK_CREATE_RULESET_VERSION)
	if errno != 0 {
		abi = 0
	}
	_, err := unix.PrctlRetInt(unix.PR_GET_SECCOMP, 0, 0, 0, 0)
	return Abilities{Landlock: int(abi), Files: abi >= 2, Signals: abi >= 6, Ports: abi >= 4, Sockets: err == nil}
}

// Confine acts as the launcher: it restricts the calling process for good and executes the program in its place.
// arguments are the confinement in JSON, the program, and the program's own arguments. It returns only on failure.
func Confine(arguments []string) error {
	runtime.LockOSThread()
	if len(arguments) < 2 {
		return fmt.Errorf("%s is for the service itself", ConfineCommand)
	}
	var c Confinement
	if err := json.Unmarshal([]byte(arguments[0]), &c); err != nil {
		return fmt.Errorf("read the confinement: %w", err)
	}
	handled := []any{landlock.V7.HandledAccessFS, landlock.V7.Scoped}
	if len(c.OnlyPorts) > 0 {
		handled = append(handled, landlock.AccessNetSet(llsyscall.AccessNetConnectTCP))
	}
	rules := []landlock.Rule{
		landlock.RODirs(c.ReadFolders...).IgnoreIfMissing(), landlock.ROFiles(c.ReadFiles...).IgnoreIfMissing(),
		landlock.RODirs(SystemFolders...).IgnoreIfMissing(), landlock.ROFiles(SystemFiles...).IgnoreIfMissing(),
		landlock.RWDirs(c.WriteFolders...).WithRefer(), landlock.RWFiles(append(c.WriteFiles, "/dev/null")...),
	}
	for _, port := range c.OnlyPorts {
		rules = append(rules, landlock.ConnectTCP(port))
	}
	config := landlock.MustConfig(handled...).BestEffort()
	err := config.Restrict(rules...)
	if err != nil {
		return fmt.Errorf("confine %s: %w", arguments[1], err)
	}
	if c.UnixSockets {
		err = unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
	} else {
		err = refuseSockets(len(c.OnlyPorts) > 0)
	}
	if err != nil {
		return fmt.Errorf("confine %s: %w", arguments[1], err)
	}
	return fmt.Errorf("start %s: %w", arguments[1], syscall.Exec(arguments[1], arguments[1:], os.Environ()))
}

// refuseSockets installs a seccomp filter for this thread and what it executes: no unix sockets and, if asked to, no datagrams (by
// which names are looked up). Calls of a foreign architecture (by which a
// 32-bit program would pass the filter) and io_uring (which opens sockets by itself) are refused as well.
func refuseSockets(datagrams bool) error {
	architecture, ok := map[string]uint32{"amd64": unix.AUDIT_ARCH_X86_64, "arm64": unix.AUDIT_ARCH_AARCH64}[runtime.GOARCH]
	if !ok {
		return nil
	}
	const x32Bit = 0x40000000
	refuse := func(errno syscall.Errno) bpf.Instruction {
		return bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(errno)}
	}
	datagram := uint32(unix.SOCK_DGRAM)
	if !datagrams {
		datagram = 0 // no type of a socket
	}
	const kinds = 0xf // the rest of the type are flags
	program, err := bpf.Assemble([]bpf.Instruction{
		bpf.LoadAbsolute{Off: 4, Size: 4}, // seccomp_data.arch
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: architecture, SkipTrue: 1},
		refuse(syscall.ENOSYS),
		bpf.LoadAbsolute{Off: 0, Size: 4}, // seccomp_data.nr
		bpf.JumpIf{Cond: bpf.JumpGreaterOrEqual, Val: x32Bit, SkipTrue: 1},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.SYS_IO_URING_SETUP, SkipTrue: 1},
		refuse(syscall.ENOSYS),
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.SYS_SOCKET, SkipTrue: 7},
		bpf.LoadAbsolute{Off: 16, Size: 4}, // the first argument's low half
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.AF_UNIX, SkipTrue: 1},
		refuse(syscall.EACCES),
		bpf.LoadAbsolute{Off: 24, Size: 4}, // the second argument's
		bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: kinds},
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: datagram, SkipTrue: 1},
		refuse(syscall.ENETUNREACH),
		bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW},
	})
	if err != nil {
		return err
	}
	filter := make([]unix.SockFilter, len(program))
	for i, raw := range program {
		filter[i] = unix.SockFilter{Code: raw.Op, Jt: raw.Jt, Jf: raw.Jf, K: raw.K}
	}
	loaded := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	return unix.Prctl(unix.PR_SET_SECCOMP, unix.SECCOMP_MODE_FILTER, uintptr(unsafe.Pointer(&loaded)), 0, 0)
}

// Command is a program that is run once, confined.
func (c *Confinement) Command(ctx context.Context, program string, arguments ...string) (*exec.Cmd, error) {
	command, err := c.command(program, arguments)
	if err != nil {
		return nil, err
	}
	confined := exec.CommandContext(ctx, command.Path, command.Args[1:]...)
	return confined, nil
}

// command turns a program into the launcher that confines and then executes it.
func (c *Confinement) command(program string, arguments []string) (*exec.Cmd, error) {
	text, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	return exec.Command("/proc/self/exe", append([]string{ConfineCommand, string(text), program}, arguments...)...), nil
}
