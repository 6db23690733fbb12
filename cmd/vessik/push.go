package main

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"
	"text/tabwriter"

	"golang.org/x/term"

	"vessik/client"
)

var pushCommand = command{name: "push", names: "NAME ACCOUNT", about: "bring what was changed of a site to a hosting account",
	synopsis: "Brings to a host what was changed here since something was moved between both last: files, and tables of the database " +
		"with the host's " +
		"addresses.\nWhat was changed at the host alone stays, and so do tables that tell of people, the configuration, the administrator's " +
		"address and " +
		"what search engines may do.\nIt is shown first, and asked for (-yes for scripts). What was changed on both sides is a conflict: " +
		"keep the host's " +
		"with -keep, or say -overwrite.\nNew files lie beside the old ones before all of them are switched at once; the live site is asked " +
		"before and after, " +
		"and goes back by itself when it answers worse.\npush ACCOUNT -back takes the last push back.",
	example: "vessik push orchard-days orchard-live -dry-run\nvessik push orchard-days orchard-live -files -only wp-content/themes/hedge " +
		"-yes\n" +
		"vessik push orchard-live -back", run: runPush}

func runPush(ctx context.Context, c *call) error {
	var asked client.Push
	var paths, tables, keep list
	c.flags.Var(&paths, "only", "path in the site's folder, besides which no file is pushed; may be given more than once")
	c.flags.Var(&tables, "tables", "table as it is called at the host, besides which none is pushed; may be given more than once")
	c.flags.Var(&keep, "keep", "path or table that stays what it is at the host; may be given more than once")
	files := c.flags.Bool("files", false, "files alone")
	database := c.flags.Bool("database", false, "the database alone")
	c.flags.BoolVar(&asked.People, "people", false, "also tables that tell of people, which stay the host's otherwise")
	c.flags.BoolVar(&asked.Overwrite, "overwrite", false, "also what was changed at the host since the last move")
	c.flags.BoolVar(&asked.Stay, "stay", false, "stay with it although the live site answers worse than before")
	c.flags.BoolVar(&asked.Walk, "walk", false, "ask all pages of the live site before and after, up to 200, not its front page alone")
	pictures := c.flags.Bool("pictures", false, "compare pictures of both front pages at the end")
	dry := c.flags.Bool("dry-run", false, "tell what would be pushed, and change nothing at the host")
	yes := c.flags.Bool("yes", false, "do not ask")
	back := c.flags.Bool("back", false, "take the last push to the account back")
	service, err := c.connect(func() error {
		switch {
		case *back && len(c.names) != 1:
			return usageError{"it is: push ACCOUNT -back"}
		case !*back && len(c.names) != 2:
			return usageError{"name a site and a hosting account: push NAME ACCOUNT"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if *back {
		operation, err := service.PushBack(ctx, c.names[0], asked.Overwrite)
		return c.showPush(ctx, service, operation, err)
	}
	asked.Site, asked.Paths, asked.Tables, asked.Keep = c.names[0], paths, tables, keep
	if *files != *database {
		asked.Only = map[bool]string{true: "files", false: "database"}[*files]
	}
	if *dry || !*yes {
		if sure, err := c.previewPush(ctx, service, asked, *dry); err != nil || !sure {
			return err
		}
	}
	operation, err := service.PushAccount(ctx, c.names[1], asked)
	if err := c.showPush(ctx, service, operation, err); err != nil || !*pictures {
		return err
	}
	return c.comparePictures(ctx, service, c.names[1], "")
}

// previewPush shows what would be pushed, and asks whether it is to be.
func (c *call) previewPush(ctx context.Context, service *client.Client, asked client.Push, dry bool) (sure bool, err error) {
	asked.DryRun = true
	operation, err := service.PushAccount(ctx, c.names[1], asked)
	if err != nil {
		return false, err
	}
	watched, err := c.follow(ctx, service, operation)
	if err != nil {
		return false, err
	}
	p := client.PushedBy(watched)
	if failed := outcome(watched); failed != nil || p == nil {
		return false, failed
	}
	if dry && *c.json {
		return false, c.printJSON(p)
	}
	if err := c.printPushed(p); err != nil || dry {
		return false, err
	}
	if len(p.Files)+len(p.Tables) == 0 {
		return false, nil
	}
	if p.Conflicts > 0 && !asked.Overwrite {
		return false, exitCode(exitFailed)
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return false, usageError{"nobody is there to be asked; say -yes"}
	}
	fmt.Fprintf(os.Stderr, "Push this to %s? Type yes: ", c.names[1])
	typed, err := bufio.NewReader(os.Stdin).ReadString('\n')
	return strings.TrimSpace(typed) == "yes", err
}

// printPushed tells what is pushed, or would be.
func (c *call) printPushed(p *client.Pushed) error {
	if len(p.Files)+len(p.Tables) == 0 {
		fmt.Fprintln(c.out, "Nothing was changed here that the host does not have.")
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	marked := map[bool]string{true: "conflict: changed at the host as well"}
	const most = 40
	for i, f := range p.Files {
		if i == most {
			fmt.Fprintf(table, "\tand %d more\t\t\n", p.New+p.Changed+p.Gone-most)
			break
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", f.What, f.Path, sizeOf(f.Bytes), marked[f.Conflict])
	}
	for _, t := range p.Tables {
		lost := ""
		if t.Lost > 0 {
			lost = fmt.Sprintf("conflict: %d changed at the host as well", t.Lost)
		}
		fmt.Fprintf(table, "table\t%s\t%d rows come, %d go\t%s\n", t.Name, t.New, t.Gone, lost)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "files: %d new, %d changed, %d gone; tables: %d; %s to carry\n", p.New, p.Changed, p.Gone, len(p.Tables),
		sizeOf(p.Bytes))
	if p.Stays > 0 || len(p.StaysTables) > 0 {
		fmt.Fprintf(c.out, "stays at the host: %d files, tables %s\n", p.Stays, strings.Join(p.StaysTables, ", "))
	}
	for _, warning := range p.Warnings {
		fmt.Fprintf(c.out, "→ %s\n", warning)
	}
	if p.Conflicts > 0 {
		fmt.Fprintf(c.out, "→ %d conflicts: keep the host's with -keep PATH or -keep TABLE, or say -overwrite\n", p.Conflicts)
	}
	return nil
}

// showPush follows a push to its end.
func (c *call) showPush(ctx context.Context, service *client.Client, operation client.Operation, err error) error {
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	p := client.PushedBy(watched)
	if p != nil && !*c.json {
		for _, page := range p.PagesWorse {
			fmt.Fprintf(c.out, "worse: %s %s\n", page.Path, page.Why)
		}
	}
	if p != nil && p.WentBack {
		return exitCode(exitCheckFailed)
	}
	if p != nil && p.Conflicts > 0 && watched.State != "done" && !*c.json {
		c.printPushed(p)
	}
	if failed := outcome(watched); failed != nil || *c.json {
		return failed
	}
	if p != nil {
		if p.Pages > 0 && len(p.PagesWorse) == 0 {
			fmt.Fprintf(c.out, "%d pages of the live site answer as before\n", p.Pages)
		}
		fmt.Fprintf(c.out, "pushed: %d files, %d tables; take it back with: vessik push %s -back\n", p.New+p.Changed+p.Gone, len(p.Tables),
			p.Account)
		return nil
	}
	fmt.Fprintln(c.out, "The host is what it was before the last push.")
	return nil
}
