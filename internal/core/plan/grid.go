package plan

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/internal/core/check"
	"vessik/internal/core/site"
)

// WriteGrid writes a trial for people: a grid for each database, web servers down, PHP versions across; below it what failed, and
// what PHP said where.
func WriteGrid(w io.Writer, t Trial) error {
	phps, webs, databases := axis(t, func(s site.Stack) string { return s.PHP }), axis(t, func(s site.Stack) string { return s.Web }),
		axis(t, func(s site.Stack) string { return s.Database })
	for i, database := range databases {
		if i > 0 {
			fmt.Fprintln(w)
		}
		table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
		fmt.Fprintf(table, "%s\t%s\n", database, strings.Join(phps, "\t"))
		for _, web := range webs {
			fmt.Fprintf(table, "  %s", web)
			for _, php := range phps {
				fmt.Fprintf(table, "\t%s", cellWords(t, site.Stack{PHP: php, Web: web, Database: database}))
			}
			fmt.Fprintln(table)
		}
		if err := table.Flush(); err != nil {
			return err
		}
	}
	for _, c := range t.Cells {
		if c.Verdict != check.Fail {
			continue
		}
		fmt.Fprintf(w, "\n%s: %s\n", strings.Join(c.Stack.IDs(), ", "), c.Summary)
		if c.Report != nil {
			for _, r := range c.Report.Checks {
				if r.Verdict == check.Fail {
					fmt.Fprintf(w, "  %s (%s)\n    observed  %s\n    remedy    %s\n", r.Title, r.ID, r.Observed, r.Remedy)
				}
			}
		}
	}
	writeMessages(w, t)
	for _, c := range t.Cells {
		if c.Supported != "" {
			fmt.Fprintf(w, "\n* not among what is known: %s\n", c.Supported)
			break
		}
	}
	return nil
}

func axis(t Trial, of func(site.Stack) string) []string {
	found := []string{}
	for _, c := range t.Cells {
		if id := of(c.Stack); !slices.Contains(found, id) {
			found = append(found, id)
		}
	}
	slices.SortFunc(found, func(a, b string) int {
		nameA, _, _ := strings.Cut(a, "-")
		nameB, _, _ := strings.Cut(b, "-")
		return cmp.Or(cmp.Compare(nameA, nameB), site.CompareVersions(a, b))
	})
	return found
}

// cellWords are one combination in a few words: verdict, time of the front page, messages of PHP, share of different pixels.
func cellWords(t Trial, stack site.Stack) string {
	for _, c := range t.Cells {
		if c.Stack != stack {
			continue
		}
		words := map[check.Verdict]string{check.Pass: "pass", check.Fail: "FAIL", check.Skip: "–"}[c.Verdict]
		if c.Supported != "" {
			words += "*"
		}
		if c.Milliseconds > 0 {
			words += fmt.Sprintf(" %d ms", c.Milliseconds)
		}
		count := 0
		for _, m := range c.Messages {
			count += m.Count
		}
		if count > 0 {
			words += fmt.Sprintf(", %d said", count)
		}
		if c.Different != nil && *c.Different >= 0.0005 {
			words += fmt.Sprintf(", looks %.1f%% different", *c.Different*100)
		}
		return words
	}
	return ""
}

// writeMessages writes what PHP said, each thing once, with the versions that said it.
func writeMessages(w io.Writer, t Trial) {
	type said struct {
		Message
		by []string
	}
	all := []said{}
	for _, c := range t.Cells {
		for _, m := range c.Messages {
			i := slices.IndexFunc(all, func(s said) bool { return s.Level == m.Level && s.Text == m.Text && s.Where == m.Where })
			if i < 0 {
				all = append(all, said{Message: Message{Level: m.Level, Text: m.Text, Where: m.Where}})
				i = len(all) - 1
			}
			all[i].Count += m.Count
			if !slices.Contains(all[i].by, c.Stack.PHP) {
				all[i].by = append(all[i].by, c.Stack.PHP)
			}
		}
	}
	if len(all) == 0 {
		return
	}
	const most = 12
	fmt.Fprintln(w, "\nPHP said, while the pages were asked:")
	for _, s := range all[:min(len(all), most)] {
		slices.Sort(s.by)
		fmt.Fprintf(w, "  %s: %s\n    %s (%d times, on %s)\n", s.Level, s.Text, s.Where, s.Count, strings.Join(s.by, ", "))
	}
	if len(all) > most {
		fmt.Fprintf(w, "  and %d things more: -json\n", len(all)-most)
	}
}
