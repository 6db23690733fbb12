package test

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vessik/client"
)

// BenchmarkRelay asks a page by a guest address and by the site's own: what the relay and the rewriter add, how many a second there are,
// and what a guest's connection that waits takes of the relay's memory.
func BenchmarkRelay(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days", CMS: "empty"}))
	at := s.site(b, "orchard-days")
	page := strings.Repeat(`<p><a href="`+at.URL+`about/">An apple a day</a> keeps the doctor away, and the worm near.</p>`+"\n", 1000)
	must(b, os.WriteFile(at.Folder+"/public/page.html", []byte(page[:100<<10]), 0o644))
	r := relayed(b, s)
	i := invited(b, s, "orchard-days", "-open")
	by := &http.Client{Transport: &http.Transport{DialContext: client.DialLoopback, MaxIdleConnsPerHost: 64,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	connections, seconds := 10000, 5*time.Second
	if small() {
		connections, seconds = 200, time.Second
	}
	once := func(address string) time.Duration {
		began := time.Now()
		answer, err := by.Get(address)
		must(b, err)
		readAll(b, answer)
		if answer.StatusCode != 200 {
			b.Fatal(answer.Status)
		}
		return time.Since(began)
	}
	least := func(address string) time.Duration {
		best := time.Hour
		for range 200 {
			best = min(best, once(address))
		}
		return best
	}
	rate := func(address string) float64 {
		var done atomic.Int64
		var all sync.WaitGroup
		end := time.Now().Add(seconds)
		for range 8 {
			all.Go(func() {
				for time.Now().Before(end) {
					once(address)
					done.Add(1)
				}
			})
		}
		all.Wait()
		return float64(done.Load()) / seconds.Seconds()
	}
	for b.Loop() {
		b.ReportMetric(0, "ns/op")
		own, guests := least(at.URL+"page.html"), least(i.Address+"page.html")
		b.ReportMetric(float64((guests - own).Microseconds()), "added-µs")
		ownRate, guestRate := rate(at.URL+"page.html"), rate(i.Address+"page.html")
		b.ReportMetric(guestRate, "requests/s")
		b.ReportMetric(guestRate/ownRate, "rate-of-gateway")
		before := memoryOf(b, r.command.Process.Pid)
		idle := []net.Conn{}
		for range connections {
			connection, err := tls.Dial("tcp", r.at, &tls.Config{InsecureSkipVerify: true})
			must(b, err)
			idle = append(idle, connection)
		}
		b.ReportMetric(float64(memoryOf(b, r.command.Process.Pid)-before)/float64(connections), "KB/connection")
		for _, each := range idle {
			each.Close()
		}
	}
}

// memoryOf is what a process has in memory, in kilobytes.
func memoryOf(b *testing.B, pid int) int {
	b.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(b, err)
	kilobytes, err := strconv.Atoi(strings.Fields(between(string(text), "VmRSS:", "kB"))[0])
	require.NoError(b, err)
	return kilobytes
}
