package test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"vessik/client"
)

// BenchmarkGrid pages through a table of ten million rows as the console does, and through one of a thousand: how much longer it takes.
func BenchmarkGrid(b *testing.B) {
	s := start(b, newHome(b))
	requirePassed(b, s.made(b, client.Request{Name: "orchard-days", CMS: "empty"}))
	rows := 10_000_000
	if small() {
		rows = 200_000
	}
	ctx := context.Background()
	fill := func(table string, rows int) {
		sql := fmt.Sprintf("CREATE TABLE %s (id INT PRIMARY KEY, name VARCHAR(40), note TEXT); "+
			"INSERT INTO %[1]s SELECT seq * 3, CONCAT('bed ', seq), REPEAT('moss ', seq %% 9) FROM seq_1_to_%d", table, rows)
		must(b, s.Query(ctx, "orchard-days", client.AskQuery{SQL: sql}, func(client.QueryLine) error { return nil }))
	}
	fill("beds", 1000)
	fill("meadow", rows)
	at := fmt.Sprint(rows / 2 * 3)
	took := func(table string, asked client.AskRows) time.Duration {
		best := time.Hour
		for range 5 {
			began := time.Now()
			page, err := s.Rows(ctx, "orchard-days", table, asked)
			must(b, err)
			if best = min(best, time.Since(began)); len(page.Rows) == 0 {
				b.Fatal("no rows of ", table, " for ", asked)
			}
		}
		return best
	}
	for b.Loop() {
		b.ReportMetric(0, "ns/op")
		for name, asked := range map[string]client.AskRows{"first": {}, "middle": {At: 0.5},
			"key": {Filters: []client.Filter{{Column: "id", Op: "is", Value: at}}}} {
			large := took("meadow", asked)
			if name == "key" {
				asked.Filters[0].Value = "1500"
			}
			b.ReportMetric(float64(large.Microseconds())/1000, name+"-ms")
			b.ReportMetric(float64(large)/float64(took("beds", asked)), name+"-to-a-small-table")
		}
	}
}
