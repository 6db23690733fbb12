package main

import (
	"encoding/binary"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// rounds is how often what changes while it is judged is tried at least, and patience how long until a connection has stood: a busy machine
// may have what changes the memory wait for longer than all rounds take.
const (
	rounds   = 300
	patience = 20 * time.Second
)

// judged tries to have something else connected than what was judged: by memory that changes meanwhile, by many threads, by processes that
// are started meanwhile, without waiting, and by calls of another architecture.
func (t Targets) judged() {
	for _, port := range t.Ports {
		t.changing(port)
		withoutWaiting(port)
	}
	tried("call as a 32-bit program does", oldCall(), "int 0x80")
}

// word is the beginning of a struct sockaddr_in as one word that changes at once: family and port.
func word(port int) uint32 {
	text := binary.NativeEndian.AppendUint16(nil, unix.AF_INET)
	return binary.NativeEndian.Uint32(binary.BigEndian.AppendUint16(text, uint16(port)))
}

// changing connects to the open port, which becomes the other one again and again.
func (t Targets) changing(port int) {
	address := struct {
		begin uint32
		host  [4]byte
		zero  [8]byte
	}{host: [4]byte{127, 0, 0, 1}}
	var ended atomic.Bool
	var changing, asking sync.WaitGroup
	changing.Go(func() {
		for words := [2]uint32{word(t.Open), word(port)}; !ended.Load(); {
			atomic.StoreUint32(&address.begin, words[0])
			atomic.StoreUint32(&address.begin, words[1])
		}
	})
	changing.Go(func() {
		for !ended.Load() {
			if p, err := os.StartProcess("/bin/true", []string{"true"}, &os.ProcAttr{}); err == nil {
				p.Wait()
			}
		}
	})
	var stood, leaked atomic.Int64
	until := time.Now().Add(patience)
	for range 4 {
		asking.Go(func() {
			for round := 0; round < rounds/4 || stood.Load() == 0 && time.Now().Before(until); round++ {
				fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
				if err != nil {
					continue
				}
				_, _, errno := unix.Syscall(unix.SYS_CONNECT, uintptr(fd), uintptr(unsafe.Pointer(&address)), unsafe.Sizeof(address))
				if peer, err := unix.Getpeername(fd); errno == 0 && err == nil {
					if in, ok := peer.(*unix.SockaddrInet4); ok && in.Port == port {
						leaked.Add(1)
					}
					stood.Add(1)
				}
				unix.Close(fd)
			}
		})
	}
	asking.Wait()
	ended.Store(true)
	changing.Wait()
	tried("change an address while it is judged", leaked.Load() > 0, fmt.Sprintf("%d of %d that stood", leaked.Load(), stood.Load()))
	tried("have connections lost that are let through", stood.Load() == 0, stood.Load()) // else nothing was tried
}

// withoutWaiting looks for the connection later.
func withoutWaiting(port int) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_NONBLOCK, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	unix.Connect(fd, &unix.SockaddrInet4{Port: port, Addr: [4]byte{127, 0, 0, 1}})
	time.Sleep(100 * time.Millisecond)
	_, err = unix.Getpeername(fd)
	tried("connect without waiting", err == nil, port)
}
