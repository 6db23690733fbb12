package main

import (
	"context"
	"strings"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/wire"
)

var trialCommand = command{name: "trial", names: "NAME", about: "try a site on many stacks",
	synopsis: "Draws a temporary copy of a site for every combination of engines, verifies each, and shows a grid: verdicts, times, what " +
		"PHP said, and how much the front\npage looks different. Nothing is kept. Lists are parts of engines' names, joined by commas, or " +
		"all; what is left out is the site's own. Exits with 3 when a combination fails.",
	example: "vessik trial orchard-days -php all\nvessik trial orchard-days -php 7.4,8.4 -web all -database 11.8 -visit /hello-world/ " +
		"-junit > trial.xml", run: runTrial}

func runTrial(ctx context.Context, c *call) error {
	var t client.Trial
	var visit list
	c.flags.StringVar(&t.PHP, "php", "", "PHP engines")
	c.flags.StringVar(&t.Web, "web", "", "web server engines")
	c.flags.StringVar(&t.Database, "database", "", "database engines")
	c.flags.Var(&visit, "visit", "path to ask besides the front page, such as /shop/; may be given more than once")
	c.flags.BoolVar(&t.KeepCopies, "keep-copies", false, "keep the copies as sites")
	c.flags.BoolVar(&t.NoPicture, "no-picture", false, "take no pictures")
	c.flags.BoolVar(&t.Walk, "walk", false, "walk through all pages of the site and of each copy: one that is worse off fails the copy")
	junit := c.flags.Bool("junit", false, "print JUnit XML")
	service, err := c.connect(c.oneFormat("junit", junit))
	if err != nil {
		return err
	}
	t.Visit = visit
	operation, err := service.Try(ctx, c.names[0], t)
	if err != nil {
		return err
	}
	watched, err := c.follow(ctx, service, operation)
	if err != nil {
		return err
	}
	trial := wire.DetailsOf[plan.Trial](watched.Operation)
	switch {
	case *c.json:
		err = c.printJSON(trial)
	case *junit:
		err = check.WriteJUnit(c.out, trialReport(trial))
	default:
		err = plan.WriteGrid(c.out, trial)
	}
	if err != nil {
		return err
	}
	for _, cell := range trial.Cells {
		if cell.Verdict == check.Fail {
			return exitCode(exitCheckFailed)
		}
	}
	return outcome(watched)
}

// trialReport is a trial as a report: a suite a combination.
func trialReport(t plan.Trial) check.Report {
	sites := []check.SiteReport{}
	for _, cell := range t.Cells {
		report := check.SiteReport{Checks: []check.Result{{ID: "copy", Title: "The copy was made", Verdict: cell.Verdict,
			Observed: cell.Summary}}}
		if cell.Report != nil {
			report = *cell.Report
		}
		report.Site = t.Site + " on " + strings.Join(cell.Stack.IDs(), ", ")
		sites = append(sites, report)
	}
	return check.Together(sites)
}
