package running

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"vessik/internal/cell"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
	"vessik/internal/ownfile"
	"vessik/internal/proc"
	"vessik/internal/safefile"
)

// diskLook is how often the folders of sites with a limit are measured.
const diskLook = time.Minute

// limits are what one cell of a site may take.
func (m *Machine) limits(s site.Site) cell.Limits {
	return cell.Limits{Processes: s.Settings.MostProcesses(), MemoryBytes: s.Settings.MostMemory(), Processor: s.Settings.Processor,
		Files: 8192, FileBytes: 16 << 30}
}

// LimitsOf tells what a site may take, and takes at this moment in its largest cell.
func (m *Machine) LimitsOf(s site.Site) []wire.Limit {
	memory, processes := int64(0), 0
	for _, pid := range m.CellsOf(s) {
		private, tasks, _ := proc.Usage(pid, 0)
		memory, processes = max(memory, private), max(processes, tasks)
	}
	limits := []wire.Limit{{Name: "memory", Most: s.Settings.MostMemory(), Used: memory},
		{Name: "processes", Most: int64(s.Settings.MostProcesses()), Used: int64(processes)},
		{Name: "disk", Most: s.Settings.Disk, Used: safefile.Bytes(s.Folder)}}
	if m.SharesProcessor() {
		limits = append(limits, wire.Limit{Name: "processor", Most: int64(s.Settings.Processor), Used: m.processorOf(s)})
	}
	return limits
}

// SharesProcessor tells whether the kernel holds a cell to a share of the processor.
func (m *Machine) SharesProcessor() bool {
	return slices.Contains(m.Supervisor.Abilities().Groups, "cpu")
}

// processorOf is the share of one processor, in percent, that the busiest of a site's cells takes, seen for a tenth of a second.
func (m *Machine) processorOf(s site.Site) int64 {
	const look = 100 * time.Millisecond
	before, most := map[int]time.Duration{}, time.Duration(0)
	for _, pid := range m.CellsOf(s) {
		before[pid] = cell.ProcessorTime(pid)
	}
	time.Sleep(look)
	for pid, spent := range before {
		most = max(most, cell.ProcessorTime(pid)-spent)
	}
	return int64(100 * most / look)
}

// CellsOf are the first processes of a site's cells that are awake.
func (m *Machine) CellsOf(s site.Site) (pids []int) {
	if master := m.Master(s.Name); master != nil && master.PID() != 0 {
		pids = append(pids, master.PID())
	}
	if web := m.webs.Running(s.Stack.Web); web != nil && web.PID(s.Name) != 0 {
		pids = append(pids, web.PID(s.Name))
	}
	return pids
}

// keepLimits ends the largest process of a cell that takes more memory than the site may have: each single process is held by the kernel,
// all of them together by this.
func (m *Machine) keepLimits(s site.Site, now time.Time) {
	most := s.Settings.MostMemory()
	for _, pid := range m.CellsOf(s) {
		m.tellMet(s, pid, now)
		private, _, largest := proc.Usage(pid, most)
		if private <= most {
			continue
		}
		syscall.Kill(largest, syscall.SIGKILL)
		m.limitMet(s, now, "the site's memory limit of %d MB was met (%d MB were taken); its largest process was ended; raise it "+
			"with: vessik settings %s memory=4G", most>>20, private>>20, s.Name)
	}
}

// tellMet tells of limits to which the kernel itself held a cell since the last look.
func (m *Machine) tellMet(s site.Site, pid int, now time.Time) {
	if len(m.Supervisor.Abilities().Groups) == 0 {
		return
	}
	memory, processes := cell.Met(pid)
	before := m.met[pid]
	m.met[pid] = limitsMet{memory, processes, now}
	if memory > before.memory {
		m.limitMet(s, now, "the site's memory limit of %d MB was met; the kernel ended its largest process; raise it "+
			"with: vessik settings %s memory=4G", s.Settings.MostMemory()>>20, s.Name)
	}
	if processes > before.processes {
		m.limitMet(s, now, "the site's limit of %d processes and threads was met; raise it with: vessik settings %s processes=500",
			s.Settings.MostProcesses(), s.Name)
	}
}

// limitsMet counts how often a cell was held to its limits, as seen at a time.
type limitsMet struct {
	memory, processes int
	seen              time.Time
}

// keepDisk tells of a site whose folder comes near its limit, and holds it there: beyond it, its PHP may write no more in it.
func (m *Machine) keepDisk(s site.Site, now time.Time) {
	if s.Settings.Disk == 0 {
		return
	}
	used := safefile.Bytes(s.Folder)
	full := used >= s.Settings.Disk
	m.mu.Lock()
	was := m.full[s.Name]
	m.full[s.Name] = full
	m.mu.Unlock()
	switch {
	case full && !was:
		m.limitMet(s, now, "the site's folder has its limit of %d MB, and is read only to the site until there is room: remove what is "+
			"not needed, or raise it with: vessik settings %s disk=4G", s.Settings.Disk>>20, s.Name)
	case !full && used > s.Settings.Disk/10*9 && s.Notice == "":
		m.limitMet(s, now, "the site's folder takes %d of %d MB", used>>20, s.Settings.Disk>>20)
	}
	master := m.Master(s.Name)
	if full == was || master == nil {
		return
	}
	if e, err := m.Store.Find(s.Stack.PHP); err == nil {
		if err := master.Change(m.Work.Context(), e, s); err != nil {
			m.Log.Error("hold a full site", "site", s.Name, "reason", err)
		}
	}
}

// gone begins what is said of a site whose folder was removed.
const gone = "its folder is gone: "

// TellGone says so of a site whose folder was removed, until it is back.
func (m *Machine) TellGone(s site.Site) {
	words := ""
	if _, err := os.Stat(s.Folder); errors.Is(err, fs.ErrNotExist) {
		words = gone + "put " + s.Folder + " back, or retire the site"
	}
	if words != s.Notice && (words != "" || strings.HasPrefix(s.Notice, gone)) {
		m.Registry.Edit(m.Work.Context(), s.Name, func(s *site.Site) error { s.Notice = words; return nil })
	}
}

// isFull tells whether a site's folder has reached its limit.
func (m *Machine) isFull(s site.Site) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.full[s.Name] && s.Settings.Disk > 0
}

// limitMet says so where people look: at the site, in its own log and in the service's.
func (m *Machine) limitMet(s site.Site, now time.Time, format string, arguments ...any) {
	words := fmt.Sprintf(format, arguments...)
	m.Log.Warn("limit", "site", s.Name, "reason", words)
	if log, err := ownfile.OpenFile(filepath.Join(m.Home.SiteLogs(s.Name), "php-error.log"), os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW,
		0); err == nil {
		fmt.Fprintf(log, "[%s UTC] Vessik: %s\n", now.UTC().Format("02-Jan-2006 15:04:05"), words)
		log.Close()
	}
	m.Registry.Edit(m.Work.Context(), s.Name, func(s *site.Site) error { s.Notice = words; return nil })
}

// lookAtLimits looks at the sites that are awake, and now and then at the folders of those that have a limit.
func (m *Machine) lookAtLimits(now time.Time, disk bool) {
	for _, s := range m.Registry.All() {
		if s.State != site.Running {
			continue
		}
		m.keepLimits(s, now)
		if disk {
			m.TellGone(s)
			m.keepDisk(s, now)
		}
	}
	maps.DeleteFunc(m.met, func(_ int, met limitsMet) bool { return met.seen != now }) // cells that are no more
}
