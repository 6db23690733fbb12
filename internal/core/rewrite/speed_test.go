package rewrite

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// dense is a dump in which every row holds addresses: in text, in JSON and serialised.
func dense(megabytes int) []byte {
	var out bytes.Buffer
	const address = "http://orchard-days.localhost:20080"
	for row := 0; out.Len() < megabytes<<20; {
		out.WriteString("INSERT INTO `wp_posts` (`ID`,`post_content`,`meta`) VALUES ")
		for i := range 50 {
			if i > 0 {
				out.WriteByte(',')
			}
			row++
			link := fmt.Sprintf("%s/apples/%d/", address, row)
			serialised := fmt.Sprintf(`a:2:{s:3:\"url\";s:%d:\"%s\";s:4:\"note\";s:12:\"It\'s autumn!\";}`, len(link), link)
			fmt.Fprintf(&out, `(%d,'<p>The orchard opens on day %d. See <a href=\"%s\">the apples</a>, and bring a basket: there are more than `+
				`last year.</p>\n<p>Quinces and medlars follow in October, walnuts after the first frost.</p>','%s')`,
				row, row, link, serialised)
		}
		out.WriteString(";\n")
	}
	return out.Bytes()
}

// BenchmarkDump tells the rewriter's speed as a ratio to sed's over the same file, where addresses stand in every row.
func BenchmarkDump(b *testing.B) {
	file := filepath.Join(b.TempDir(), "dump.sql")
	text := dense(128)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		b.Fatal(err)
	}
	best := func(work func()) time.Duration {
		fastest := time.Hour
		for range 3 {
			began := time.Now()
			work()
			fastest = min(fastest, time.Since(began))
		}
		return fastest
	}
	sed := best(func() {
		out, err := os.Create(file + ".sed")
		if err != nil {
			b.Fatal(err)
		}
		defer out.Close()
		command := exec.Command("sed", "s#http://orchard-days\\.localhost:20080#http://apple-days.test#g", file)
		command.Stdout = out
		if err := command.Run(); err != nil {
			b.Fatal(err)
		}
	})
	own := best(func() {
		in, err := os.Open(file)
		if err != nil {
			b.Fatal(err)
		}
		defer in.Close()
		out, err := os.Create(file + ".own")
		if err != nil {
			b.Fatal(err)
		}
		defer out.Close()
		if err := New("http://orchard-days.localhost:20080", "http://apple-days.test").Dump(out, io.Reader(in)); err != nil {
			b.Fatal(err)
		}
	})
	megabytes := float64(len(text)) / (1 << 20)
	b.ReportMetric(megabytes/own.Seconds(), "MB/s")
	b.ReportMetric(megabytes/sed.Seconds(), "sed-MB/s")
	b.ReportMetric(own.Seconds()/sed.Seconds(), "ratio-to-sed")
	b.ReportMetric(0, "ns/op")
}
