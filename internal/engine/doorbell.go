package engine

import (
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// Doorbell waits, for any number of listening sockets at once and with one sleeping thread, until somebody connects. It takes no
// connection: whoever is started by it does.
type Doorbell struct {
	mu    sync.Mutex
	epoll int
	rings map[int32]func()
}

// NewDoorbell opens one; see epoll(7).
func NewDoorbell() (*Doorbell, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, os.NewSyscallError("epoll_create1", err)
	}
	d := &Doorbell{epoll: fd, rings: map[int32]func(){}}
	go d.wait()
	return d, nil
}

func (d *Doorbell) wait() {
	events := make([]unix.EpollEvent, 64)
	for {
		n, err := unix.EpollWait(d.epoll, events, -1)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return // closed
		}
		for _, event := range events[:n] {
			d.mu.Lock()
			ring := d.rings[event.Fd]
			delete(d.rings, event.Fd)
			d.mu.Unlock()
			if ring != nil {
				go ring()
			}
		}
	}
}

// Watch rings once, at the next connection or at once where one waits already.
func (d *Doorbell) Watch(socket *os.File, ring func()) error {
	fd := int(socket.Fd())
	d.mu.Lock()
	defer d.mu.Unlock()
	d.rings[int32(fd)] = ring
	event := unix.EpollEvent{Events: unix.EPOLLIN | unix.EPOLLONESHOT, Fd: int32(fd)}
	err := unix.EpollCtl(d.epoll, unix.EPOLL_CTL_MOD, fd, &event)
	if err == unix.ENOENT {
		err = unix.EpollCtl(d.epoll, unix.EPOLL_CTL_ADD, fd, &event)
	}
	return os.NewSyscallError("epoll_ctl", err)
}

// Leave stops watching a socket, before it is closed.
func (d *Doorbell) Leave(socket *os.File) {
	fd := int(socket.Fd())
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.rings, int32(fd))
	unix.EpollCtl(d.epoll, unix.EPOLL_CTL_DEL, fd, nil)
}
