package engine

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// States of TCP sockets that are asked for, as the kernel numbers them (include/net/tcp_states.h).
const (
	established = 1
	listens     = 10
)

// socketRow is one TCP socket of this machine.
type socketRow struct {
	port  int // local
	inode string
}

// sockets are the machine's TCP sockets of one state. The kernel is asked for these alone: its tables have a line for each connection of
// the last minute as well, and are read where it does not answer.
func sockets(state int) []socketRow {
	rows := []socketRow{}
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		found, err := diagnosed(family, state)
		if err != nil {
			return tabled(state)
		}
		rows = append(rows, found...)
	}
	return rows
}

// diagnosis is what is asked of sock_diag(7): struct inet_diag_req_v2, whose last part names no socket.
type diagnosis struct {
	header                           unix.NlMsghdr
	family, protocol, extension, pad uint8
	states                           uint32
	_                                [48]byte
}

// What is read of its answer, struct inet_diag_msg, behind each message's header: lengths and places in bytes.
const (
	answerLength = 72
	atPort       = 4
	atInode      = 68
)

func diagnosed(family uint8, state int) ([]socketRow, error) {
	socket, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, err
	}
	defer unix.Close(socket)
	const byFamily = 20 // SOCK_DIAG_BY_FAMILY
	asked := diagnosis{family: family, protocol: unix.IPPROTO_TCP, states: 1 << state}
	asked.header = unix.NlMsghdr{Len: uint32(unsafe.Sizeof(asked)), Type: byFamily, Flags: unix.NLM_F_REQUEST | unix.NLM_F_DUMP}
	if err := unix.Sendto(socket, unsafe.Slice((*byte)(unsafe.Pointer(&asked)), unsafe.Sizeof(asked)), 0,
		&unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return nil, err
	}
	rows, buffer := []socketRow{}, make([]byte, 64<<10)
	for {
		n, _, err := unix.Recvfrom(socket, buffer, 0)
		if err != nil {
			return nil, err
		}
		for rest := buffer[:n]; len(rest) >= unix.NLMSG_HDRLEN; {
			length, kind := int(binary.NativeEndian.Uint32(rest)), binary.NativeEndian.Uint16(rest[4:])
			switch {
			case kind == unix.NLMSG_DONE:
				return rows, nil
			case kind == unix.NLMSG_ERROR || length < unix.NLMSG_HDRLEN || length > len(rest):
				return nil, fmt.Errorf("the kernel does not tell its sockets")
			case length >= unix.NLMSG_HDRLEN+answerLength:
				answer := rest[unix.NLMSG_HDRLEN:]
				rows = append(rows, socketRow{int(binary.BigEndian.Uint16(answer[atPort:])),
					strconv.FormatUint(uint64(binary.NativeEndian.Uint32(answer[atInode:])), 10)})
			}
			rest = rest[min(len(rest), (length+3)&^3):]
		}
	}
}

// tabled reads the kernel's tables, see proc_pid_net(5).
func tabled(state int) []socketRow {
	rows := []socketRow{}
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		file, err := os.Open(table)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(file)
		for lines.Scan() {
			fields := strings.Fields(lines.Text())
			if len(fields) < 10 || fields[3] != fmt.Sprintf("%02X", state) {
				continue
			}
			_, hexPort, _ := strings.Cut(fields[1], ":")
			if number, err := hex.DecodeString(hexPort); err == nil && len(number) == 2 {
				rows = append(rows, socketRow{int(number[0])<<8 | int(number[1]), fields[9]})
			}
		}
		file.Close()
	}
	return rows
}
