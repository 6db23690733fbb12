package provision

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"vessik/internal/core/site"
	"vessik/internal/engine"
)

const (
	restLook  = time.Second      // how often sites that are awake are looked at
	taskLook  = time.Minute      // how often sites at rest whose next scheduled task is not known are looked at
	logLook   = 30 * time.Second // how often logs are measured
	logLimit  = 10 << 20         // bytes after which a log is rotated
	logsKept  = 3
	taskGrace = 12 * time.Second // PHP that a task woke goes to rest this much later
	tasksOnce = 4                // how many sites are awake for their tasks alone
)

// lookAfter puts sites to rest, runs their scheduled tasks, rotates logs and stops engines that nobody uses, until the service ends.
func (p *Provisioner) lookAfter() {
	look := time.NewTicker(restLook)
	defer look.Stop()
	due := map[string]task{} // of sites at rest
	nextTasks, nextLogs := time.Now().Add(taskLook), time.Now().Add(logLook)
	for {
		select {
		case <-p.context.Done():
			return
		case <-look.C:
		}
		now := time.Now()
		p.putToRest(now, due)
		p.stopUnused()
		if now.After(nextTasks) {
			nextTasks = now.Add(taskLook)
			p.lookForTasks(due)
			p.endForwards(now)
		}
		p.runTasks(now, due)
		if now.After(nextLogs) {
			nextLogs = now.Add(logLook)
			p.rotateLogs()
		}
	}
}

// putToRest looks at the sites whose PHP is awake: those at rest cost nothing here.
func (p *Provisioner) putToRest(now time.Time, due map[string]task) {
	type awake struct {
		name   string
		master *engine.PHPMaster
	}
	candidates := []awake{}
	p.mu.Lock()
	for name, m := range p.masters {
		if p.sites[name].State == site.Running && p.busy[name] == "" && m.PID() != 0 {
			candidates = append(candidates, awake{name, m})
		}
	}
	p.mu.Unlock()
	for _, c := range candidates {
		s, _ := p.Site(c.name)
		limit := s.Settings.Rest()
		p.mu.Lock()
		woken, byTask := p.wokenByTask[c.name]
		p.mu.Unlock()
		if byTask && now.Sub(woken) > taskGrace {
			limit = min(limit, taskGrace)
		}
		if idle := c.master.Idle(now); limit == 0 || idle < limit {
			if byTask && idle == 0 && now.Sub(woken) > 2*taskGrace { // somebody uses it now
				p.mu.Lock()
				delete(p.wokenByTask, c.name)
				p.mu.Unlock()
			}
			continue
		}
		if err := c.master.Rest(); err != nil {
			p.Log.Error("put to rest", "site", c.name, "reason", err)
			continue
		}
		p.mu.Lock()
		delete(p.wokenByTask, c.name)
		p.mu.Unlock()
		due[c.name] = due[c.name].after(p.nextTask(s), now)
		p.announce()
	}
	p.engineMu.Lock()
	webs := slices.Collect(maps.Values(p.webs))
	p.engineMu.Unlock()
	for _, web := range webs {
		web.Rest(p.Resting)
	}
}

// Resting tells whether a running site's PHP is not loaded.
func (p *Provisioner) Resting(name string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	m := p.masters[name]
	return m != nil && m.PID() == 0 && p.sites[name].State == site.Running
}

// stopUnused stops database servers that no site needs, while nothing is being done; web servers stop with their last site.
func (p *Provisioner) stopUnused() {
	p.requests.Lock()
	defer p.requests.Unlock()
	p.mu.Lock()
	working := len(p.operations) > 0 || p.settling
	used := map[string]bool{}
	for _, s := range p.sites {
		if s.State != site.Stopped {
			used[s.Stack.Database] = true
		}
	}
	p.mu.Unlock()
	if working {
		return
	}
	p.engineMu.Lock()
	defer p.engineMu.Unlock()
	for id, d := range p.databases {
		if !used[id] {
			d.Stop()
			delete(p.databases, id)
			p.Log.Info("stopped, since no running site uses it", "engine", id)
		}
	}
}

// task is when a site's next scheduled task is due; zero where there is none.
type task struct {
	next, ran time.Time
	wait      time.Duration
}

// after is the task that follows: one that is overdue although the site was asked to run it is not asked for at every rest.
func (t task) after(next, now time.Time) task {
	if t.ran.IsZero() || next.IsZero() || next.After(t.ran) {
		return task{next: next}
	}
	t.wait = min(max(2*t.wait, 15*time.Second), 15*time.Minute)
	t.next = now.Add(t.wait)
	return t
}

// wokenNow counts the sites that are awake for a task.
func (p *Provisioner) wokenNow(now time.Time) int {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.wokenByTask, func(name string, woken time.Time) bool { // one that never woke
		m := p.masters[name]
		return now.Sub(woken) > taskGrace && (m == nil || m.PID() == 0)
	})
	return len(p.wokenByTask)
}

// lookForTasks learns when the scheduled tasks of sites at rest are due, where that is not known yet.
func (p *Provisioner) lookForTasks(due map[string]task) {
	for _, s := range p.Sites() {
		if _, known := due[s.Name]; !known && s.TrialOf == "" && p.Resting(s.Name) {
			due[s.Name] = task{next: p.nextTask(s)}
		}
	}
}

// runTasks asks sites at rest whose scheduled tasks are due to run them, as a visitor would have.
func (p *Provisioner) runTasks(now time.Time, due map[string]task) {
	names := slices.SortedFunc(maps.Keys(due), func(a, b string) int { return due[a].next.Compare(due[b].next) })
	for _, name := range names { // those that have waited longest first
		s, known := p.Site(name)
		if !known || s.TrialOf != "" {
			delete(due, name)
			continue
		}
		t := due[name]
		if t.next.IsZero() || t.next.After(now) || !p.Resting(name) { // those of a site that is awake are run by its visitors
			continue
		}
		if p.wokenNow(now) >= tasksOnce {
			return
		}
		due[name] = task{ran: now, wait: t.wait}
		p.mu.Lock()
		p.wokenByTask[name] = now
		p.mu.Unlock()
		p.work.Go(func() {
			ctx, cancel := context.WithTimeout(p.context, time.Minute)
			defer cancel()
			request, err := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("http://127.0.0.1:%d%s", s.Port, p.kitOf(s).Tasks.Address), nil)
			if err != nil {
				return
			}
			(&inspection{p: p, base: s.URL(p.settings.GatewayPort)}).toSite(request)
			request.Close = true // a connection that is kept would keep its Apache awake
			if response, err := http.DefaultClient.Do(request); err == nil {
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
			}
		})
	}
}

func (p *Provisioner) nextTask(s site.Site) time.Time {
	p.engineMu.Lock()
	d := p.databases[s.Stack.Database]
	p.engineMu.Unlock()
	if d == nil {
		return time.Time{}
	}
	pool := d.Open(s.Database.Name)
	defer pool.Close()
	next, err := p.kitOf(s).NextTask(p.context, pool, p.kitFacts(s))
	if err != nil {
		return time.Time{}
	}
	return next
}

// rotateLogs keeps every log below its limit: the full one is copied aside and emptied, so that whoever writes it goes on.
func (p *Provisioner) rotateLogs() {
	paths, _ := filepath.Glob(p.Home.path("logs", "*.log"))
	ofSites, _ := filepath.Glob(p.Home.path("logs", "sites", "*", "*.log"))
	for _, path := range append(paths, ofSites...) {
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() && info.Size() > logLimit {
			if err := rotate(path); err != nil {
				p.Log.Error("rotate", "log", path, "reason", err)
			}
		}
	}
}

func rotate(path string) error {
	for n := logsKept - 1; n > 0; n-- {
		os.Rename(fmt.Sprintf("%s.%d", path, n), fmt.Sprintf("%s.%d", path, n+1))
	}
	from, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer from.Close()
	to, err := os.OpenFile(path+".1", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
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

// Settling tells whether a service that was started is still bringing its home back to where it was.
func (p *Provisioner) Settling() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.settling
}

// unsettled keeps engines running while a service brings its sites up.
func (p *Provisioner) unsettled(yes bool) {
	p.mu.Lock()
	p.settling = yes
	p.mu.Unlock()
}
