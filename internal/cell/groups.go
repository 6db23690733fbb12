package cell

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// groups are control groups, version 2 (cgroups(7)): one a cell, in which the kernel holds all its processes together to its limits.
type groups struct {
	dir         string // of this service's groups; empty where it may make none
	controllers []string
	made        atomic.Int64
}

// wanted are the controllers that a cell's limits need.
var wanted = []string{"cpu", "memory", "pids"}

// ClaimGroups has root give an account a branch of the machine's control groups and moves this process there, since only within a
// branch of its own an account may move processes. Where there is none of version 2, it does nothing.
func ClaimGroups(name string, account *syscall.Credential) error {
	mount, _, err := ownGroup()
	if err != nil || !anyOf(mount) {
		return nil
	}
	branch := filepath.Join(mount, "vessik-"+name)
	enable(mount)
	if err := os.MkdirAll(filepath.Join(branch, "service"), 0o755); err != nil {
		return fmt.Errorf("make a control group: %w", err)
	}
	enable(branch)
	for _, dir := range []string{branch, filepath.Join(branch, "service")} {
		for _, name := range []string{"", "cgroup.procs", "cgroup.subtree_control", "cgroup.threads"} {
			if err := os.Chown(filepath.Join(dir, name), int(account.Uid), int(account.Gid)); err != nil {
				return fmt.Errorf("give a control group to the account: %w", err)
			}
		}
	}
	return write(filepath.Join(branch, "service"), "cgroup.procs", strconv.Itoa(os.Getpid()))
}

// openGroups finds the highest branch above this process in which it may make groups, and begins one of its own there. What a
// former service of the same name left is ended.
func openGroups(name string) *groups {
	mount, own, err := ownGroup()
	if err != nil {
		return &groups{}
	}
	for branch, steps := mount, strings.Split(strings.Trim(own, "/"), "/"); ; steps = steps[1:] {
		dir := filepath.Join(branch, "vessik-cells-"+name)
		if anyOf(branch) && unix.Access(filepath.Join(branch, "cgroup.procs"), unix.W_OK) == nil {
			if err := os.Mkdir(dir, 0o755); err == nil || errors.Is(err, os.ErrExist) {
				return begin(dir)
			}
		}
		if len(steps) == 0 {
			return &groups{}
		}
		branch = filepath.Join(branch, steps[0])
	}
}

func begin(dir string) *groups {
	former, _ := filepath.Glob(filepath.Join(dir, "*", "cgroup.procs"))
	for _, procs := range former {
		(&group{dir: filepath.Dir(procs)}).end()
	}
	enable(dir)
	text, _ := os.ReadFile(filepath.Join(dir, "cgroup.subtree_control"))
	g := &groups{dir: dir, controllers: strings.Fields(string(text))}
	if len(g.controllers) == 0 {
		os.Remove(dir)
		return &groups{}
	}
	return g
}

// ownGroup is where control groups are mounted, and the path of this process's own beneath it.
func ownGroup() (mount, own string, err error) {
	mount = mounted()
	if own = groupOf("self"); mount == "" || own == "" || strings.Contains(own, "..") {
		return "", "", errors.New("no control groups of version 2")
	}
	return mount, own, nil
}

// mounted is where control groups of version 2 are; empty where they are not.
var mounted = sync.OnceValue(func() (mount string) {
	table, _ := os.ReadFile("/proc/self/mountinfo")
	for line := range strings.Lines(string(table)) {
		words := strings.Fields(line)
		if after := slices.Index(words, "-"); after > 0 && len(words) > after+1 && words[after+1] == "cgroup2" {
			mount = words[4]
		}
	}
	return mount
})

// groupOf is the path of a process's group, beneath where they are mounted.
func groupOf(process string) string {
	text, _ := os.ReadFile("/proc/" + process + "/cgroup")
	for line := range strings.Lines(string(text)) {
		if path, found := strings.CutPrefix(strings.TrimSpace(line), "0::"); found {
			return path
		}
	}
	return ""
}

// enable switches on, for the groups within dir, what there is of the controllers that cells need.
func enable(dir string) {
	for _, controller := range wanted {
		write(dir, "cgroup.subtree_control", "+"+controller) // each by itself: one that is not there must not keep the others away
	}
}

// anyOf tells whether a group has one of the controllers that cells need.
func anyOf(dir string) bool {
	text, _ := os.ReadFile(filepath.Join(dir, "cgroup.controllers"))
	return slices.ContainsFunc(strings.Fields(string(text)), func(name string) bool { return slices.Contains(wanted, name) })
}

func write(dir, file, text string) error {
	return os.WriteFile(filepath.Join(dir, file), []byte(text), 0)
}

// group is the control group of one cell; nil for none.
type group struct {
	dir  string
	file *os.File // its folder, for clone(2)
}

// processorPeriod is over which a share of the processor is counted.
const processorPeriod = 100 * time.Millisecond

// begin makes a cell's group.
func (g *groups) begin(limits Limits) (*group, error) {
	if g == nil || g.dir == "" {
		return nil, nil
	}
	dir := filepath.Join(g.dir, strconv.FormatInt(g.made.Add(1), 10))
	if err := os.Mkdir(dir, 0o755); err != nil {
		return nil, fmt.Errorf("make the cell's control group: %w", err)
	}
	one := &group{dir: dir}
	set := func(controller, file, text string, said bool) error {
		if !said || !slices.Contains(g.controllers, controller) {
			return nil
		}
		return write(dir, file, text)
	}
	quota := processorPeriod.Microseconds() * int64(limits.Processor) / 100
	err := errors.Join(set("memory", "memory.max", strconv.FormatInt(limits.MemoryBytes, 10), limits.MemoryBytes > 0),
		set("pids", "pids.max", strconv.Itoa(limits.Processes), limits.Processes > 0),
		set("cpu", "cpu.max", fmt.Sprintf("%d %d", quota, processorPeriod.Microseconds()), quota > 0))
	if err == nil {
		one.file, err = os.Open(dir)
	}
	if err != nil {
		one.end()
		return nil, fmt.Errorf("set the cell's limits: %w", err)
	}
	return one, nil
}

// end ends whatever is left in the group, and removes it.
func (g *group) end() {
	if g == nil {
		return
	}
	if g.file != nil {
		g.file.Close()
	}
	write(g.dir, "cgroup.kill", "1")
	for range 200 {
		if err := os.Remove(g.dir); !errors.Is(err, syscall.EBUSY) {
			return
		}
		time.Sleep(5 * time.Millisecond) // until the last of its processes is gone; the program itself may still be unreaped
	}
}

// Met counts how often the kernel held the cell of a process to its limits: processes that it ended for memory, processes that it
// refused.
func Met(pid int) (memory, processes int) {
	dir := filepath.Join(mounted(), groupOf(strconv.Itoa(pid)))
	if !strings.HasPrefix(filepath.Base(filepath.Dir(dir)), "vessik-cells-") {
		return 0, 0
	}
	return count(dir, "memory.events", "oom_kill"), count(dir, "pids.events", "max")
}

// ProcessorTime is what the cell of a process has taken of the processors so far.
func ProcessorTime(pid int) time.Duration {
	return time.Duration(count(filepath.Join(mounted(), groupOf(strconv.Itoa(pid))), "cpu.stat", "usage_usec")) * time.Microsecond
}

func count(dir, file, key string) int {
	text, _ := os.ReadFile(filepath.Join(dir, file))
	for line := range strings.Lines(string(text)) {
		if value, found := strings.CutPrefix(line, key+" "); found {
			n, _ := strconv.Atoi(strings.TrimSpace(value))
			return n
		}
	}
	return 0
}
