package test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/wire"
)

// small tells whether the benchmarks are only to show that they can run: make test runs each once, at its smallest size.
func small() bool { return os.Getenv("VESSIK_BENCH") == "small" }

// inMemory is a folder on tmpfs: on ext4, making many files soon after many were removed is ten times slower, which would be what is
// measured.
func inMemory(b *testing.B) string {
	dir, err := os.MkdirTemp("/dev/shm", "vessik-bench-")
	require.NoError(b, err)
	require.NoError(b, os.Chmod(dir, 0o711))
	b.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// BenchmarkFleet compares the time from a request to sites that are proven with the floor: what a plain script needs on the same
// engines. The two take turns, and what counts is the median.
func BenchmarkFleet(b *testing.B) {
	dir := inMemory(b)
	s := start(b, filepath.Join(dir, "home"))
	requirePassed(b, s.newSites(b, "warm-up"))
	script := newFloor(b, filepath.Join(dir, "floor"), mustStatus(b, s).EngineStore)
	counts, rounds := []int{1, 10}, 5
	if small() {
		counts, rounds = []int{1}, 1
	}
	for _, count := range counts {
		b.Run(fmt.Sprintf("sites=%d", count), func(b *testing.B) {
			for b.Loop() {
				var ours, floor, oursCPU, floorCPU []float64
				for range rounds {
					seconds, cpu := measured(func() { makeAndProve(b, s, count) }, s.command.Process.Pid)
					ours, oursCPU = append(ours, seconds), append(oursCPU, cpu)
					retireAll(b, s, count)
					seconds, cpu = measured(func() { script.run(count) }, os.Getpid())
					floor, floorCPU = append(floor, seconds), append(floorCPU, cpu)
					script.clear(count)
				}
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(median(ours), "s")
				b.ReportMetric(median(floor), "floor-s")
				b.ReportMetric(median(ours)/median(floor), "ratio")
				b.ReportMetric(median(oursCPU), "cpu-s")
				b.ReportMetric(median(floorCPU), "floor-cpu-s")
				b.ReportMetric(median(oursCPU)/median(floorCPU), "cpu-ratio")
			}
		})
	}
}

func gardens(count int) []string {
	names := []string{}
	for i := range count {
		names = append(names, fmt.Sprintf("garden-%d", i))
	}
	return names
}

func makeAndProve(b *testing.B, s *service, count int) {
	requirePassed(b, s.newSites(b, gardens(count)...))
}

func retireAll(b *testing.B, s *service, count int) {
	operation, err := s.Do(context.Background(), plan.Retire, wire.Names{Names: gardens(count)})
	require.NoError(b, err)
	s.watch(b, operation)
}

// measured is how long something took, and how many processor seconds a process and all that it started took meanwhile.
func measured(do func(), pid int) (seconds, cpu float64) {
	before, began := processorSeconds(pid), time.Now()
	do()
	return time.Since(began).Seconds(), processorSeconds(pid) - before
}

// processorSeconds adds up what a process, its living descendants and those that have ended took (proc_pid_stat(5)).
func processorSeconds(pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	ticks := 0.0
	for _, field := range fields[11:15] {
		number, _ := strconv.ParseFloat(field, 64)
		ticks += number
	}
	total := ticks / 100
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, list := range lists {
		children, _ := os.ReadFile(list)
		for child := range strings.FieldsSeq(string(children)) {
			if number, err := strconv.Atoi(child); err == nil && (pid != os.Getpid() || !strings.Contains(commandOf(number), "vessik")) {
				total += processorSeconds(number)
			}
		}
	}
	return total
}

func commandOf(pid int) string {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return string(text)
}

func median(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}

// BenchmarkGateway compares a style sheet through the gateway with the same one from the site's own port: requests a second with
// eight connections, and the latency of one.
func BenchmarkGateway(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.newSites(b, "fernhollow"))
	site := s.site(b, "fernhollow")
	const path = "wp-includes/css/buttons.min.css"
	host := strings.TrimSuffix(strings.TrimPrefix(site.URL, "http://"), "/")
	through := fmt.Sprintf("http://127.0.0.1:%d/%s", mustStatus(b, s).GatewayPort, path)
	direct := fmt.Sprintf("http://127.0.0.1:%d/%s", site.Port, path)
	proxied := fmt.Sprintf("http://127.0.0.1:%d/%s", proxyPort, path)
	proxy(b, mustStatus(b, s).EngineStore, site.Port)
	for b.Loop() {
		rateDirect, latencyDirect := load(b, direct, host)
		rateThrough, latencyThrough := load(b, through, host)
		rateProxied, latencyProxied := load(b, proxied, host)
		b.ReportMetric(rateProxied, "nginx-proxy-req/s")
		b.ReportMetric(rateThrough/rateProxied, "rate-of-nginx")
		b.ReportMetric(float64((latencyProxied - latencyDirect).Microseconds()), "nginx-added-µs")
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(rateThrough, "gateway-req/s")
		b.ReportMetric(rateDirect, "own-port-req/s")
		b.ReportMetric(rateThrough/rateDirect, "rate-ratio")
		b.ReportMetric(float64((latencyThrough - latencyDirect).Microseconds()), "added-µs")
	}
}

func load(b *testing.B, address, host string) (perSecond float64, latency time.Duration) {
	ask := func(client *http.Client) {
		request, err := http.NewRequest("GET", address, nil)
		must(b, err)
		request.Host = host
		response, err := client.Do(request)
		must(b, err)
		if response.StatusCode != 200 {
			must(b, errors.New(response.Status))
		}
		io.Copy(io.Discard, bufio.NewReader(response.Body))
		response.Body.Close()
	}
	one := &http.Client{Transport: &http.Transport{}}
	ask(one)
	began := time.Now()
	for range 500 {
		ask(one)
	}
	latency = time.Since(began) / 500
	span := 2 * time.Second
	if small() {
		span = 200 * time.Millisecond
	}
	var count atomic.Int64
	var group sync.WaitGroup
	began = time.Now()
	for range 8 {
		group.Go(func() {
			client := &http.Client{Transport: &http.Transport{}}
			for time.Since(began) < span {
				ask(client)
				count.Add(1)
			}
		})
	}
	group.Wait()
	return float64(count.Load()) / time.Since(began).Seconds(), latency
}

// BenchmarkStencil compares a site drawn from a stencil of 500 MB with tar and mariadb doing the same: unpacking the files from a plain
// archive, and loading the dump. The site's time ends when it is proven.
func BenchmarkStencil(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days"}))
	site := s.secrets(b, "orchard-days")
	uploads := filepath.Join(site.Folder, "wp-content/uploads")
	must(b, os.MkdirAll(uploads, 0o755))
	random := rand.New(rand.NewPCG(1, 2))
	picture := make([]byte, 200<<10)
	pictures, rows := 2000, 100
	if small() {
		pictures, rows = 20, 1
	}
	for i := range pictures {
		for j := 0; j < len(picture); j += 8 {
			binary.LittleEndian.PutUint64(picture[j:], random.Uint64())
		}
		must(b, os.WriteFile(filepath.Join(uploads, fmt.Sprintf("picture-%d.jpg", i)), picture, 0o644))
	}
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@tcp(127.0.0.1:%d)/%s", site.Database.User, site.Database.Password, site.Database.Port,
		site.Database.Name))
	require.NoError(b, err)
	defer db.Close()
	text := strings.Repeat(`<p>Forty-one sorts on one long table, see <a href="`+site.URL+`apples/">apples</a>.</p>`, 50)
	for range rows {
		_, err := db.Exec("INSERT INTO " + site.Prefix +
			"posts (post_title, post_content, post_excerpt, to_ping, pinged, post_content_filtered, post_status) VALUES " +
			strings.TrimSuffix(strings.Repeat("('apple', '"+text+"', '', '', '', '', 'draft'),", 250), ","))
		must(b, err)
	}
	s.watchCLI(b, "stencil", "save", "orchard-days", "orchard-all")
	dir := filepath.Dir(newHome(b))
	must(b, exec.Command("tar", "-cf", filepath.Join(dir, "files.tar"), "-C", site.Folder, ".").Run())
	environment, err := s.Environment(context.Background(), "orchard-days")
	require.NoError(b, err)
	dump := filepath.Join(dir, "dump.sql")
	script := "cd " + site.Folder + ` && php -r '$d = new PDO("mysql:host=127.0.0.1;port=` + strconv.Itoa(site.Database.Port) + `;dbname=` +
		site.Database.Name + `", "` + site.Database.User + `", "` + site.Database.Password + `");
foreach ($d->query("SHOW TABLES")->fetchAll(PDO::FETCH_COLUMN) as $t) {
	echo $d->query("SHOW CREATE TABLE \x60$t\x60")->fetch(PDO::FETCH_NUM)[1],
	";\n"; foreach (array_chunk($d->query("SELECT * FROM \x60$t\x60")->fetchAll(PDO::FETCH_NUM), 200) as $rows)
	echo "INSERT INTO \x60$t\x60 VALUES ", implode(",", array_map(fn($r) => "(" . implode(",", array_map(
	fn($v) => $v === null ? "NULL" : $d->quote($v), $r)) . ")", $rows)), ";\n"; }'`
	out, errs, code := run(b, "run", "orchard-days", "-home", s.home, "--", "sh", "-c", script)
	require.Zero(b, code, errs)
	must(b, os.WriteFile(dump, []byte(out), 0o644))
	b.Run("draw", func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			began := time.Now()
			requirePassed(b, s.made(b, client.Request{Name: fmt.Sprintf("drawn-%d", i), Stencil: "orchard-all"}))
			ours := time.Since(began)
			requirePassed(b, s.made(b, client.Request{Name: fmt.Sprintf("floor-%d", i), CMS: "empty"}))
			floor := s.secrets(b, fmt.Sprintf("floor-%d", i))
			began = time.Now()
			must(b, exec.Command("tar", "-xf", filepath.Join(dir, "files.tar"), "-C", dir).Run())
			load := exec.Command(filepath.Join(environment.Path, "mariadb"), "-h127.0.0.1", "-P"+strconv.Itoa(floor.Database.Port),
				"-u"+floor.Database.User, "-p"+floor.Database.Password, floor.Database.Name)
			file, err := os.Open(dump)
			require.NoError(b, err)
			load.Stdin = file
			text, err := load.CombinedOutput()
			require.NoError(b, err, string(text))
			file.Close()
			script := time.Since(began)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(ours.Seconds(), "s")
			b.ReportMetric(script.Seconds(), "floor-s")
			b.ReportMetric(ours.Seconds()/script.Seconds(), "ratio")
		}
	})
	b.Run("rewrite", func(b *testing.B) { // the same address by sed, which knows nothing of lengths
		for b.Loop() {
			began := time.Now()
			command := exec.Command("sed", "s~"+strings.TrimSuffix(site.URL, "/")+"~http://cider-days.localhost~g", dump)
			to, err := os.Create(filepath.Join(dir, "sed.sql"))
			require.NoError(b, err)
			command.Stdout = to
			must(b, command.Run())
			sed := time.Since(began)
			from, err := os.Open(dump)
			require.NoError(b, err)
			began = time.Now()
			must(b, rewrite.New(strings.TrimSuffix(site.URL, "/"), "http://cider-days.localhost").Dump(bufio.NewWriterSize(to, 1<<20), from))
			ours := time.Since(began)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(len(out))/(1<<20)/ours.Seconds(), "MB/s")
			b.ReportMetric(float64(len(out))/(1<<20)/sed.Seconds(), "sed-MB/s")
			b.ReportMetric(ours.Seconds()/sed.Seconds(), "ratio")
		}
	})
}
