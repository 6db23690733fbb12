package test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"vessik/client"
	"vessik/internal/core/wire"
)

// BenchmarkWalk walks through a WordPress, and asks for the same pages by a client that only asks, four at a time: how the pages a second
// of the one are to those of the other.
func BenchmarkWalk(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days"}))
	posts := 300
	if small() {
		posts = 20
	}
	at := s.site(b, "orchard-days")
	post(b, at, "", fmt.Sprintf(`require 'wp-load.php'; for ($i = 0; $i < %d; $i++) { wp_insert_post(['post_title' => "Bed $i",
		'post_content' => str_repeat('<p>Ferns and moss.</p>', 40), 'post_status' => 'publish']); }`, posts))
	for b.Loop() {
		paths, began := []string{}, time.Now()
		none := 0
		found, err := s.Walk(context.Background(), "orchard-days", client.Walk{Browser: &none}, func(wire.WalkProgress) {})
		must(b, err)
		for _, page := range found.Pages {
			paths = append(paths, page.Path)
		}
		walked := float64(len(paths)) / time.Since(began).Seconds()
		if len(paths) < posts {
			b.Fatal(len(paths), " pages were found of ", posts)
		}
		began = time.Now()
		waiting := make(chan string)
		var asking sync.WaitGroup
		for range 4 {
			asking.Go(func() {
				for path := range waiting {
					get(b, at.URL+path[1:])
				}
			})
		}
		for _, path := range paths {
			waiting <- path
		}
		close(waiting)
		asking.Wait()
		asked := float64(len(paths)) / time.Since(began).Seconds()
		b.ReportMetric(0, "ns/op")
		b.ReportMetric(walked, "pages/s")
		b.ReportMetric(asked, "asked-only-pages/s")
		b.ReportMetric(walked/asked, "of-asked-only")
	}
}
