// Package proc runs child processes: it starts them so that they cannot outlive the service, waits until they are ready, restarts
// them when they die, and ends them in order.
package proc

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"vessik/internal/cell"
)

// Spec says what to run.
type Spec struct {
	Name      string // for people and the ledger
	Program   string
	Arguments []string
	Env       []string
	Dir       string
	Log       string     // file that standard output and error are added to
	Files     []*os.File // handed over as descriptor 3 and on
	Cell      cell.Cell  // what it has of the machine

	// Ready returns nil once the process serves. It is called until it does, every few milliseconds.
	Ready func(ctx context.Context) error
	// StartWithin bounds the wait for Ready.
	StartWithin time.Duration
	// StopSignal asks the process to end in order, SIGTERM where zero; after Grace its whole group is killed.
	StopSignal syscall.Signal
	Grace      time.Duration
	// Attempts is how often in a row it may die young before it is given up; 0 tries for ever.
	Attempts int
	// GivenUp is told why, once, when no further start is tried.
	GivenUp func(error)
	// Restarted is told each time it serves again after it died.
	Restarted func()
}

// Supervisor starts processes and looks after them.
type Supervisor struct {
	cells  *cell.Cells
	ledger *ledger
}

// NewSupervisor has every process live in a cell.
func NewSupervisor(cells *cell.Cells, ledgerPath string) *Supervisor {
	return &Supervisor{cells: cells, ledger: &ledger{path: ledgerPath, entries: map[int]ledgerEntry{}}}
}

// Command is a program that is run once, in a cell.
func (s *Supervisor) Command(c cell.Cell, program string, arguments ...string) (*cell.Program, error) {
	return s.cells.Command(c, nil, program, arguments...)
}

// Abilities are the walls that this machine can raise.
func (s *Supervisor) Abilities() cell.Abilities { return s.cells.Abilities }

// Process is one that is looked after until Stop.
type Process struct {
	spec       Spec
	supervisor *Supervisor

	mu       sync.Mutex
	pid      int
	grace    time.Duration // that its stop was asked for with
	ready    time.Time     // since when it has been running
	stopping chan struct{}
	ended    chan struct{} // the looking-after is over
	stopOnce sync.Once
}

// Start starts a process and waits until it is ready. On failure nothing of it is left.
func (s *Supervisor) Start(ctx context.Context, spec Spec) (*Process, error) {
	p := &Process{spec: spec, supervisor: s, stopping: make(chan struct{}), ended: make(chan struct{})}
	exited, err := p.start(ctx)
	if err != nil {
		return nil, err
	}
	go p.lookAfter(exited)
	return p, nil
}

// PID is the running process's id, 0 while there is none.
func (p *Process) PID() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.pid
}

// RunningSince is when the process became ready; zero while there is none.
func (p *Process) RunningSince() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pid == 0 {
		return time.Time{}
	}
	return p.ready
}

// Signal sends a signal to the main process.
func (p *Process) Signal(signal syscall.Signal) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pid == 0 {
		return fmt.Errorf("%s is not running", p.spec.Name)
	}
	return syscall.Kill(p.pid, signal)
}

// Stop ends the process and everything that it started.
func (p *Process) Stop() { p.StopWithin(p.spec.Grace) }

// StopWithin is Stop with another grace than the process's own.
func (p *Process) StopWithin(grace time.Duration) {
	p.stopOnce.Do(func() {
		p.mu.Lock()
		p.grace = grace
		p.mu.Unlock()
		close(p.stopping)
	})
	<-p.ended
}

// start makes one attempt and waits for readiness.
func (p *Process) start(ctx context.Context) (exited chan error, err error) {
	spec := p.spec
	offset := fileSize(spec.Log)
	log, err := os.OpenFile(spec.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", spec.Name, err)
	}
	defer log.Close()
	command, err := p.supervisor.cells.Command(spec.Cell, spec.Files, spec.Program, spec.Arguments...)
	if err != nil {
		return nil, err
	}
	command.Env, command.Dir, command.Stdout, command.Stderr = spec.Env, spec.Dir, log, log
	if err := command.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", spec.Name, err)
	}
	pid := command.Process.Pid
	p.supervisor.ledger.add(spec.Name, pid)
	exited = make(chan error, 1)
	go func() {
		err := command.Wait()
		p.supervisor.ledger.remove(pid)
		exited <- err
	}()
	ctx, cancel := context.WithTimeout(ctx, max(spec.StartWithin, time.Second))
	defer cancel()
	for spec.Ready != nil {
		ready := spec.Ready(ctx)
		if ready == nil {
			break
		}
		select {
		case err := <-exited:
			return nil, fmt.Errorf("%s ended at its start (%v): %s", spec.Name, err, logTail(spec.Log, offset))
		case <-p.stopping:
			endGroup(pid, time.Second)
			return nil, context.Canceled
		case <-ctx.Done():
			endGroup(pid, time.Second)
			return nil, fmt.Errorf("%s is not ready (%v): %s", spec.Name, ready, logTail(spec.Log, offset))
		case <-time.After(2 * time.Millisecond):
		}
	}
	p.mu.Lock()
	p.pid, p.ready = pid, time.Now()
	p.mu.Unlock()
	return exited, nil
}

// lookAfter owns the process until Stop: it restarts it with a growing pause when it dies young.
func (p *Process) lookAfter(exited chan error) {
	defer close(p.ended)
	young, since := 0, time.Now()
	for {
		select {
		case <-p.stopping:
			p.end(exited)
			return
		case <-exited:
		}
		p.mu.Lock()
		p.pid = 0
		p.mu.Unlock()
		if time.Since(since) > 10*time.Second {
			young = 0
		}
		for {
			young++
			if p.spec.Attempts > 0 && young > p.spec.Attempts {
				if p.spec.GivenUp != nil {
					p.spec.GivenUp(fmt.Errorf("%s died %d times in a row: %s", p.spec.Name, young-1, logTail(p.spec.Log, fileSize(p.spec.Log)-2000)))
				}
				<-p.stopping
				return
			}
			pause := time.Duration(0)
			if young > 1 {
				pause = min(50*time.Millisecond<<min(young, 10), 5*time.Second)
			}
			select {
			case <-p.stopping:
				return
			case <-time.After(pause):
			}
			since = time.Now()
			again, err := p.start(context.Background())
			if err == nil {
				exited = again
				if p.spec.Restarted != nil {
					go p.spec.Restarted()
				}
				break
			}
			if errors.Is(err, context.Canceled) {
				return
			}
		}
	}
}

func (p *Process) end(exited chan error) {
	pid := p.PID()
	p.mu.Lock()
	signal, grace := p.spec.StopSignal, p.grace
	p.mu.Unlock()
	if signal == 0 {
		signal = syscall.SIGTERM
	}
	if grace == 0 {
		grace = 5 * time.Second
	}
	syscall.Kill(pid, signal)
	select {
	case <-exited:
	case <-time.After(grace):
		syscall.Kill(-pid, syscall.SIGKILL)
		<-exited
	}
	p.mu.Lock()
	p.pid = 0
	p.mu.Unlock()
}

func fileSize(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// logTail returns what a program last printed, from an offset, in one line.
func logTail(path string, offset int64) string {
	file, err := os.Open(path)
	if err != nil {
		return "it printed nothing"
	}
	defer file.Close()
	file.Seek(max(offset, fileSize(path)-2000, 0), io.SeekStart)
	text, _ := io.ReadAll(file)
	if tail := strings.Join(strings.Fields(string(text)), " "); tail != "" {
		return tail
	}
	return "it printed nothing"
}
