package proc

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vessik/internal/cell"
)

// supervisor keeps its ledger in a folder.
func supervisor(t *testing.T, dir string) *Supervisor {
	cells, err := cell.Open(dir)
	require.NoError(t, err)
	return NewSupervisor(cells, filepath.Join(dir, "ledger"))
}

func shell(t *testing.T, script string) (dir string, spec Spec) {
	dir = t.TempDir()
	return dir, Spec{Name: "a shell", Program: "/bin/sh", Arguments: []string{"-c", script}, Env: []string{"PATH=/usr/bin:/bin"}, Dir: dir,
		Log: filepath.Join(dir, "log"), Cell: cell.Cell{Init: true, WriteFolders: []string{dir}}, StartWithin: 5 * time.Second,
		Ready: func(context.Context) error { _, err := os.Stat(filepath.Join(dir, "ready")); return err }}
}

func TestAProcessIsReadyStoppedAndItsGroupEnds(t *testing.T) {
	dir, spec := shell(t, "sleep 300 & touch ready; wait")
	s := supervisor(t, dir)
	p, err := s.Start(context.Background(), spec)
	require.NoError(t, err)
	var started []int
	require.Eventually(t, func() bool { started = descendants(p.PID()); return len(started) == 2 }, 5*time.Second, 10*time.Millisecond,
		"the shell, and what it started, once touch has ended")
	child := started[1]
	assert.NotZero(t, p.PID())
	p.Stop()
	assert.Zero(t, p.PID())
	assert.Eventually(t, func() bool { return startTime(child) == "" }, 5*time.Second, 10*time.Millisecond, "what it started ends with it")
}

func TestAProcessThatEndsAtItsStartSaysWhy(t *testing.T) {
	_, spec := shell(t, "echo the garden gate is locked; exit 3")
	_, err := supervisor(t, spec.Dir).Start(context.Background(), spec)
	require.Error(t, err)
	assert.ErrorContains(t, err, "the garden gate is locked")
	assert.ErrorContains(t, err, "exit status 3")
}

func TestAProcessThatIsKilledComesBack(t *testing.T) {
	dir, spec := shell(t, "touch ready; exec sleep 300")
	back := make(chan struct{}, 1)
	spec.Restarted = func() { back <- struct{}{} }
	p, err := supervisor(t, dir).Start(context.Background(), spec)
	require.NoError(t, err)
	defer p.Stop()
	first := p.PID()
	require.NoError(t, p.Signal(syscall.SIGKILL))
	<-back
	assert.NotEqual(t, first, p.PID())
	assert.NotEmpty(t, startTime(p.PID()))
}

func TestAProcessThatKeepsDyingIsGivenUp(t *testing.T) {
	dir, spec := shell(t, "touch ready; sleep 0.05; echo rot at the root; exit 1")
	given := make(chan error, 1)
	spec.Attempts, spec.GivenUp = 3, func(err error) { given <- err }
	p, err := supervisor(t, dir).Start(context.Background(), spec)
	require.NoError(t, err)
	select {
	case err := <-given:
		assert.ErrorContains(t, err, "rot at the root")
	case <-time.After(20 * time.Second):
		t.Fatal("it was never given up")
	}
	p.Stop()
}

func TestWhatADeadServiceLeftIsEnded(t *testing.T) {
	dir, spec := shell(t, "touch ready; exec sleep 300")
	ledgerPath := filepath.Join(dir, "ledger")
	p, err := supervisor(t, dir).Start(context.Background(), spec)
	require.NoError(t, err)
	left := p.PID()
	ended := EndLeftovers(ledgerPath) // as the next service would
	assert.Len(t, ended, 1)
	assert.Empty(t, startTime(left), "it has ended when this returns")
	p.Stop()
	assert.Empty(t, EndLeftovers(ledgerPath), "nothing is known twice")
	// A process that happens to have a remembered id is not ours.
	text := `[{"name":"stranger","pid":` + strconv.Itoa(os.Getpid()) + `,"start":"1"}]`
	require.NoError(t, os.WriteFile(ledgerPath, []byte(text), 0o600))
	assert.Empty(t, EndLeftovers(ledgerPath))
}
