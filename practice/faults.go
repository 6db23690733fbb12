package practice

import (
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// meter counts what goes over the host's lines, and has them fail.
type meter struct {
	carried atomic.Int64
	mu      sync.Mutex
	faults  Faults
	since   int64 // bytes since the last cut
}

func (m *meter) set(f Faults) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.faults, m.since = f, 0
}

func (m *meter) now() Faults {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.faults
}

// went counts bytes; cut says that the line is to be cut now.
func (m *meter) went(bytes int) (cut bool) {
	m.carried.Add(int64(bytes))
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.faults.BytesPerSecond > 0 {
		pause := time.Duration(bytes) * time.Second / time.Duration(m.faults.BytesPerSecond)
		m.mu.Unlock()
		<-time.After(pause)
		m.mu.Lock()
	}
	if m.since += int64(bytes); m.faults.CutAfter > 0 && m.faults.Cuts > 0 && m.since >= m.faults.CutAfter {
		m.faults.Cuts--
		m.since = 0
		return true
	}
	return false
}

// mayWrite is why something cannot be written.
func (m *meter) mayWrite(bytes int) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case m.faults.ReadOnly:
		return syscall.EACCES
	case m.faults.Quota > 0:
		if int64(bytes) >= m.faults.Quota {
			m.faults.Quota = 1
			return syscall.ENOSPC
		}
		m.faults.Quota -= int64(bytes)
	}
	return nil
}

// over is a listener whose lines are counted and fail.
func (m *meter) over(l net.Listener) net.Listener { return &metered{l, m} }

type metered struct {
	net.Listener
	meter *meter
}

func (l *metered) Accept() (net.Conn, error) {
	connection, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &line{connection, l.meter}, nil
}

type line struct {
	net.Conn
	meter *meter
}

var errCut = errors.New("the line is cut, as the host was told to")

func (l *line) Read(text []byte) (int, error) {
	n, err := l.Conn.Read(text)
	if err == nil && l.meter.went(n) {
		l.Close()
		return 0, errCut
	}
	return n, err
}

func (l *line) Write(text []byte) (int, error) {
	if l.meter.went(len(text)) {
		l.Close()
		return 0, errCut
	}
	return l.Conn.Write(text)
}
