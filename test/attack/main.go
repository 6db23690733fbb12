// Command attack is what somebody runs who has broken into a site: it tries to reach what is not the site's, from inside, and prints a
// line for each attempt: its name, held or LEAK, and what happened. It is a static program, since a site can bring any.
package main

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Targets are what lies outside; the test that runs the attack knows them.
type Targets struct {
	Files   []string `json:"files"`   // that must not be read
	Folders []string `json:"folders"` // that must not be listed or written
	Sockets []string `json:"sockets"` // unix sockets of others
	Ports   []int    `json:"ports"`   // of this machine that are not the site's
	Open    int      `json:"open"`    // one of this machine that the site may connect to
	Process int      `json:"process"` // the service
	Listen  int      `json:"listen"`  // a port to take
	Limits  bool     `json:"limits"`  // try them, too
	Own     string   `json:"own"`     // the site's folder
	Logs    string   `json:"logs"`    // and its logs
}

func main() {
	var t Targets
	if err := json.Unmarshal([]byte(os.Args[1]), &t); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	t.files()
	t.metadata()
	t.processes()
	families()
	t.connections()
	t.judged()
	t.kernel()
	inherited(t.Own, t.Logs)
	if t.Limits {
		limits(t.Own)
	}
	if t.Listen > 0 {
		listener, err := net.Listen("tcp4", fmt.Sprintf("127.0.0.1:%d", t.Listen))
		fmt.Println("listening\t-\t", err == nil)
		if err == nil {
			go func() {
				for {
					if c, err := listener.Accept(); err == nil {
						c.Write([]byte("HTTP/1.0 200 OK\r\n\r\ntaken over"))
						c.Close()
					}
				}
			}()
		}
		time.Sleep(3 * time.Second)
	}
}

// tried prints one line; worked says that the attempt did.
func tried(name string, worked bool, detail any) {
	verdict := "held"
	if worked {
		verdict = "LEAK"
	}
	fmt.Printf("%s\t%s\t%v\n", name, verdict, detail)
}

func (t Targets) files() {
	for _, path := range t.Files {
		_, err := os.ReadFile(path)
		tried("read a file", err == nil, path)
		link := filepath.Join(t.Own, "attack-link")
		os.Remove(link)
		os.Symlink(path, link)
		_, err = os.ReadFile(link)
		tried("read through a link", err == nil, path)
		os.Remove(link)
		err = os.Link(path, link)
		tried("hard link", err == nil, path)
		os.Remove(link)
		_, err = os.ReadFile("/proc/1/root" + path)
		tried("read through /proc", err == nil, path)
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
		if err == nil {
			file.Close()
		}
		tried("write a file", err == nil, path)
		tried("rename into the site", os.Rename(path, link) == nil, path)
	}
	for _, path := range t.Folders {
		entries, err := os.ReadDir(path)
		tried("list a folder", err == nil && len(entries) > 0, path)
		tried("make a file", os.WriteFile(filepath.Join(path, "attack"), nil, 0o644) == nil, path)
		tried("remove a folder", os.Remove(path) == nil, path)
	}
}

// metadata is what Landlock does not restrict: only where nothing is there, nothing can be done to it.
func (t Targets) metadata() {
	for _, path := range append(t.Files, t.Folders...) {
		info, err := os.Lstat(path)
		tried("tell whether it is there", err == nil && !(info.IsDir() && onMadeUpRoot(path)), path)
		if err != nil || onMadeUpRoot(path) {
			tried("change a mode", false, path)
			continue
		}
		tried("change a mode", os.Chmod(path, info.Mode()) == nil, path)
		tried("change a time", os.Chtimes(path, info.ModTime(), info.ModTime()) == nil, path)
		tried("set an attribute", unix.Setxattr(path, "user.attack", []byte("x"), 0) == nil, path)
	}
}

// onMadeUpRoot tells whether a folder is one of the cell's own root, which only leads to the site's.
func onMadeUpRoot(path string) bool {
	var there unix.Statfs_t
	return unix.Statfs(path, &there) == nil && there.Type == unix.TMPFS_MAGIC
}

func (t Targets) processes() {
	tried("signal the service", syscall.Kill(t.Process, 0) == nil, t.Process)
	tried("limit the service", unix.Prlimit(t.Process, unix.RLIMIT_NOFILE, nil, &unix.Rlimit{}) == nil, t.Process)
	tried("slow the service down", unix.Setpriority(unix.PRIO_PROCESS, t.Process, 19) == nil, t.Process)
	var set unix.CPUSet
	set.Set(0)
	tried("bind the service to a processor", unix.SchedSetaffinity(t.Process, &set) == nil, t.Process)
	foreign := ""
	folders, _ := filepath.Glob("/proc/[0-9]*")
	for _, folder := range folders {
		if text, _ := os.ReadFile(folder + "/cmdline"); strings.Contains(string(text), "vessik\x00serve") || strings.Contains(string(text),
			"mariadbd") {
			foreign = folder
		}
	}
	tried("see others' processes", foreign != "", foreign)
	text, _ := os.ReadFile("/proc/sysvipc/shm")
	tried("see shared memory", strings.Count(string(text), "\n") > 1, "")
	_, err := unix.PtracePeekData(t.Process, 0, make([]byte, 8))
	tried("read another's memory", err == nil, "")
}

// families opens sockets of every family and odd types.
func families() {
	for name, each := range map[string][3]int{"netlink": {unix.AF_NETLINK, unix.SOCK_RAW, unix.NETLINK_SOCK_DIAG},
		"packet": {unix.AF_PACKET, unix.SOCK_RAW, 0}, "raw": {unix.AF_INET, unix.SOCK_RAW, unix.IPPROTO_TCP},
		"ping": {unix.AF_INET, unix.SOCK_DGRAM, unix.IPPROTO_ICMP}, "mptcp": {unix.AF_INET, unix.SOCK_STREAM, 262}, "sctp": {unix.AF_INET,
			unix.SOCK_STREAM, unix.IPPROTO_SCTP}, "vsock": {unix.AF_VSOCK, unix.SOCK_STREAM, 0},
		"crypto": {unix.AF_ALG, unix.SOCK_SEQPACKET, 0}, "bluetooth": {unix.AF_BLUETOOTH, unix.SOCK_RAW, 0}, "key": {unix.AF_KEY,
			unix.SOCK_RAW, 2}, "can": {unix.AF_CAN, unix.SOCK_RAW, 1}, "xdp": {unix.AF_XDP, unix.SOCK_RAW, 0}} {
		fd, err := unix.Socket(each[0], each[1], each[2])
		tried("open a socket: "+name, err == nil, err)
		if err == nil {
			unix.Close(fd)
		}
	}
}

func (t Targets) connections() {
	for _, path := range append(t.Sockets, "@attack-abstract", "/run/dbus/system_bus_socket", "/var/run/docker.sock") {
		connection, err := net.DialTimeout("unix", path, time.Second)
		if err == nil {
			connection.Close()
		}
		tried("connect to a unix socket", err == nil, path)
	}
	for _, port := range t.Ports {
		for _, host := range []string{"127.0.0.1", "[::1]", "[::ffff:127.0.0.1]", "0.0.0.0", "127.0.0.2"} {
			connection, err := net.DialTimeout("tcp", fmt.Sprintf("%s:%d", host, port), time.Second)
			if err == nil {
				connection.Close()
			}
			tried("connect to a port of this machine", err == nil, fmt.Sprint(host, ":", port))
		}
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
		if err == nil {
			err = unix.Sendto(fd, []byte("GET / HTTP/1.0\r\n\r\n"), unix.MSG_FASTOPEN, &unix.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}})
			tried("connect without connect(2)", err == nil, port)
			unix.Close(fd)
		}
	}
}

// kernel asks for what a cell's programs have no business with.
func (t Targets) kernel() {
	calls := map[string][]uintptr{"unshare": {unix.SYS_UNSHARE, unix.CLONE_NEWUSER}, "mount": {unix.SYS_MOUNT, 0, 0, 0, unix.MS_REMOUNT},
		"setns": {unix.SYS_SETNS, 0, 0}, "chroot": {unix.SYS_CHROOT, 0}, "pivot_root": {unix.SYS_PIVOT_ROOT},
		"bpf": {unix.SYS_BPF, 0}, "keyctl": {unix.SYS_KEYCTL, 0}, "add_key": {unix.SYS_ADD_KEY}, "io_uring_setup": {unix.SYS_IO_URING_SETUP,
			1}, "userfaultfd": {unix.SYS_USERFAULTFD, 1}, "perf_event_open": {unix.SYS_PERF_EVENT_OPEN},
		"open_by_handle_at": {unix.SYS_OPEN_BY_HANDLE_AT}, "init_module": {unix.SYS_INIT_MODULE}, "kexec_load": {unix.SYS_KEXEC_LOAD},
		"process_vm_readv": {unix.SYS_PROCESS_VM_READV, uintptr(t.Process)},
		"pidfd_getfd":      {unix.SYS_PIDFD_GETFD, 0, 0, 0}, "ptrace": {unix.SYS_PTRACE,
			0}, "swapon": {unix.SYS_SWAPON}, "reboot": {unix.SYS_REBOOT}, "settimeofday": {unix.SYS_SETTIMEOFDAY}, "fsopen": {unix.SYS_FSOPEN},
		"open_tree": {unix.SYS_OPEN_TREE}}
	for name, call := range calls {
		arguments := append(call, make([]uintptr, 7-len(call))...)
		_, _, errno := unix.RawSyscall6(arguments[0], arguments[1], arguments[2], arguments[3], arguments[4], arguments[5], arguments[6])
		tried("call "+name, errno != unix.ENOSYS && errno != unix.EPERM, errno)
	}
	character := byte('x')
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, 0, unix.TIOCSTI, uintptr(unsafe.Pointer(&character)))
	tried("type into the terminal", errno == 0, errno)
	status, _ := os.ReadFile("/proc/self/status")
	for line := range strings.Lines(string(status)) {
		for _, kind := range []string{"CapEff:", "CapPrm:", "CapBnd:", "CapAmb:"} {
			if rest, ok := strings.CutPrefix(line, kind); ok && kind != "CapBnd:" {
				tried("have privileges: "+strings.TrimSuffix(kind, ":"), strings.Trim(strings.TrimSpace(rest), "0") != "", strings.TrimSpace(rest))
			}
		}
	}
}

// inherited looks for what was left open, and for what the environment tells.
func inherited(own, logs string) {
	entries, _ := os.ReadDir("/proc/self/fd")
	for _, entry := range entries {
		target, err := os.Readlink("/proc/self/fd/" + entry.Name())
		if err == nil && strings.HasPrefix(target, "/") && !strings.HasPrefix(target, "/proc/") && !strings.HasPrefix(target, "/dev/") &&
			!strings.HasPrefix(target, own) && !strings.HasPrefix(target, logs) {
			tried("inherit a descriptor", true, target)
		}
	}
	tried("inherit a descriptor", false, len(entries))
	secret := ""
	for _, variable := range os.Environ() {
		if strings.HasPrefix(variable, "ATTACK_SECRET") {
			secret = variable
		}
	}
	tried("find a secret in the environment", secret != "", secret)
}

// limits takes as much as it gets.
func limits(own string) {
	memory := [][]byte{}
	for range 64 {
		block, err := unix.Mmap(-1, 0, 64<<20, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANON)
		if err != nil {
			break
		}
		memory = append(memory, block)
	}
	tried("take 4 GB of memory", len(memory) == 64, fmt.Sprint(len(memory)*64, " MB"))
	for _, block := range memory {
		unix.Munmap(block)
	}
	started := []*os.Process{}
	for range 600 {
		p, err := os.StartProcess("/bin/sleep", []string{"sleep", "20"}, &os.ProcAttr{})
		if err != nil {
			break
		}
		started = append(started, p)
	}
	tried("start 600 processes", len(started) == 600, len(started))
	for _, p := range started {
		p.Kill()
		p.Wait()
	}
	files := []*os.File{}
	for range 20000 {
		file, err := os.Open("/dev/null")
		if err != nil {
			break
		}
		files = append(files, file)
	}
	tried("open 20000 files", len(files) == 20000, len(files))
	for _, file := range files {
		file.Close()
	}
	big := filepath.Join(own, "attack-big")
	file, err := os.Create(big)
	if err == nil {
		tried("make a file of 1 TB", file.Truncate(1<<40) == nil, "")
		file.Close()
		os.Remove(big)
	}
}
