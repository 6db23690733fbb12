package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"vessik/client"
	"vessik/internal/core/site"
)

var restoreCommand = command{name: "restore", names: "NAME [FILE]", about: "restore points of a site: list, make, go back to, drop",
	synopsis: "Lists a site's restore points: its files and database at one moment. Changes of stack, address and content take one by " +
		"themselves, and so does\n-every 1h where anything has changed; of these the newest two stay, one of each hour of the last day, of " +
		"each day of the last week\nand of each week of the last four, as long as all take no more than 10 GB, or what -most says. One " +
		"that was made with -make stays until it is\ndropped. -back leads files and database back to a point, while name, domain, stack and " +
		"settings stay; a point of how it is now is taken\nfirst, and the site returns to it by itself when a check fails that passed before.",
	example: "vessik restore orchard-days\nvessik restore orchard-days -make -note \"before the new theme\"\n" +
		"vessik restore orchard-days -every 1h -most 5G\n" +
		"vessik restore orchard-days -export 12 orchard-days.parcel.zip\n" +
		"vessik restore orchard-days -back 12 -dry-run\nvessik restore orchard-days -back 12", run: runRestore}

type restoring struct {
	takes, dry, stay, verify bool
	note, back, drop         string
	every, most, export      string
}

func (r restoring) check(names []string) error {
	asked := 0
	for _, each := range []bool{r.takes, r.back != "", r.drop != "", r.verify, r.every+r.most != "", r.export != ""} {
		if each {
			asked++
		}
	}
	switch {
	case asked > 1:
		return usageError{"-make, -back, -drop, -verify, -export and -every exclude each other"}
	case r.note != "" && !r.takes:
		return usageError{"-note goes with -make"}
	case (r.export != "") != (len(names) == 2):
		return usageError{"name the site, and with -export ID the file as well: restore NAME FILE -export ID"}
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
	c.flags.StringVar(&r.export, "export", "", "write the site as it was at this restore point into a new FILE, a parcel")
	c.flags.StringVar(&r.every, "every", "", "have points taken by themselves where anything has changed: a time such as 1h or 30m; off")
	c.flags.StringVar(&r.most, "most", "", "how much all points may take, such as 5G; usual is 10G")
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
	case r.export != "":
		return c.writeParcel(ctx, service, r.export, c.names[1], client.MakeParcel{})
	case r.every+r.most != "":
		return c.setRestoreRules(ctx, service, r)
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
	if err := c.showPoints(name, points); err != nil || *c.json {
		return err
	}
	rules, err := service.RestoreRules(ctx, name)
	if err == nil && rules.Every > 0 {
		c.showRestoreRules(rules)
	}
	return err
}

// asked reads what is asked for of rules.
func (r restoring) asked() (asked client.SetRestoreRules, err error) {
	if r.every != "" {
		every, err := time.ParseDuration(r.every)
		if err != nil && r.every != "off" {
			return asked, usageError{fmt.Sprintf("-every: %q is no time; say 1h, 30m or off", r.every)}
		}
		seconds := int64(every / time.Second)
		asked.Every = &seconds
	}
	if r.most != "" {
		most, ok := site.Bytes(r.most)
		if !ok && r.most != "usual" {
			return asked, usageError{fmt.Sprintf("-most: %q is no size; say 5G, 800M or usual", r.most)}
		}
		asked.Most = &most
	}
	return asked, nil
}

func (c *call) setRestoreRules(ctx context.Context, service *client.Client, r restoring) error {
	asked, err := r.asked()
	if err != nil {
		return err
	}
	rules, err := service.SetRestoreRules(ctx, c.names[0], asked)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(rules)
	}
	c.showRestoreRules(rules)
	return nil
}

// everyWords are a time in seconds as people write it: 1h, not 1h0m0s.
func everyWords(seconds int64) string {
	words := (time.Duration(seconds) * time.Second).String()
	if seconds%60 == 0 {
		words = strings.TrimSuffix(words, "0s")
	}
	if seconds%3600 == 0 {
		words = strings.TrimSuffix(words, "0m")
	}
	return words
}

func (c *call) showRestoreRules(r client.RestoreRules) {
	taken := "none is taken by itself but before changes"
	if r.Every > 0 {
		taken = fmt.Sprintf("one is taken every %s, where anything has changed", everyWords(r.Every))
	}
	fmt.Fprintf(c.out, "%s; all take %s at most\n", taken, sizeOf(r.Most))
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
