package running

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"time"

	"vessik/internal/core/site"
)

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
func (m *Machine) wokenNow(now time.Time) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	maps.DeleteFunc(m.wokenByTask, func(name string, woken time.Time) bool { // one that never woke
		master := m.masters[name]
		return now.Sub(woken) > taskGrace && (master == nil || master.PID() == 0)
	})
	return len(m.wokenByTask)
}

// lookForTasks learns when the scheduled tasks of sites at rest are due, where that is not known yet.
func (m *Machine) lookForTasks(due map[string]task) {
	for _, s := range m.Registry.All() {
		if _, known := due[s.Name]; !known && s.TrialOf == "" && m.Resting(s.Name) {
			due[s.Name] = task{next: m.nextTask(s)}
		}
	}
}

// runTasks asks sites at rest whose scheduled tasks are due to run them, as a visitor would have.
func (m *Machine) runTasks(now time.Time, due map[string]task) {
	names := slices.SortedFunc(maps.Keys(due), func(a, b string) int { return due[a].next.Compare(due[b].next) })
	for _, name := range names { // those that have waited longest first
		s, known := m.Registry.Site(name)
		if !known || s.TrialOf != "" {
			delete(due, name)
			continue
		}
		t := due[name]
		if t.next.IsZero() || t.next.After(now) || !m.Resting(name) { // those of a site that is awake are run by its visitors
			continue
		}
		if m.wokenNow(now) >= tasksOnce {
			return
		}
		due[name] = task{ran: now, wait: t.wait}
		m.mu.Lock()
		m.wokenByTask[name] = now
		m.mu.Unlock()
		m.Work.Go(func() {
			ctx, cancel := context.WithTimeout(m.Work.Context(), time.Minute)
			defer cancel()
			request, err := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("http://127.0.0.1:%d%s", s.Port, m.CMS.Of(s).Tasks.Address), nil)
			if err != nil {
				return
			}
			request.Host = s.Host(m.Gateway())
			request.Close = true // a connection that is kept would keep its Apache awake
			client := http.Client{CheckRedirect: func(*http.Request,
				[]*http.Request) error {
				return http.ErrUseLastResponse
			}} // a site says where to
			if response, err := client.Do(request); err == nil {
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
			}
		})
	}
}

func (m *Machine) nextTask(s site.Site) time.Time {
	d := m.databases.Running(s.Stack.Database)
	if d == nil {
		return time.Time{}
	}
	pool := d.OpenAs(s.Database)
	defer pool.Close()
	next, err := m.CMS.Of(s).NextTask(m.Work.Context(), pool, m.CMSFacts(s))
	if err != nil {
		return time.Time{}
	}
	return next
}
