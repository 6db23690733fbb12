package running

import (
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/engine"
	"vessik/internal/ownfile"
)

const (
	restLook  = time.Second      // how often sites that are awake are looked at
	taskLook  = time.Minute      // how often sites at rest whose next scheduled task is not known are looked at
	logLook   = 30 * time.Second // how often logs are measured
	logLimit  = 10 << 20         // bytes after which a log is rotated
	logsKept  = 3
	taskGrace = 12 * time.Second // PHP that a task woke goes to rest this much later
	webQuiet  = 5 * time.Second  // after so long without anybody connected, the web server of a site at rest rests too
	tasksOnce = 4                // how many sites are awake for their tasks alone
)

// LookAfter puts sites to rest, runs their scheduled tasks, rotates logs and stops engines that nobody uses, until the service ends.
func (m *Machine) LookAfter() {
	look := time.NewTicker(restLook)
	defer look.Stop()
	due := map[string]task{} // of sites at rest
	nextTasks, nextLogs, nextDisk := time.Now().Add(taskLook), time.Now().Add(logLook), time.Now().Add(diskLook)
	for {
		select {
		case <-m.Work.Context().Done():
			return
		case <-look.C:
		}
		now := time.Now()
		m.putToRest(now, due)
		disk := now.After(nextDisk)
		if disk {
			nextDisk = now.Add(diskLook)
		}
		m.lookAtLimits(now, disk)
		m.stopUnused()
		if now.After(nextTasks) {
			nextTasks = now.Add(taskLook)
			m.lookForTasks(due)
		}
		m.runTasks(now, due)
		if now.After(nextLogs) {
			nextLogs = now.Add(logLook)
			m.rotateLogs()
		}
	}
}

// putToRest looks at the sites whose PHP is awake: those at rest cost nothing here.
func (m *Machine) putToRest(now time.Time, due map[string]task) {
	type awake struct {
		name   string
		master *engine.PHPMaster
	}
	candidates := []awake{}
	m.mu.Lock()
	for name, master := range m.masters {
		if s, _ := m.Registry.Site(name); s.State == site.Running && master.PID() != 0 {
			candidates = append(candidates, awake{name, master})
		}
	}
	m.mu.Unlock()
	for _, c := range candidates {
		if c.master.Knock() {
			m.Log.Info("PHP had overlooked a visitor", "site", c.name)
		}
	}
	candidates = slices.DeleteFunc(candidates, func(c awake) bool { return m.Busy(c.name) })
	for _, c := range candidates {
		s, _ := m.Registry.Site(c.name)
		limit := s.Settings.Rest()
		m.mu.Lock()
		woken, byTask := m.wokenByTask[c.name]
		m.mu.Unlock()
		if byTask && now.Sub(woken) > taskGrace {
			limit = min(limit, taskGrace)
		}
		if idle := c.master.Idle(now); limit == 0 || idle < limit {
			if byTask && idle == 0 && now.Sub(woken) > 2*taskGrace { // somebody uses it now
				m.mu.Lock()
				delete(m.wokenByTask, c.name)
				m.mu.Unlock()
			}
			continue
		}
		if err := c.master.Rest(); err != nil {
			m.Log.Error("put to rest", "site", c.name, "reason", err)
			continue
		}
		m.mu.Lock()
		delete(m.wokenByTask, c.name)
		m.mu.Unlock()
		due[c.name] = due[c.name].after(m.nextTask(s), now)
		m.Registry.Announce(c.name)
	}
	for _, web := range m.webs.All() {
		web.Rest(now, func(name string) (bool, time.Duration) {
			s, _ := m.Registry.Site(name)
			return m.Resting(name) && s.Settings.Rest() > 0, min(s.Settings.Rest(), webQuiet)
		})
	}
}

// rotateLogs keeps every log below its limit: the full one is copied aside and emptied, so that whoever writes it goes on.
func (m *Machine) rotateLogs() {
	paths := ownfile.Find(m.Home.Path("logs", "*.log"))
	ofSites := ownfile.Find(m.Home.Path("logs", "sites", "*", "*.log"))
	for _, path := range append(paths, ofSites...) {
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() && info.Size() > logLimit {
			if err := rotate(path); err != nil {
				m.Log.Error("rotate", "log", path, "reason", err)
			}
		}
	}
}

func rotate(path string) error {
	for n := logsKept - 1; n > 0; n-- {
		ownfile.Rename(fmt.Sprintf("%s.%d", path, n), fmt.Sprintf("%s.%d", path, n+1))
	}
	from, err := ownfile.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := ownfile.OpenFile(path+".1", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := io.Copy(to, from); err != nil {
		to.Close()
		return err
	}
	if err := to.Close(); err != nil {
		return err
	}
	return from.Truncate(0)
}
