package engine

import (
	"context"
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"
)

// Doorbell waits, for any number of listening sockets at once and with one sleeping thread, until somebody connects. It takes no
// connection: whoever is started by it does.
type Doorbell struct {
	mu    sync.Mutex
	epoll int
	end   int // an eventfd(2) that ends the waiting
	rings map[int32]func(context.Context)

	context context.Context // of everything that rings
	cancel  context.CancelFunc
	owned   sync.WaitGroup
}

// NewDoorbell opens one; see epoll(7).
func NewDoorbell() (*Doorbell, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, os.NewSyscallError("epoll_create1", err)
	}
	d := &Doorbell{epoll: fd, rings: map[int32]func(context.Context){}}
	if d.end, err = unix.Eventfd(0, unix.EFD_CLOEXEC); err == nil {
		err = unix.EpollCtl(fd, unix.EPOLL_CTL_ADD, d.end, &unix.EpollEvent{Events: unix.EPOLLIN, Fd: int32(d.end)})
	}
	if err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("open a doorbell: %w", err)
	}
	d.context, d.cancel = context.WithCancel(context.Background())
	d.owned.Go(d.wait)
	return d, nil
}

// Close has nothing ring any more, and returns once nothing does.
func (d *Doorbell) Close() {
	d.cancel()
	one := [8]byte{1}
	unix.Write(d.end, one[:])
	d.owned.Wait()
	unix.Close(d.epoll)
	unix.Close(d.end)
}

func (d *Doorbell) wait() {
	events := make([]unix.EpollEvent, 64)
	for {
		n, err := unix.EpollWait(d.epoll, events, -1)
		if err == unix.EINTR {
			continue
		}
		if err != nil || d.context.Err() != nil {
			return
		}
		for _, event := range events[:n] {
			d.mu.Lock()
			ring := d.rings[event.Fd]
			delete(d.rings, event.Fd)
			d.mu.Unlock()
			if ring != nil {
				d.owned.Go(func() { ring(d.context) })
			}
		}
	}
}

// Watch rings once, at the next connection or at once where one waits already. What rings ends with the context that it is given.
func (d *Doorbell) Watch(socket *os.File, ring func(context.Context)) error {
	fd := int(socket.Fd())
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.context.Err() != nil {
		return nil // nobody is woken any more
	}
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
	if d.context.Err() != nil { // its descriptor may be another's by now
		return
	}
	unix.EpollCtl(d.epoll, unix.EPOLL_CTL_DEL, fd, nil)
}
