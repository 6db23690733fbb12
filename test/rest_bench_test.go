package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/proc"
)

// BenchmarkRest measures what sites at rest cost, how long a service with many of them takes until all answer, and how much longer the
// first byte takes after a rest.
func BenchmarkRest(b *testing.B) {
	home := filepath.Join(inMemory(b), "home")
	s := launch(b, home)
	defer func() { s.stop() }()
	made := 0
	first, firstSwitches := int64(0), 0.0 // with one site, all engines that the others use run as well
	counts := []int{0, 1, 10, 30, 100, 200}
	if small() {
		counts = []int{0, 1}
	}
	for _, count := range counts {
		b.Run(fmt.Sprintf("sites=%d", count), func(b *testing.B) {
			for b.Loop() {
				for made < count {
					requests := []client.Request{}
					for ; made < count && len(requests) < 25; made++ {
						requests = append(requests, client.Request{Name: fmt.Sprintf("garden-%d", made)})
					}
					requirePassed(b, s.made(b, requests...))
				}
				s.stop()
				began := time.Now()
				s = launch(b, home) // nobody has asked yet: all are at rest
				sites, err := s.Sites(context.Background(), false)
				require.NoError(b, err)
				everybody(b, sites, "wp-includes/css/buttons.min.css")
				answering := time.Since(began)
				time.Sleep(atRest())
				memory, switches := cost(s)
				if count == 1 {
					first, firstSwitches = memory, switches
				}
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(float64(memory)/(1<<20), "MB")
				b.ReportMetric(switches, "wake-ups/s")
				b.ReportMetric(answering.Seconds(), "start-s")
				if count > 1 {
					b.ReportMetric(float64(memory-first)/(1<<20)/float64(count-1), "MB/further-site")
					b.ReportMetric((switches-firstSwitches)/float64(count-1), "wake-ups/s/further-site")
				}
				if count == 100 {
					began = time.Now()
					everybody(b, sites, "")
					b.ReportMetric(time.Since(began).Seconds(), "all-front-pages-s")
					s.stop()
					s = launch(b, home)
				}
			}
		})
	}
	b.Run("wake", func(b *testing.B) {
		for b.Loop() {
			site := s.site(b, "garden-0").URL
			cold, warm := time.Duration(0), time.Duration(0)
			rounds := 5
			if small() {
				rounds = 1
			}
			_, errs, code := s.cli("settings", "garden-0", "-rest", "1s")
			require.Zero(b, code, errs)
			for range rounds {
				require.Eventually(b, func() bool { return s.site(b, "garden-0").Resting }, 20*time.Second, 20*time.Millisecond)
				began := time.Now()
				get(b, site)
				cold += time.Since(began)
				get(b, site)
				began = time.Now()
				get(b, site)
				warm += time.Since(began)
			}
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(cold.Milliseconds())/float64(rounds), "first-ms")
			b.ReportMetric(float64(warm.Milliseconds())/float64(rounds), "warm-ms")
			b.ReportMetric(float64((cold-warm).Milliseconds())/float64(rounds), "added-ms")
		}
	})
}

// atRest is how long web servers take to go to rest after their last visitor.
func atRest() time.Duration {
	if small() {
		return time.Second
	}
	return 15 * time.Second
}

// everybody asks every site for one address until it answers, several at a time.
func everybody(b *testing.B, sites []client.Site, path string) {
	var group sync.WaitGroup
	slots := make(chan struct{}, 8)
	for _, site := range sites {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			response, err := browser.Get(site.URL + path)
			must(b, err)
			if response.StatusCode != 200 {
				b.Errorf("%s answers %s", site.URL, response.Status)
			}
			response.Body.Close()
		})
	}
	group.Wait()
}

// cost is what the service and all that it started take: memory in bytes, and how often a second any of it wakes up.
func cost(s *service) (memory int64, switches float64) {
	before := wakeUps(s)
	const span = 5
	time.Sleep(span * time.Second)
	return proc.Memory(s.command.Process.Pid), float64(wakeUps(s)-before) / span
}

func wakeUps(s *service) (total int) {
	pids := []int{s.command.Process.Pid}
	for _, line := range processesOf(s.home) {
		pid, _, _ := strings.Cut(line, " ")
		number, _ := strconv.Atoi(pid)
		pids = append(pids, number)
	}
	for _, pid := range pids {
		tasks, _ := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid))
		for _, task := range tasks {
			text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%s/status", pid, task.Name()))
			_, rest, _ := strings.Cut(string(text), "\nvoluntary_ctxt_switches:")
			number, _, _ := strings.Cut(strings.TrimSpace(rest), "\n")
			count, _ := strconv.Atoi(number)
			total += count
		}
	}
	return total
}

// BenchmarkRecovery kills engines under load, one by one, and measures how long visitors wait for it.
func BenchmarkRecovery(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "fernhollow"}, client.Request{Name: "moss-archive", Web: "apache"}))
	defer s.retire(b, "moss-archive")
	for _, each := range []struct{ name, engine, site string }{{"nginx", "nginx: master", "fernhollow"},
		{"php", "php-fpm: master", "fernhollow"}, {"apache", "apache2", "moss-archive"}, {"mariadb", "/run/mariadb-11.8/", "fernhollow"}} {
		b.Run(each.name, func(b *testing.B) {
			for b.Loop() {
				v := visit(s.site(b, each.site).URL, 3)
				for v.answered.Load() < 20 {
					time.Sleep(time.Millisecond)
				}
				v.longest.Store(0)
				for _, line := range processesOf(s.home) {
					if pid, command, _ := strings.Cut(line, " "); strings.Contains(command, each.engine) &&
						(each.name != "apache" && each.name != "php" || strings.Contains(command, "/"+each.site+"/")) {
						number, _ := strconv.Atoi(pid)
						syscall.Kill(number, syscall.SIGKILL)
					}
				}
				answered := v.answered.Load()
				for v.answered.Load() < answered+20 {
					time.Sleep(time.Millisecond)
				}
				v.end()
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(float64(v.longest.Load()), "longest-ms")
				b.ReportMetric(float64(v.failed.Load()), "errors")
			}
		})
	}
}
