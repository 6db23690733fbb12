package proc

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
)

// Memory is what a process and its children take, in bytes: their proportional set size, where memory that processes share counts
// for each in part (proc_pid_smaps(5)).
func Memory(pid int) int64 {
	total := int64(0)
	for _, each := range append(descendants(pid), pid) {
		file, err := os.Open(fmt.Sprintf("/proc/%d/smaps_rollup", each))
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(file)
		for lines.Scan() {
			if fields := strings.Fields(lines.Text()); len(fields) == 3 && fields[0] == "Pss:" {
				kilobytes, _ := strconv.ParseInt(fields[1], 10, 64)
				total += kilobytes << 10
			}
		}
		file.Close()
	}
	return total
}

// Usage is what a process and its children take: memory in bytes, how many processes and threads they are, and which one takes the most.
// What they share is counted once where it matters: as long as the sum with it counted for each (proc_pid_status(5)) stays below most,
// that is what is told; beyond, each is told its part (proc_pid_smaps(5)).
func Usage(pid int, most int64) (bytes int64, tasks, largest int) {
	biggest := int64(-1)
	all := append(descendants(pid), pid)
	for _, each := range all {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", each))
		if err != nil {
			continue
		}
		own := statusField(text, "RssAnon:")<<10 + statusField(text, "RssShmem:")<<10
		bytes += own
		tasks += int(statusField(text, "Threads:"))
		if own > biggest {
			biggest, largest = own, each
		}
	}
	if bytes > most {
		bytes = 0
		for _, each := range all {
			text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", each))
			bytes += statusField(text, "Pss_Anon:")<<10 + statusField(text, "Pss_Shmem:")<<10
		}
	}
	return bytes, tasks, largest
}

// statusField reads a number of a table such as /proc/PID/status; 0 where it is not there.
func statusField(text []byte, name string) int64 {
	_, rest, _ := bytes.Cut(text, []byte("\n"+name))
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	word, _, _ := bytes.Cut(bytes.TrimSpace(line), []byte(" "))
	value, _ := strconv.ParseInt(string(word), 10, 64)
	return value
}

// descendants are all processes that a process has begun, and those that they have.
func descendants(pid int) []int {
	found := []int{}
	folder := fmt.Sprintf("/proc/%d/task/", pid)
	threads, _ := os.ReadDir(folder) // each has children of its own; of a process that has ended there are none
	for _, thread := range threads {
		text, err := os.ReadFile(folder + thread.Name() + "/children")
		if err != nil {
			continue
		}
		for word := range strings.FieldsSeq(string(text)) {
			if child, err := strconv.Atoi(word); err == nil {
				found = append(append(found, child), descendants(child)...)
			}
		}
	}
	return found
}
