package cell

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// notification is struct seccomp_notif, response seccomp_notif_resp, handed seccomp_notif_addfd; see seccomp_unotify(2).
type notification struct {
	id        uint64
	pid       uint32 // of the thread
	flags     uint32
	number    int32
	arch      uint32
	pointer   uint64
	arguments [6]uint64
}

type response struct {
	id    uint64
	value int64
	errno int32
	flags uint32
}

type handed struct {
	id       uint64
	flags    uint32
	source   uint32
	target   uint32
	newFlags uint32
}

const (
	ioctlIDValid = 0x40082102 // SECCOMP_IOCTL_NOTIF_ID_VALID
	ioctlAddFD   = 0x40182103 // SECCOMP_IOCTL_NOTIF_ADDFD
	pidfdThread  = unix.O_EXCL
	// connectWithin is for how long a program that waits for its connection may, as tcp(7) would have it.
	connectWithin = 130 * time.Second
)

// governor answers a cell's connect(2) and bind(2). It never lets a stream go on by itself where that could lead out of the cell: what
// the program's memory says may have changed by then.
type governor struct {
	cell       Cell
	namespaces bool
	listener   int
}

// govern takes the listener from the launcher and answers until nobody is left who could ask.
func (p *Program) govern() {
	descriptors, err := receiveDescriptors(p.control[0])
	p.control[0].Close()
	if err != nil { // it never came that far, and says so itself
		return
	}
	fd := descriptors[0]
	if len(descriptors) == 3 {
		closeNames := answerNames(descriptors[1], descriptors[2], p.cell.Network.Names)
		defer closeNames()
	}
	if unix.SetNonblock(fd, true) != nil {
		unix.Close(fd)
		return
	}
	file := os.NewFile(uintptr(fd), "seccomp listener")
	defer file.Close()
	connection, err := file.SyscallConn()
	if err != nil {
		return
	}
	g := &governor{cell: p.cell, namespaces: p.namespaces, listener: fd}
	for {
		var asked notification
		ended := false
		err := connection.Read(func(fd uintptr) bool {
			ready := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
			if _, err := unix.Poll(ready, 0); err == unix.EINTR {
				return false
			}
			ended = ready[0].Revents&(unix.POLLHUP|unix.POLLERR) != 0 && ready[0].Revents&unix.POLLIN == 0
			return ended || ready[0].Revents&unix.POLLIN != 0
		})
		if err != nil || ended {
			return
		}
		switch err := ioctl(fd, unix.SECCOMP_IOCTL_NOTIF_RECV, unsafe.Pointer(&asked)); {
		case err == nil:
			go g.answer(asked)
		case errors.Is(err, unix.ENOENT), errors.Is(err, unix.EINTR):
		default:
			return
		}
	}
}

// answerNames has a cell's own name server answer.
func answerNames(datagrams, stream int, answer func(net.PacketConn, net.Listener)) (closed func()) {
	files := [2]*os.File{os.NewFile(uintptr(datagrams), "names"), os.NewFile(uintptr(stream), "names")}
	defer files[0].Close()
	defer files[1].Close()
	packets, err := net.FilePacketConn(files[0])
	if err != nil {
		return func() {}
	}
	streams, err := net.FileListener(files[1])
	if err != nil {
		packets.Close()
		return func() {}
	}
	answer(packets, streams)
	return func() {
		packets.Close()
		streams.Close()
	}
}

func receiveDescriptors(from *os.File) ([]int, error) {
	data, rights := make([]byte, 1), make([]byte, unix.CmsgSpace(3*4))
	connection, err := from.SyscallConn()
	if err != nil {
		return nil, err
	}
	n := 0
	if controlled := connection.Control(func(fd uintptr) {
		for {
			_, n, _, _, err = unix.Recvmsg(int(fd), data, rights, unix.MSG_CMSG_CLOEXEC)
			if !errors.Is(err, unix.EINTR) {
				return
			}
		}
	}); controlled != nil {
		return nil, controlled
	}
	if err != nil {
		return nil, err
	}
	messages, err := unix.ParseSocketControlMessage(rights[:n])
	if err != nil || len(messages) == 0 {
		return nil, errors.New("no listener came")
	}
	descriptors, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(descriptors) == 0 {
		return nil, errors.New("no listener came")
	}
	return descriptors, nil
}

func ioctl(fd int, request uintptr, argument unsafe.Pointer) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), request, uintptr(argument)); errno != 0 {
		return errno
	}
	return nil
}

// goOn lets the call be carried out as it was asked; only where it stays inside the cell, or cannot do what is not meant to be.
var goOn = response{flags: unix.SECCOMP_USER_NOTIF_FLAG_CONTINUE}

func fails(errno syscall.Errno) response { return response{errno: -int32(errno)} }

func (g *governor) answer(asked notification) {
	said := g.decide(asked)
	said.id = asked.id
	ioctl(g.listener, unix.SECCOMP_IOCTL_NOTIF_SEND, unsafe.Pointer(&said)) // ENOENT: it was killed meanwhile
}

func (g *governor) decide(asked notification) response {
	address, family, err := readAddress(int(asked.pid), asked.arguments[1], asked.arguments[2])
	if err != nil {
		return fails(unix.EFAULT)
	}
	if !g.stillAsks(asked) {
		return fails(unix.EINTR)
	}
	switch {
	case family == unix.AF_UNSPEC && g.namespaces:
		return goOn
	case family == unix.AF_UNSPEC && asked.number == unix.SYS_CONNECT:
		return g.disconnect(asked)
	case family == unix.AF_UNSPEC:
		return fails(unix.EACCES)
	case family == unix.AF_UNIX && (g.namespaces || asked.number == unix.SYS_BIND &&
		g.cell.UnixSockets): // only what is bound into the cell is there
		return goOn
	case family == unix.AF_UNIX:
		return fails(unix.EACCES)
	case asked.number == unix.SYS_BIND:
		return g.bind(asked, address)
	default:
		return g.connect(asked, address)
	}
}

func (g *governor) stillAsks(asked notification) bool {
	return ioctl(g.listener, ioctlIDValid, unsafe.Pointer(&asked.id)) == nil
}

// readAddress reads a struct sockaddr out of a program's memory.
func readAddress(pid int, pointer, size uint64) (address netip.AddrPort, family uint16, err error) {
	if size < 2 || size > 128 {
		return address, 0, unix.EINVAL
	}
	text := make([]byte, size)
	local := []unix.Iovec{{Base: &text[0], Len: size}}
	n, err := unix.ProcessVMReadv(pid, local, []unix.RemoteIovec{{Base: uintptr(pointer), Len: int(size)}}, 0)
	if err != nil || n != int(size) {
		return address, 0, fmt.Errorf("read the address: %w", err)
	}
	family = binary.NativeEndian.Uint16(text)
	switch {
	case family == unix.AF_INET && size >= unix.SizeofSockaddrInet4:
		address = netip.AddrPortFrom(netip.AddrFrom4([4]byte(text[4:8])), binary.BigEndian.Uint16(text[2:]))
	case family == unix.AF_INET6 && size >= unix.SizeofSockaddrInet6:
		address = netip.AddrPortFrom(netip.AddrFrom16([16]byte(text[8:24])).Unmap(), binary.BigEndian.Uint16(text[2:]))
	}
	return address, family, nil
}

// bind hands over the listening socket that the service holds for the port. Any other stays in the cell's own network, where nobody is.
func (g *governor) bind(asked notification, address netip.AddrPort) response {
	if held := g.cell.Listen[address.Port()]; held != nil && address.IsValid() {
		caller, err := g.borrow(asked)
		if err != nil {
			return fails(unix.EACCES)
		}
		defer caller.close()
		said := fails(unix.EACCES)
		if socket, err := held.SyscallConn(); err == nil {
			socket.Control(func(fd uintptr) { // which nobody closes meanwhile
				if unix.SetNonblock(int(fd), caller.nonblocking) == nil { // as the program made its own, and may not say again
					said = g.replace(asked, caller, int(fd), response{})
				}
			})
		}
		return said
	}
	if g.namespaces {
		return goOn
	}
	return fails(unix.EACCES)
}

// connect makes the connection itself and puts it in the place of the caller's socket.
func (g *governor) connect(asked notification, address netip.AddrPort) response {
	nowhere := fails(unix.ECONNREFUSED)
	if g.namespaces {
		nowhere = goOn // in a network in which there is nothing
	}
	if g.cell.Network == nil || !address.IsValid() {
		return nowhere
	}
	caller, err := g.borrow(asked)
	if err != nil {
		return nowhere
	}
	defer caller.close()
	switch {
	case address.Port() == 53 && g.namespaces: // the cell's own
		return goOn
	case caller.kind == unix.SOCK_DGRAM && (g.namespaces || g.cell.Network.Names == nil || !nameServer(address)):
		return nowhere
	}
	route := g.cell.Network.Reach(address)
	if !route.To.IsValid() {
		return nowhere
	}
	socket, err := caller.alike(route.To)
	if err != nil {
		return fails(unix.ENETUNREACH)
	}
	defer unix.Close(socket)
	began := time.Now()
	err = unix.Connect(socket, sockaddr(route.To, caller.family))
	switch {
	case errors.Is(err, unix.EINPROGRESS) && caller.nonblocking:
		if route.Ended != nil {
			follow(socket, began, route.Ended)
		}
		return g.replace(asked, caller, socket, fails(unix.EINPROGRESS))
	case errors.Is(err, unix.EINPROGRESS):
		err = g.await(asked, socket, caller.patience)
	}
	if route.Ended != nil {
		route.Ended(time.Since(began), err)
	}
	var errno syscall.Errno
	if errors.As(err, &errno) {
		return fails(errno)
	}
	if !caller.nonblocking && unix.SetNonblock(socket, false) != nil {
		return fails(unix.EIO)
	}
	return g.replace(asked, caller, socket, response{})
}

// disconnect takes a socket's connection away, as connect(2) does for an address of no family. The service does it itself: by the time
// that the kernel reads the address again, it may be one of some family.
func (g *governor) disconnect(asked notification) response {
	caller, err := g.borrow(asked)
	if err != nil {
		return fails(unix.EACCES)
	}
	defer caller.close()
	nobody := unix.RawSockaddr{Family: unix.AF_UNSPEC}
	_, _, errno := unix.Syscall(unix.SYS_CONNECT, uintptr(caller.fd), uintptr(unsafe.Pointer(&nobody)), unsafe.Sizeof(nobody))
	return response{errno: -int32(errno)}
}

// nameServer tells whether this machine asks for names there (resolv.conf(5)); without namespaces sites ask what it asks.
func nameServer(address netip.AddrPort) bool {
	text, err := os.ReadFile("/etc/resolv.conf")
	return err == nil && address.Port() == 53 && slices.Contains(strings.Fields(string(text)), address.Addr().String())
}

// await waits until a connection stands, as long as somebody waits for it.
func (g *governor) await(asked notification, socket int, patience time.Duration) error {
	for end := time.Now().Add(patience); time.Now().Before(end) && g.stillAsks(asked); {
		ready := []unix.PollFd{{Fd: int32(socket), Events: unix.POLLOUT}}
		n, err := unix.Poll(ready, int(min(time.Until(end), time.Second).Milliseconds())+1)
		if err != nil && err != unix.EINTR {
			return err
		}
		if n == 0 {
			continue
		}
		value, err := unix.GetsockoptInt(socket, unix.SOL_SOCKET, unix.SO_ERROR)
		if err != nil {
			return err
		}
		if value != 0 {
			return syscall.Errno(value)
		}
		return nil
	}
	return unix.ETIMEDOUT
}

// Bounds of how connections that their programs do not wait for are followed: how many at a time, and for how long each.
const (
	followMost  = 256
	followUntil = 20 * time.Second
)

var following = make(chan struct{}, followMost)

// errUnfollowed says that nobody knows what became of a connection.
var errUnfollowed = errors.New("not followed")

// follow tells of a connection that is being made, once it stands or does not. It leaves the socket's fault to the program.
func follow(socket int, began time.Time, ended func(time.Duration, error)) {
	select {
	case following <- struct{}{}:
	default:
		return
	}
	own, err := unix.FcntlInt(uintptr(socket), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		<-following
		return
	}
	file := os.NewFile(uintptr(own), "connection") // here: the program may soon have its socket wait again, and this one with it
	connection, err := file.SyscallConn()
	if err := errors.Join(err, file.SetWriteDeadline(began.Add(followUntil))); err != nil {
		file.Close()
		<-following
		return
	}
	go func() {
		defer func() { <-following }()
		defer file.Close()
		fault := errUnfollowed
		waited := connection.Write(func(fd uintptr) bool {
			info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO)
			switch {
			case err != nil:
				fault = err
			case info.State == tcpSynSent:
				return false
			case info.State == tcpClose && info.Rtt == 0: // else it stood, and was broken off since
				fault = unix.ECONNREFUSED
			default:
				fault = nil
			}
			return true
		})
		ended(time.Since(began), errors.Join(waited, fault))
	}()
}

// States of a connection, of enum tcp_state in Linux.
const (
	tcpSynSent = 2
	tcpClose   = 7
)

func (g *governor) replace(asked notification, caller borrowed, socket int, then response) response {
	added := handed{id: asked.id, flags: unix.SECCOMP_ADDFD_FLAG_SETFD, source: uint32(socket), target: uint32(asked.arguments[0]),
		newFlags: uint32(caller.flags & unix.O_CLOEXEC)}
	if err := ioctl(g.listener, ioctlAddFD, unsafe.Pointer(&added)); err != nil {
		return fails(unix.EACCES)
	}
	return then
}

// borrowed is the service's own descriptor of a caller's socket, and what the new one must have of it.
type borrowed struct {
	fd           int
	family, kind int
	flags        int // O_CLOEXEC among them
	nonblocking  bool
	patience     time.Duration
}

func (b borrowed) close() { unix.Close(b.fd) }

func (g *governor) borrow(asked notification) (borrowed, error) {
	thread, err := unix.PidfdOpen(int(asked.pid), pidfdThread)
	if err != nil { // before Linux 6.9 only a process's first thread can be named
		if thread, err = unix.PidfdOpen(processOf(int(asked.pid)), 0); err != nil {
			return borrowed{}, err
		}
	}
	defer unix.Close(thread)
	b := borrowed{}
	if b.fd, err = unix.PidfdGetfd(thread, int(int32(asked.arguments[0])), 0); err != nil {
		return borrowed{}, err
	}
	var faults [4]error
	b.family, faults[0] = unix.GetsockoptInt(b.fd, unix.SOL_SOCKET, unix.SO_DOMAIN)
	b.kind, faults[1] = unix.GetsockoptInt(b.fd, unix.SOL_SOCKET, unix.SO_TYPE)
	status, err := unix.FcntlInt(uintptr(b.fd), unix.F_GETFL, 0)
	faults[2], b.nonblocking = err, status&unix.O_NONBLOCK != 0
	b.flags, b.patience = descriptorFlags(int(asked.pid), int(int32(asked.arguments[0]))), connectWithin
	if limit, err := unix.GetsockoptTimeval(b.fd, unix.SOL_SOCKET, unix.SO_SNDTIMEO); err == nil && limit.Nano() > 0 {
		b.patience = time.Duration(limit.Nano())
	}
	if !g.stillAsks(asked) {
		faults[3] = unix.EINTR
	}
	if err := errors.Join(faults[:]...); err != nil {
		b.close()
		return borrowed{}, err
	}
	return b, nil
}

// alike makes a socket as the caller's, with the options that were set on it.
func (b borrowed) alike(to netip.AddrPort) (int, error) {
	if b.family != unix.AF_INET && b.family != unix.AF_INET6 || b.family == unix.AF_INET && !to.Addr().Is4() {
		return -1, unix.EAFNOSUPPORT
	}
	socket, err := unix.Socket(b.family, b.kind|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return -1, err
	}
	for _, option := range [][2]int{{unix.SOL_SOCKET, unix.SO_KEEPALIVE}, {unix.IPPROTO_TCP, unix.TCP_NODELAY}, {unix.IPPROTO_TCP,
		unix.TCP_USER_TIMEOUT}} {
		if value, err := unix.GetsockoptInt(b.fd, option[0], option[1]); err == nil && value != 0 {
			unix.SetsockoptInt(socket, option[0], option[1], value)
		}
	}
	for _, option := range []int{unix.SO_RCVTIMEO, unix.SO_SNDTIMEO} {
		if limit, err := unix.GetsockoptTimeval(b.fd, unix.SOL_SOCKET, option); err == nil && limit.Nano() > 0 {
			unix.SetsockoptTimeval(socket, unix.SOL_SOCKET, option, limit)
		}
	}
	return socket, nil
}

func sockaddr(address netip.AddrPort, family int) unix.Sockaddr {
	if family == unix.AF_INET {
		return &unix.SockaddrInet4{Port: int(address.Port()), Addr: address.Addr().As4()}
	}
	return &unix.SockaddrInet6{Port: int(address.Port()), Addr: address.Addr().As16()}
}

// descriptorFlags reads the flags of a descriptor, among which is whether it is closed on exec; see proc_pid_fdinfo(5).
func descriptorFlags(pid, fd int) int {
	path := fmt.Sprintf("/proc/%d/fdinfo/%d", pid, fd)
	file, err := unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0) // for each connection, so it must be quick
	if err != nil {
		return unix.O_CLOEXEC
	}
	defer unix.Close(file)
	text := make([]byte, 256)
	n, _ := unix.Read(file, text)
	_, rest, _ := strings.Cut(string(text[:max(n, 0)]), "flags:")
	octal, _, _ := strings.Cut(rest, "\n")
	flags, err := strconv.ParseInt(strings.TrimSpace(octal), 8, 64)
	if err != nil {
		return unix.O_CLOEXEC
	}
	return int(flags)
}

// processOf is the process that a thread belongs to.
func processOf(thread int) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", thread))
	if err != nil {
		return thread
	}
	process := thread
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "Tgid:"); ok {
			fmt.Sscan(rest, &process)
		}
	}
	return process
}
