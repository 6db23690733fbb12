package proc

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"vessik/internal/ownfile"
)

// ledger remembers on disk which processes were started, so that a service that was killed can be cleaned up after: a process is
// known by its id and its start time, which no other process shares.
type ledger struct {
	mu      sync.Mutex
	path    string
	entries map[int]ledgerEntry
}

type ledgerEntry struct {
	Name  string `json:"name"`
	PID   int    `json:"pid"`
	Start string `json:"start"` // clock ticks since boot, see proc_pid_stat(5)
}

func (l *ledger) add(name string, pid int) {
	l.change(func() { l.entries[pid] = ledgerEntry{Name: name, PID: pid, Start: startTime(pid)} })
}

func (l *ledger) remove(pid int) { l.change(func() { delete(l.entries, pid) }) }

// change writes through. A full disk must not stop a start or a stop: what is lost is only the memory for after a crash, and the
// parent-death signal stands behind it.
func (l *ledger) change(edit func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	edit()
	text, err := json.Marshal(slices.Collect(maps.Values(l.entries)))
	if err != nil {
		return
	}
	ownfile.Write(l.path, text, 0o600)
}

// EndLeftovers ends the processes that a dead service left, and returns their names. Call it before anything is started.
func EndLeftovers(ledgerPath string) []string {
	text, err := os.ReadFile(ledgerPath)
	if err != nil {
		return nil
	}
	entries := []ledgerEntry{}
	if json.Unmarshal(text, &entries) != nil {
		return nil
	}
	ended := []string{}
	for _, e := range entries {
		// A worker keeps its dead master's process group; no new process can have that id while the group lives.
		leaderIsOurs := e.Start != "" && startTime(e.PID) == e.Start
		orphans := startTime(e.PID) == "" && groupLives(e.PID)
		if leaderIsOurs || orphans {
			ended = append(ended, fmt.Sprintf("%s (process %d)", e.Name, e.PID))
			endGroup(e.PID, 10*time.Second)
		}
	}
	os.Remove(ledgerPath)
	return ended
}

func groupLives(group int) bool { return syscall.Kill(-group, 0) == nil }

// endGroup asks a process group to end and makes it after the grace.
func endGroup(group int, grace time.Duration) {
	syscall.Kill(-group, syscall.SIGTERM)
	for end := time.Now().Add(grace); groupLives(group) && time.Now().Before(end); {
		time.Sleep(5 * time.Millisecond)
	}
	syscall.Kill(-group, syscall.SIGKILL)
	for end := time.Now().Add(time.Second); groupLives(group) && time.Now().Before(end); {
		time.Sleep(time.Millisecond)
	}
}

// startTime reads field 22 of /proc/PID/stat; empty when there is no such process or it is a zombie.
func startTime(pid int) string {
	text, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" {
		return ""
	}
	return fields[19]
}
