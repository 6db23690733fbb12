package test

import (
	"fmt"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"vessik/client"
	"vessik/internal/safefile"
)

// fill gives a site content: pictures, of which nothing is to be compressed away, and posts.
func fill(b *testing.B, s *service, name string, megabytes int) client.Site {
	b.Helper()
	made, err := s.Site(ctx, name, true)
	must(b, err)
	dir := filepath.Join(made.Folder, "wp-content/uploads/2026")
	must(b, os.MkdirAll(dir, 0o755))
	picture, chance := make([]byte, 1<<20), rand.New(rand.NewSource(1))
	for i := range megabytes {
		chance.Read(picture)
		must(b, os.WriteFile(filepath.Join(dir, fmt.Sprintf("apple-%d.jpg", i)), picture, 0o644))
	}
	rows := fmt.Sprintf("INSERT INTO %sposts (post_title, post_content, post_excerpt, to_ping, pinged, post_content_filtered) "+
		"SELECT CONCAT('Post ', seq), REPEAT(CONCAT('fern ', seq, ' '), 100), '', '', '', '' FROM seq_1_to_%d", made.Prefix, 20*megabytes)
	must(b, s.Query(ctx, name, client.AskQuery{SQL: rows}, func(client.QueryLine) error { return nil }))
	return made
}

// timed runs a command that must succeed.
func (s *service) timed(b *testing.B, arguments ...string) time.Duration {
	b.Helper()
	began := time.Now()
	if out, errs, code := s.cli(arguments...); code != 0 {
		b.Fatal(out, errs)
	}
	return time.Since(began)
}

// BenchmarkParcel packs a site and unpacks it, to tar, zstd and the database's own programs that do the same.
func BenchmarkParcel(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days"}))
	megabytes := 500
	if small() {
		megabytes = 10
	}
	at := fill(b, s, "orchard-days", megabytes)
	dir, err := os.MkdirTemp(scratch, "bench-")
	must(b, err)
	defer os.RemoveAll(dir)
	must(b, os.Chmod(dir, 0o755))
	in := func(name string) string { return filepath.Join(dir, name) }
	shell := func(script string, arguments ...any) time.Duration {
		began := time.Now()
		out, err := exec.CommandContext(ctx, "bash", "-ec", fmt.Sprintf(script, arguments...)).CombinedOutput()
		if err != nil {
			b.Fatal(string(out), err)
		}
		return time.Since(began)
	}
	ours := func(arguments ...string) time.Duration { return s.timed(b, arguments...) }
	access := fmt.Sprintf("-h127.0.0.1 -P%d -u%s -p%s %s", at.Database.Port, at.Database.User, at.Database.Password, at.Database.Name)
	for b.Loop() {
		b.ReportMetric(0, "ns/op")
		floor := shell("mariadb-dump %s > %s/dump.sql && tar -C %s -cf - . | zstd -q > %[2]s/files.tar.zst", access, dir, at.Folder)
		out := ours("parcel", "orchard-days", "-o", in("orchard.parcel.tar.zst"))
		must(b, os.Chmod(in("orchard.parcel.tar.zst"), 0o644))
		floorIn := shell("mkdir %[1]s/files && zstd -qdc %[1]s/files.tar.zst | tar -C %[1]s/files -xf - && mariadb %[2]s < %[1]s/dump.sql",
			dir, access)
		into := ours("new", "apple-days", "-parcel", in("orchard.parcel.tar.zst"))
		b.ReportMetric(float64(out)/float64(floor), "out-ratio")
		b.ReportMetric(float64(into)/float64(floorIn), "in-ratio")
		packed := size(in("files.tar.zst")) + size(in("dump.sql"))
		b.ReportMetric(float64(size(in("orchard.parcel.tar.zst")))/float64(packed), "size-ratio")
		s.retire(b, "apple-days")
		for _, name := range []string{"orchard.parcel.tar.zst", "files.tar.zst", "dump.sql", "files"} {
			must(b, os.RemoveAll(in(name)))
		}
	}
}

func size(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// BenchmarkPoints takes twenty points of a site of which little changes between them: what all take, to what the first does.
func BenchmarkPoints(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days"}))
	megabytes, points := 500, 20
	if small() {
		megabytes, points = 10, 5
	}
	at := fill(b, s, "orchard-days", megabytes)
	kept := filepath.Join(s.home, "restore/orchard-days")
	take := func() time.Duration {
		began := time.Now()
		if out, errs, code := s.cli("restore", "orchard-days", "-make"); code != 0 {
			b.Fatal(out, errs)
		}
		return time.Since(began)
	}
	must(b, os.WriteFile(filepath.Join(at.Folder, "fern.php"), []byte("<?php echo 'fern';"), 0o644))
	asked := func(while func()) (longest time.Duration) { // of the requests that come meanwhile, one after the other
		done := make(chan struct{})
		go func() { defer close(done); while() }()
		for {
			select {
			case <-done:
				return longest
			default:
			}
			began := time.Now()
			if status, _, _ := get(b, at.URL+"fern.php"); status != 200 {
				b.Error(status)
			}
			longest = max(longest, time.Since(began))
		}
	}
	for b.Loop() {
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(float64(asked(func() { time.Sleep(3 * time.Second) }).Milliseconds()), "longest-else-ms")
		first := time.Duration(0)
		longest := asked(func() { first = take() })
		b.ReportMetric(float64(longest.Milliseconds()), "longest-ms")
		one := safefile.Bytes(kept)
		time.Sleep(2500 * time.Millisecond) // what is as new as a point is read again by the next
		later := time.Duration(0)
		for i := range points - 1 {
			must(b, os.WriteFile(filepath.Join(at.Folder, "wp-content/uploads", fmt.Sprint("note-", i)), []byte(fmt.Sprint(i)), 0o644))
			sql := fmt.Sprintf("UPDATE %sposts SET post_title='changed %d' WHERE ID=%d", at.Prefix, i, 100+i)
			must(b, s.Query(ctx, "orchard-days", client.AskQuery{SQL: sql}, func(client.QueryLine) error { return nil }))
			later += take()
		}
		b.ReportMetric(float64(safefile.Bytes(kept))/float64(one), "size-ratio")
		b.ReportMetric(first.Seconds(), "first-s")
		b.ReportMetric((later / time.Duration(points-1)).Seconds(), "later-s")
		for _, point := range must2(s.RestorePoints(ctx, "orchard-days"))(b) {
			must(b, s.DropPoint(ctx, "orchard-days", point.ID))
		}
	}
}

// must2 is what a call returns, unless it fails.
func must2[T any](value T, err error) func(b *testing.B) T {
	return func(b *testing.B) T {
		b.Helper()
		must(b, err)
		return value
	}
}
