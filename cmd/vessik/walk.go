package main

import (
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"slices"
	"strconv"

	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/core/walk"
)

var walkCommand = command{name: "walk", names: "NAME", about: "walk through all pages of a site, and list what is wrong with them",
	synopsis: "Walks from the front page, the CMS's own lists and the sitemap through all pages of a site, as a visitor does, and lists, " +
		"the worst first: pages that fail\nor are slow, links and files that are broken, redirects that go round or on and on, what PHP says, " +
		"content over plain http, titles that are missing or\ndoubled, and forms that send elsewhere. The exit code is 3 where a page fails, " +
		"leads to what fails, or has PHP complain. Other machines are asked nothing.",
	example: "vessik walk orchard-days\nvessik walk orchard-days -as editor -slow 500 -csv > walk.csv", run: runWalk}

func runWalk(ctx context.Context, c *call) error {
	asked := client.Walk{}
	c.flags.IntVar(&asked.Pages, "pages", 0, "walk through at most this many pages (default: 500)")
	c.flags.Int64Var(&asked.Slow, "slow", 0, "milliseconds that a page may take (default: 2000)")
	c.flags.StringVar(&asked.As, "as", "", "a user who is signed in meanwhile")
	asCSV := c.flags.Bool("csv", false, "print CSV (RFC 4180), a line a finding")
	asJUnit := c.flags.Bool("junit", false, "print JUnit XML, a case a page")
	service, err := c.connect(func() error {
		switch {
		case asked.Pages < 0 || asked.Pages > 5000:
			return usageError{"-pages counts pages, from 1 to 5000"}
		case asked.Slow < 0:
			return usageError{"-slow counts milliseconds"}
		case *asCSV && *asJUnit, *c.json && (*asCSV || *asJUnit):
			return usageError{"-json, -csv and -junit are three forms; choose one"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	walked := walk.Walked{Pages: []client.WalkedPage{}}
	progress := term.IsTerminal(int(os.Stderr.Fd()))
	err = service.Walk(ctx, c.names[0], asked, func(line client.WalkLine) error {
		switch {
		case line.Progress != nil && progress:
			fmt.Fprintf(os.Stderr, "\r\033[K%d of %d", line.Progress.Asked, line.Progress.Known)
		case line.Page != nil:
			walked.Pages = append(walked.Pages, *line.Page)
		case line.End != nil:
			walked.Files, walked.Cut, walked.Milliseconds = line.End.Files, line.End.Cut, line.End.Milliseconds
		}
		return nil
	})
	if progress {
		fmt.Fprint(os.Stderr, "\r\033[K")
	}
	if err != nil {
		return err
	}
	switch {
	case *c.json:
		err = c.printJSON(walked)
	case *asCSV:
		err = c.walkCSV(walked)
	case *asJUnit:
		err = walked.WriteJUnit(c.out, c.names[0])
	default:
		c.showWalk(walked)
	}
	if err == nil && slices.ContainsFunc(walked.Pages, walk.WalkedPage.Bad) {
		return exitCode(exitCheckFailed)
	}
	return err
}

func (c *call) showWalk(walked walk.Walked) {
	findings := 0
	for _, page := range walked.Pages {
		if findings += len(page.Findings); len(page.Findings) == 0 {
			continue
		}
		fmt.Fprintf(c.out, "%s  %d, %d ms\n", bold(c.out, page.Path), page.Status, page.Milliseconds)
		for _, f := range page.Findings {
			fmt.Fprintf(c.out, "    %-14s  %s%s\n", f.Kind, map[bool]string{true: f.Where + "  "}[f.Where != ""], f.Text)
		}
	}
	more := map[bool]string{true: "; there are more than were walked: give -pages"}[walked.Cut]
	fmt.Fprintf(c.out, "%d pages and %d files in %.1f s: %d findings%s\n", len(walked.Pages), walked.Files,
		float64(walked.Milliseconds)/1000, findings, more)
}

func (c *call) walkCSV(walked walk.Walked) error {
	out := csv.NewWriter(c.out)
	out.Write([]string{"path", "status", "milliseconds", "title", "kind", "where", "text"})
	for _, page := range walked.Pages {
		head := []string{page.Path, strconv.Itoa(page.Status), strconv.FormatInt(page.Milliseconds, 10), page.Title}
		if len(page.Findings) == 0 {
			out.Write(append(head, "", "", ""))
		}
		for _, f := range page.Findings {
			out.Write(append(slices.Clone(head), string(f.Kind), f.Where, f.Text))
		}
	}
	out.Flush()
	return out.Error()
}
