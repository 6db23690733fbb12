package test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// scratch is everything that the tests write; reachable by the service's account.
var scratch string

// openScratch makes a folder for all that the tests write. Where root runs them and there is memory for it, it is a file system in memory:
// many a disk takes longer to give files back than the tests take to make them.
func openScratch() (done func(), err error) {
	endDeadScratches()
	// Not below a private temporary folder: started by root, the service becomes another account and must be able to enter.
	if scratch, err = os.MkdirTemp("/var/tmp", fmt.Sprintf("vessik-%d-", os.Getpid())); err != nil {
		return nil, err
	}
	const size, room = 10, 14 // GB
	flag.Parse()
	measuring := flag.Lookup("test.bench").Value.String() != "" // which is done on a disk
	if os.Geteuid() == 0 && !measuring && availableMemory() > room<<30 {
		err := syscall.Mount("tmpfs", scratch, "tmpfs", 0, fmt.Sprintf("size=%dg,mode=0711", size))
		if err == nil {
			return func() { syscall.Unmount(scratch, syscall.MNT_DETACH); os.Remove(scratch) }, nil
		}
	}
	return func() { os.RemoveAll(scratch) }, os.Chmod(scratch, 0o711)
}

// endDeadScratches gives back what tests left that were killed.
func endDeadScratches() {
	left, _ := filepath.Glob("/var/tmp/vessik-[0-9]*-*")
	for _, dir := range left {
		var pid int
		if _, err := fmt.Sscanf(filepath.Base(dir), "vessik-%d-", &pid); err != nil || syscall.Kill(pid, 0) != syscall.ESRCH {
			continue
		}
		syscall.Unmount(dir, syscall.MNT_DETACH)
		os.RemoveAll(dir)
	}
}

// availableMemory is what programs can have, in bytes; see proc(5).
func availableMemory() (bytes uint64) {
	text, _ := os.ReadFile("/proc/meminfo")
	for line := range strings.Lines(string(text)) {
		if _, err := fmt.Sscanf(line, "MemAvailable: %d kB", &bytes); err == nil {
			return bytes << 10
		}
	}
	return 0
}

// newHome names a home that does not exist yet, and is gone after the test.
func newHome(t testing.TB) string {
	home := lastingHome(t)
	t.Cleanup(func() {
		forgetPorts(home)
		os.RemoveAll(filepath.Dir(home))
	})
	return home
}

// lastingHome is one that stays until all tests are over.
func lastingHome(t testing.TB) string {
	dir, err := os.MkdirTemp(scratch, "h")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	return filepath.Join(dir, "home")
}
