package engine

import (
	"context"
	"errors"
	"net"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"vessik/internal/proc"
)

// lastAnswers is how long a program that was asked to end may go on with what it is working on.
const lastAnswers = 30 * time.Second

// held is a listening socket that the service holds, and the program that serves it: started by the first connection, put to rest when
// nobody asks any more, exchanged while it runs. What comes in meanwhile waits in the socket: nothing is lost.
type held struct {
	bell     *Doorbell
	listener net.Listener
	handed   *os.File                                     // the service's copy of the socket, handed to every program
	begin    func(context.Context) (*proc.Process, error) // starts the program as it is configured now
	givenUp  func(error)                                  // told, once, that the socket was closed because the program keeps dying

	mu      sync.Mutex // held while the program starts or stops
	state   sync.Mutex // guards what follows
	process *proc.Process
	onHold  bool // between Hold and Release: nobody wakes it
	closed  bool
}

// portPatience is how long a port may be held by nobody who means to: a program that is just ending, or one that is being started and has
// not let go yet of what it got from this one.
const portPatience = time.Second

// listenOn opens a port of loopback that a program is handed: for plain TCP, which is what web servers and databases make of it.
func listenOn(ctx context.Context, port int) (*net.TCPListener, error) {
	var config net.ListenConfig
	config.SetMultipathTCP(false)
	for until := time.Now().Add(portPatience); ; {
		listener, err := config.Listen(ctx, "tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		if err == nil {
			return listener.(*net.TCPListener), nil
		}
		if !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(until) {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

var errClosed = errors.New("the site was stopped")

// take begins to hold a listener.
func (h *held) take(listener net.Listener) error {
	file, ok := listener.(interface{ File() (*os.File, error) })
	if !ok {
		return errors.New("not a socket")
	}
	var err error
	h.listener = listener
	if h.handed, err = file.File(); err != nil {
		listener.Close()
		return err
	}
	return h.watch()
}

// watch has the first connection wake the program.
func (h *held) watch() error {
	return h.bell.Watch(h.handed, func(ctx context.Context) {
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		err := h.Wake(ctx)
		for attempt := 0; attempt < 2 && err != nil && !h.Broken(); attempt++ {
			err = h.Wake(ctx)
		}
		if err != nil && !errors.Is(err, context.Canceled) { // the service does not end
			h.giveUp(err)
		}
	})
}

// Wake starts the program unless it runs, and returns once it serves.
func (h *held) Wake(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.running() != nil {
		return nil
	}
	if h.Broken() {
		return errClosed
	}
	if h.isOnHold() { // it starts again with Release, as it is then
		return nil
	}
	h.bell.Leave(h.handed) // who starts it need not be the first visitor
	process, err := h.begin(ctx)
	if err != nil {
		return err
	}
	h.adopt(process)
	return nil
}

func (h *held) running() *proc.Process {
	h.state.Lock()
	defer h.state.Unlock()
	return h.process
}

func (h *held) adopt(process *proc.Process) {
	h.state.Lock()
	defer h.state.Unlock()
	h.process = process
	if process != nil {
		h.onHold = false
	}
}

func (h *held) isOnHold() bool {
	h.state.Lock()
	defer h.state.Unlock()
	return h.onHold
}

func (h *held) setOnHold(yes bool) {
	h.state.Lock()
	defer h.state.Unlock()
	h.onHold = yes
}

// Rest ends the program after its last answer; the next connection wakes it.
func (h *held) Rest() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	process := h.running()
	if process == nil || h.Broken() {
		return nil
	}
	h.adopt(nil)
	process.StopWithin(lastAnswers)
	return h.watch()
}

// Hold ends the program after its last answer and lets everybody who comes wait, until Release.
func (h *held) Hold() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.bell.Leave(h.handed)
	h.setOnHold(true)
	if process := h.running(); process != nil {
		h.adopt(nil)
		process.StopWithin(lastAnswers)
	}
}

// Release ends Hold.
func (h *held) Release() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.setOnHold(false)
	if h.running() != nil || h.Broken() {
		return nil
	}
	return h.watch()
}

// waits tells whether somebody has connected whom nobody has answered yet.
func (h *held) waits() (yes bool) {
	h.state.Lock()
	defer h.state.Unlock()
	if h.closed {
		return false
	}
	raw, err := h.handed.SyscallConn()
	if err != nil {
		return false
	}
	err = raw.Control(func(fd uintptr) {
		polled := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		count, err := unix.Poll(polled, 0)
		yes = err == nil && count > 0
	})
	return yes && err == nil
}

// PID is the program's process id; 0 while it is at rest.
func (h *held) PID() int {
	if process := h.running(); process != nil {
		return process.PID()
	}
	return 0
}

// Broken tells whether the socket was closed: the program was stopped or given up.
func (h *held) Broken() bool {
	h.state.Lock()
	defer h.state.Unlock()
	return h.closed
}

// giveUp closes the socket, so that visitors are answered instead of waiting.
func (h *held) giveUp(err error) {
	if h.closeSocket() {
		h.givenUp(err)
	}
}

// closeSocket makes new connections fail at once.
func (h *held) closeSocket() (first bool) {
	h.state.Lock()
	defer h.state.Unlock()
	if h.closed {
		return false
	}
	h.closed = true
	h.bell.Leave(h.handed)
	h.listener.Close()
	h.handed.Close()
	return true
}

// Stop ends the program and gives the socket up.
func (h *held) Stop() {
	h.closeSocket()
	h.mu.Lock()
	defer h.mu.Unlock()
	if process := h.running(); process != nil {
		process.Stop()
	}
}
