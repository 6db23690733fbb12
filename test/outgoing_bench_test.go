package test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"vessik/client"
)

// connecting is PHP that connects to a port again and again, and prints how long one connection took on average, in microseconds.
const connecting = `<?php $at = hrtime(true);
for ($i = 0; $i < 500; $i++) { fclose(stream_socket_client('tcp://127.0.0.1:%d', $n, $why, 2)); }
echo (hrtime(true) - $at) / 500 / 1000;`

// BenchmarkOutgoing tells what of the time of WordPress's front page goes into having its connections judged: the page connects to its
// database once.
func BenchmarkOutgoing(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "fernhollow"}))
	at := s.secrets(b, "fernhollow")
	must(b, os.WriteFile(filepath.Join(at.Folder, "connect.php"), fmt.Appendf(nil, connecting, at.Database.Port), 0o644))
	for b.Loop() {
		pages := make([]time.Duration, 0, 40)
		for range cap(pages) {
			began := time.Now()
			if status, _, _ := get(b, at.URL); status != 200 {
				b.Fatal("the front page answers ", status)
			}
			pages = append(pages, time.Since(began))
		}
		slices.Sort(pages)
		page := pages[len(pages)/2]
		_, said, _ := get(b, at.URL+"connect.php")
		judged, err := strconv.ParseFloat(strings.TrimSpace(said), 64)
		must(b, err)
		began := time.Now()
		for range 500 {
			connection, err := net.Dial("tcp4", fmt.Sprintf("127.0.0.1:%d", at.Database.Port))
			must(b, err)
			connection.Close()
		}
		plain := float64(time.Since(began).Microseconds()) / 500
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(float64(page.Microseconds())/1000, "page-ms")
		b.ReportMetric(judged, "judged-µs")
		b.ReportMetric(plain, "plain-µs")
		b.ReportMetric(100*max(0, judged-plain)/float64(page.Microseconds()), "percent-of-page")
	}
}
