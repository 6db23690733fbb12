package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"vessik/client"
)

var restoreCommand = command{name: "restore", names: "NAME", about: "restore points of a site: list, make, go back to, drop",
	synopsis: "Lists a site's restore points: its files and database at one moment. Changes of stack, address and content take one by " +
		"themselves, and the newest\ntwo of these stay; one that was made with -make stays until it is dropped. -back leads files and " +
		"database back to a point, while name, domain,\nstack and settings stay; a point of how the site is now is taken first, and the site " +
		"returns to it by itself when a check fails that passed before.",
	example: "vessik restore orchard-days\nvessik restore orchard-days -make -note \"before the new theme\"\n" +
		"vessik restore orchard-days -back 12 -dry-run\nvessik restore orchard-days -back 12", run: runRestore}

type restoring struct {
	takes, dry, stay, verify bool
	note, back, drop         string
}

func (r restoring) check(names []string) error {
	asked := 0
	for _, each := range []bool{r.takes, r.back != "", r.drop != "", r.verify} {
		if each {
			asked++
		}
	}
	switch {
	case asked > 1:
		return usageError{"-make, -back, -drop and -verify exclude each other"}
	case r.note != "" && !r.takes:
		return usageError{"-note goes with -make"}
	case (r.dry || r.stay) && r.back == "":
		return usageError{"-dry-run and -stay go with -back ID"}
	}
	return nil
}

func runRestore(ctx context.Context, c *call) error {
	var r restoring
	c.flags.BoolVar(&r.takes, "make", false, "take a restore point, which stays until it is dropped")
	c.flags.StringVar(&r.note, "note", "", "with -make: what it is for")
	c.flags.StringVar(&r.back, "back", "", "go back to this restore point")
	c.flags.BoolVar(&r.dry, "dry-run", false, "with -back: tell which files and tables would change, and change nothing")
	c.flags.BoolVar(&r.stay, "stay", false, "with -back: stay there although a check fails")
	c.flags.StringVar(&r.drop, "drop", "", "drop this restore point")
	c.flags.BoolVar(&r.verify, "verify", false, "read all that the restore points are made of, and tell what is damaged")
	service, err := c.connect(func() error { return r.check(c.names) })
	if err != nil {
		return err
	}
	name := c.names[0]
	switch {
	case r.takes:
		operation, err := service.MakePoint(ctx, name, r.note)
		watched, err := c.carryOut(ctx, service, operation, err)
		if err == nil {
			err = outcome(watched)
		}
		if err != nil || *c.json {
			return err
		}
		fmt.Fprintf(c.out, "restore point %s; go back to it with: vessik restore %s -back %s\n", watched.ID, name, watched.ID)
		return nil
	case r.back != "" && r.dry:
		preview, err := service.PreviewGoBack(ctx, name, r.back)
		return c.showPreview(preview, err)
	case r.back != "":
		operation, err := service.GoBack(ctx, name, r.back, r.stay)
		return c.showChange(ctx, service, operation, err)
	case r.verify:
		verified, err := service.VerifyPoints(ctx, name)
		return c.showVerified(verified, err)
	case r.drop != "":
		if err := service.DropPoint(ctx, name, r.drop); err != nil {
			return err
		}
		if !*c.json {
			fmt.Fprintln(c.out, "dropped: "+r.drop)
			return nil
		}
	}
	points, err := service.RestorePoints(ctx, name)
	if err != nil {
		return err
	}
	return c.showPoints(name, points)
}

func (c *call) showPoints(name string, points []client.RestorePoint) error {
	if *c.json {
		return c.printJSON(points)
	}
	if len(points) == 0 {
		fmt.Fprintf(c.out, "%s has no restore point yet; make one with: vessik restore %s -make\n", name, name)
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "ID\tTAKEN\tSIZE\tBY\tWHAT FOR")
	for _, p := range points {
		kept := ""
		if p.Kept {
			kept = " (kept)"
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s%s\n", p.ID, p.At.Local().Format(time.DateTime), sizeOf(p.Bytes), p.Who, p.Note, kept)
	}
	return table.Flush()
}

func (c *call) showVerified(v client.VerifiedPoints, err error) error {
	if err != nil {
		return err
	}
	if *c.json {
		err = c.printJSON(v)
	} else {
		_, err = fmt.Fprintf(c.out, "%d restore points, %d blobs: %d points are damaged\n", v.Points, v.Blobs, len(v.Damaged))
	}
	for _, each := range v.Damaged {
		if *c.json {
			break
		}
		words := strings.Join(each.Files[:min(len(each.Files), 8)], ", ")
		if len(each.Files) == 0 {
			words = "all of it"
		}
		fmt.Fprintf(c.out, "  %s: %s\n", each.ID, words)
	}
	if err == nil && len(v.Damaged) > 0 {
		return exitCode(exitCheckFailed)
	}
	return err
}

func (c *call) showPreview(p client.RestorePreview, err error) error {
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(p)
	}
	const most = 8
	for _, each := range []struct {
		title string
		names []string
	}{{"files that come back", p.NewFiles}, {"files that change", p.ChangedFiles}, {"files that go", p.GoneFiles}, {"tables", p.Tables}} {
		fmt.Fprintf(c.out, "%s: %d\n", each.title, len(each.names))
		for _, name := range each.names[:min(len(each.names), most)] {
			fmt.Fprintf(c.out, "  %s\n", filepath.ToSlash(strings.TrimSpace(name)))
		}
		if len(each.names) > most {
			fmt.Fprintf(c.out, "  and %d more: -json\n", len(each.names)-most)
		}
	}
	fmt.Fprintln(c.out, "Nothing was changed.")
	return nil
}
