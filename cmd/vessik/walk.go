package main

import (
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/walk"
	"vessik/internal/core/wire"
)

var walkCommand = command{name: "walk", names: "NAME", about: "walk through all pages of a site, and list what is wrong with them",
	synopsis: "Walks from the front page, the CMS's own lists and the sitemap through all pages of a site, as a visitor does, and lists, " +
		"the worst first: pages that fail\nor are slow, links and files that are broken, redirects that go round or on and on, what PHP says, " +
		"content over plain http, titles that are missing or\ndoubled, and forms that send elsewhere; with Chromium on this machine also " +
		"errors of scripts, requests that fail, what is wider than a phone, and what those\ncannot use who do not see it. The exit code is 3 " +
		"where a page fails, leads to what fails, or has PHP or a script complain; with -against, where a page is worse off.\nOther machines " +
		"are asked nothing, but for an address that -against names.",
	example: "vessik walk orchard-days\nvessik walk orchard-days -as editor -slow 500 -csv > walk.csv\n" +
		"vessik walk orchard-days -against last\nvessik walk orchard-days -against https://www.example.org/\n" +
		"vessik walk orchard-days -list", run: runWalk}

// walkFlags are what is asked for.
type walkFlags struct {
	asked            client.Walk
	browser          int
	list, csv, junit bool
	show, drop       string
}

func (f *walkFlags) declare(c *call) {
	c.flags.IntVar(&f.asked.Pages, "pages", 0, "walk through at most this many pages (default: 500)")
	c.flags.Int64Var(&f.asked.Slow, "slow", 0, "milliseconds that a page may take (default: 2000)")
	c.flags.StringVar(&f.asked.As, "as", "", "a user who is signed in meanwhile")
	c.flags.IntVar(&f.browser, "browser", -1, "let Chromium look at at most this many pages, 0 for none (default: 50 where there is one)")
	c.flags.StringVar(&f.asked.Against, "against", "", "compare with: last, an earlier walk by its id, another site, or an address")
	c.flags.BoolVar(&f.list, "list", false, "list the walks that are kept, the newest five")
	c.flags.StringVar(&f.show, "show", "", "show one of them again: an id, or last")
	c.flags.StringVar(&f.drop, "drop", "", "forget one of them: an id, or last")
	c.flags.BoolVar(&f.csv, "csv", false, "print CSV (RFC 4180), a line a finding")
	c.flags.BoolVar(&f.junit, "junit", false, "print JUnit XML, a case a page")
}

func (f *walkFlags) check(c *call) error {
	ways := 0
	for _, way := range []bool{f.list, f.show != "", f.drop != ""} {
		if way {
			ways++
		}
	}
	switch {
	case f.asked.Pages < 0 || f.asked.Pages > 5000:
		return usageError{"-pages counts pages, from 1 to 5000"}
	case f.asked.Slow < 0:
		return usageError{"-slow counts milliseconds"}
	case f.browser < -1:
		return usageError{"-browser counts pages"}
	case f.csv && f.junit, *c.json && (f.csv || f.junit):
		return usageError{"-json, -csv and -junit are three forms; choose one"}
	case ways > 1, ways > 0 && (f.asked.Against != "" || f.asked.As != "" || f.browser >= 0 || f.asked.Pages > 0):
		return usageError{"-list, -show and -drop are about walks that are kept; name one of them alone"}
	}
	return nil
}

func runWalk(ctx context.Context, c *call) error {
	var f walkFlags
	f.declare(c)
	service, err := c.connect(func() error { return f.check(c) })
	if err != nil {
		return err
	}
	if f.browser >= 0 {
		f.asked.Browser = &f.browser
	}
	name := c.names[0]
	var walked walk.Walked
	switch {
	case f.list:
		all, err := service.Walks(ctx, name)
		if err != nil {
			return err
		}
		return c.printWalks(all)
	case f.drop != "":
		return service.DropWalk(ctx, name, f.drop)
	case f.show != "":
		walked, err = service.EarlierWalk(ctx, name, f.show)
	default:
		walked, err = c.walk(ctx, service, name, f.asked)
	}
	if err != nil {
		return err
	}
	switch {
	case *c.json:
		err = c.printJSON(walked)
	case f.csv:
		err = c.walkCSV(walked)
	case f.junit:
		err = check.WriteJUnit(c.out, walked.Report(name))
	default:
		c.showWalk(walked)
	}
	if err == nil && bad(walked) {
		return exitCode(exitCheckFailed)
	}
	return err
}

func bad(walked walk.Walked) bool {
	if walked.Compared != nil {
		return len(walked.Compared.Worse()) > 0
	}
	return slices.ContainsFunc(walked.Pages, walk.WalkedPage.Bad)
}

// walk walks, and says how far it is where somebody looks.
func (c *call) walk(ctx context.Context, service *client.Client, name string, asked client.Walk) (walk.Walked, error) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return service.Walk(ctx, name, asked, func(wire.WalkProgress) {})
	}
	defer fmt.Fprint(os.Stderr, "\r\033[K")
	return service.Walk(ctx, name, asked, func(p wire.WalkProgress) {
		fmt.Fprintf(os.Stderr, "\r\033[K%s: %d of %d", p.Doing, p.Asked, p.Known)
	})
}

func (c *call) printWalks(all []client.WalkEnd) error {
	if *c.json {
		return c.printJSON(all)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, w := range all {
		fmt.Fprintf(table, "%s\t%s\t%d pages\t%d findings\t%s\n", w.ID, w.At.Local().Format("2006-01-02 15:04:05"), w.Pages, w.Findings,
			cmp.Or(w.As, "a visitor"))
	}
	return table.Flush()
}

func (c *call) showWalk(walked walk.Walked) {
	told := map[walk.PageFinding]bool{}
	for _, each := range walked.Common {
		told[each.Finding] = true
	}
	for _, page := range walked.Pages {
		own := slices.DeleteFunc(slices.Clone(page.Findings), func(f walk.PageFinding) bool { return told[f] })
		if len(own) == 0 {
			continue
		}
		fmt.Fprintf(c.out, "%s  %d, %d ms\n", bold(c.out, page.Path), page.Status, page.Milliseconds)
		for _, f := range own {
			fmt.Fprintf(c.out, "    %-14s  %s%s\n", f.Kind, map[bool]string{true: f.Where + "  "}[f.Where != ""], f.Text)
		}
	}
	for _, each := range walked.Common {
		const shown = 3
		f, more := each.Finding, ""
		if len(each.Paths) > shown {
			more = fmt.Sprintf(" and %d more", len(each.Paths)-shown)
		}
		fmt.Fprintf(c.out, "%s\n    %-14s  %s%s\n    %-14s  %s%s\n", bold(c.out, fmt.Sprintf("On %d pages", len(each.Paths))), f.Kind,
			map[bool]string{true: f.Where + "  "}[f.Where != ""], f.Text, "", strings.Join(each.Paths[:min(len(each.Paths), shown)], ", "), more)
	}
	more := map[bool]string{true: "; there are more than were walked: give -pages"}[walked.Cut]
	looked := map[bool]string{true: fmt.Sprintf(", %d of them in a browser,", walked.Looked)}[walked.Looked > 0]
	fmt.Fprintf(c.out, "%d pages%s and %d files in %.1f s: %d findings%s\n", len(walked.Pages), looked, walked.Files,
		float64(walked.Milliseconds)/1000, walked.Findings(), more)
	if walked.Compared != nil {
		c.showCompared(*walked.Compared)
	}
}

func (c *call) showCompared(compared walk.Compared) {
	fmt.Fprintf(c.out, "\nCompared with %s, %s: ", compared.With, compared.At.Local().Format("2006-01-02 15:04:05"))
	if len(compared.Differences) == 0 {
		fmt.Fprintf(c.out, "%d pages, no difference\n", compared.Pages)
		return
	}
	fmt.Fprintf(c.out, "%d pages, %d worse, %d differences in all\n", compared.Pages, len(compared.Worse()), len(compared.Differences))
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, d := range compared.Differences {
		fmt.Fprintf(table, "    %s\t%s  %s\n", d.Change, d.Path, d.Text)
	}
	table.Flush()
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
