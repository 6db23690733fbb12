package engine

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// PortHolder says who holds a TCP port on loopback, as far as this account may know; empty when it is free. It asks by binding, so
// it also sees what only listens on all addresses; and it does not listen, so that nobody who asks or opens it meanwhile is kept out.
func PortHolder(port int) string {
	probe, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return fmt.Sprintf("nobody, but it could not be looked at: %v", err)
	}
	defer unix.Close(probe)
	unix.SetsockoptInt(probe, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	switch err := unix.Bind(probe, &unix.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}}); err {
	case nil:
		return ""
	case unix.EACCES:
		return "nobody, but only root may open it"
	default:
		return Listener(port)
	}
}

// listening are the sockets that listen on a port.
func listening(port int) map[string]bool {
	inodes := map[string]bool{}
	for _, row := range sockets(listens) {
		if row.port == port {
			inodes["socket:["+row.inode+"]"] = true
		}
	}
	return inodes
}

// connections counts who is connected, by port.
func connections() map[int]int {
	count := map[int]int{}
	for _, row := range sockets(established) {
		count[row.port]++
	}
	return count
}

// holds tells whether a process or one of its children has one of the sockets open.
func holds(pid int, sockets map[string]bool) bool {
	for _, each := range append(children(pid), strconv.Itoa(pid)) {
		folder := "/proc/" + each + "/fd/"
		descriptors, _ := os.ReadDir(folder) // of a process that has ended there are none
		for _, descriptor := range descriptors {
			if target, err := os.Readlink(folder + descriptor.Name()); err == nil && sockets[target] {
				return true
			}
		}
	}
	return false
}

// Listener names the process that listens on a port.
func Listener(port int) string { return cmp.Or(Listeners()[port], unknown) }

// unknown is who holds what this account may not look into.
const unknown = "another program (of another account)"

// Listeners names the processes that listen, by port, from the kernel's sockets and the open files in /proc. It connects to none: a site at
// rest would be woken.
func Listeners() map[int]string {
	holders, ports := map[int]string{}, map[string]int{}
	for _, row := range sockets(listens) {
		holders[row.port], ports["socket:["+row.inode+"]"] = unknown, row.port
	}
	descriptors, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, descriptor := range descriptors {
		target, err := os.Readlink(descriptor)
		port, listens := ports[target]
		if err != nil || !listens || holders[port] != unknown {
			continue
		}
		pid := strings.Split(descriptor, "/")[2]
		name, _ := os.ReadFile(filepath.Join("/proc", pid, "comm"))
		holders[port] = fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), pid)
	}
	return holders
}

// FirstUnprivilegedPort is the lowest port that an account without root's rights may open (ip(7)).
func FirstUnprivilegedPort() int {
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start")
	if err != nil {
		return 1024
	}
	port, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return 1024
	}
	return port
}
