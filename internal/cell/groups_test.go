package cell

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// grouped is for machines that let control groups be made; others hold limits by process.
func grouped(t *testing.T, controller string) *Cells {
	cells := open(t)
	if !slices.Contains(cells.Abilities.Groups, controller) {
		t.Skip("no control groups of version 2 with the controller ", controller)
	}
	return cells
}

func TestAGroupHoldsManySmallProcessesTogether(t *testing.T) {
	cells := grouped(t, "memory")
	program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}, Init: true, Limits: Limits{MemoryBytes: 40 << 20}}, nil,
		"/usr/bin/perl", "-e", `for (1 .. 6) { fork() or do { my $x = "y" x (16 << 20); sleep 3; exit } } my $ended = 0;
			while (wait() > 0) { $ended++ if $? } print "ended $ended\n"; sleep 1`)
	require.NoError(t, err)
	require.NoError(t, program.Start())
	assert.Eventually(t, func() bool { memory, _ := Met(program.Process.Pid); return memory > 0 }, time.Minute, 20*time.Millisecond,
		"told of a process of the cell")
	program.Wait()
	assert.NoDirExists(t, program.group.dir, "the group goes with its cell")
}

func TestAGroupBoundsProcessesAndTheProcessor(t *testing.T) {
	cells := grouped(t, "cpu")
	program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}, Init: true, Limits: Limits{Processes: 20, Processor: 30}}, nil,
		"/usr/bin/perl", "-e", `my $n = 0; for (1 .. 60) { my $p = fork(); last unless defined $p; if (!$p) { sleep 1; exit } $n++ }
			print $n < 30 ? "held\n" : "LEAK\n"; my $end = time + 3; 1 while time < $end`)
	require.NoError(t, err)
	var printed capped
	program.Stdout = &printed
	require.NoError(t, program.Start())
	time.Sleep(1500 * time.Millisecond)
	before, since := ProcessorTime(program.Process.Pid), time.Now()
	time.Sleep(time.Second)
	share := float64(ProcessorTime(program.Process.Pid)-before) / float64(time.Since(since))
	program.Wait()
	assert.InDelta(t, 0.3, share, 0.15)
	assert.Equal(t, "held\n", printed.String())
}

func TestAGroupEndsWhatPartedFromItsParent(t *testing.T) {
	grouped(t, "pids")
	t.Setenv(NoCells, "1")
	cells := open(t)
	program, err := cells.Command(Cell{WriteFolders: []string{t.TempDir()}}, nil, "/bin/sh", "-c", "setsid sleep 300 & sleep 0.2")
	require.NoError(t, err)
	_, err = program.Run(context.Background())
	require.NoError(t, err)
	assert.NoDirExists(t, program.group.dir, "whatever was in it has ended")
}

func TestAGroupThatADeadServiceLeftIsEnded(t *testing.T) {
	cells := grouped(t, "pids")
	left, err := cells.groups.begin(Limits{})
	require.NoError(t, err)
	sleeper := exec.Command("/bin/sleep", "300")
	sleeper.SysProcAttr = &syscall.SysProcAttr{UseCgroupFD: true, CgroupFD: int(left.file.Fd())}
	require.NoError(t, sleeper.Start())
	begin(cells.groups.dir)
	var killed *exec.ExitError
	require.True(t, errors.As(sleeper.Wait(), &killed))
	_, err = os.Stat(left.dir)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// leaveGroups takes back what ClaimGroups did.
func leaveGroups(name string) {
	mount, own, err := ownGroup()
	if err != nil || own != "/vessik-"+name+"/service" {
		return
	}
	write(mount, "cgroup.procs", strconv.Itoa(os.Getpid()))
	branch := filepath.Join(mount, "vessik-"+name)
	left, _ := filepath.Glob(filepath.Join(branch, "*"))
	for _, path := range append(left, branch) {
		os.Remove(path)
	}
}
