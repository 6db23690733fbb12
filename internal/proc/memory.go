package proc

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
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

func descendants(pid int) []int {
	found := []int{}
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid)) // of each thread
	for _, list := range lists {
		text, err := os.ReadFile(list)
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
