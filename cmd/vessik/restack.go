package main

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

var restackCommand = command{name: "restack", names: "NAME", about: "change a site's PHP, web server or database",
	synopsis: "Puts a site on other engines: says what will happen, takes a restore point, switches, verifies, and goes back by itself " +
		"when a check that passed before\nno longer does. Engines may be written in part: 8.4, apache, mariadb-11. Exits with 3 when the site " +
		"went back.",
	example: "vessik restack orchard-days -php 8.4\nvessik restack orchard-days -web apache -database 11.8 -dry-run", run: runRestack}

func runRestack(ctx context.Context, c *call) error {
	var r client.Restack
	c.flags.StringVar(&r.PHP, "php", "", "PHP engine")
	c.flags.StringVar(&r.Web, "web", "", "web server engine")
	c.flags.StringVar(&r.Database, "database", "", "database engine")
	c.flags.BoolVar(&r.Stay, "stay", false, "stay on the new stack although a check fails on it")
	c.flags.BoolVar(&r.Walk, "walk", false, "walk through all pages before and after: one that is worse off counts as a check that fails")
	dryRun := c.flags.Bool("dry-run", false, "only say what would happen")
	service, err := c.connect(func() error {
		if r.PHP+r.Web+r.Database == "" {
			return usageError{"name an engine with -php, -web or -database"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	shown, err := service.PreviewRestack(ctx, c.names[0], r)
	if err != nil {
		return err
	}
	if !*c.json {
		printPreview(c.out, c.names[0], shown)
	}
	if *dryRun {
		if *c.json {
			return c.printJSON(shown)
		}
		return nil
	}
	operation, err := service.Restack(ctx, c.names[0], r)
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if !*c.json {
		c.printChange(watched)
	}
	return outcome(watched)
}

func printPreview(out io.Writer, name string, p client.RestackPreview) {
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(table, "%s\t\n", name)
	for _, row := range [][3]string{{"PHP", p.Before.PHP, p.After.PHP}, {"web server", p.Before.Web, p.After.Web},
		{"database", p.Before.Database, p.After.Database}} {
		change := row[1] + " stays"
		if row[1] != row[2] {
			change = row[1] + " → " + row[2]
		}
		fmt.Fprintf(table, "  %s\t%s\n", row[0], change)
	}
	fmt.Fprintf(table, "  steps\t%s\n", strings.Join(p.Steps, ", "))
	if len(p.Fetch) > 0 {
		fmt.Fprintf(table, "  fetched first\t%s\n", strings.Join(p.Fetch, ", "))
	}
	known := p.Supported
	if p.Warning != "" {
		known = p.Warning + "; " + known
	}
	fmt.Fprintf(table, "  CMS\t%s\n  visitors notice\t%s\n", known, p.Downtime)
	table.Flush()
}

// changeOf is what a change tells of itself; of other operations it is empty.
func changeOf(watched client.Watched) plan.Change {
	return wire.DetailsOf[plan.Change](watched.Operation)
}

// printChange says how a change ended.
func (c *call) printChange(watched client.Watched) {
	change := changeOf(watched)
	for _, part := range watched.Sites {
		summary := "not verified, since the site does not run"
		if part.Report != nil && part.Report.Passed != nil {
			summary = part.Report.Summary()
		}
		fmt.Fprintf(c.out, "%s: %s", site.Shown(part.Site), summary)
		if change.DowntimeMilliseconds > 0 {
			fmt.Fprintf(c.out, "; longest time without an answer %d ms", change.DowntimeMilliseconds)
		}
		fmt.Fprintln(c.out)
		if change.Moved != "" {
			fmt.Fprintf(c.out, "  database: %s\n", change.Moved)
		}
		if change.WentBack {
			for _, report := range part.Earlier {
				if report.Stage != "after" {
					continue
				}
				for _, id := range change.Worse {
					r := report.Result(check.ID(id))
					fmt.Fprintf(c.out, "\n  %s (%s), after the change\n    expected  %s\n    observed  %s\n    remedy    %s\n", r.Title, r.ID, r.Expected,
						r.Observed, r.Remedy)
				}
			}
		}
		if change.RestorePoint != "" {
			id := filepath.Base(change.RestorePoint)
			fmt.Fprintf(c.out, "  restore point: %s (vessik restore %s -back %s)\n", id, site.Shown(part.Site), id)
		}
	}
}

// oneFormat sees to it that not both -json and another form of output are asked for.
func (c *call) oneFormat(name string, asked *bool) func() error {
	return func() error {
		if *c.json && *asked {
			return usageError{"-json and -" + name + " exclude each other"}
		}
		return nil
	}
}
