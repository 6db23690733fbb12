package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"vessik/client"
)

var pullCommand = command{name: "pull", names: "ACCOUNT NAME", about: "bring a site from a hosting account",
	synopsis: "Brings the site at a hosting account here: a new site NAME on the engines nearest to the host's, or in the place of the " +
		"files and database " +
		"of one that is there,\nof which a restore point is taken first. Only files that differ are carried, and what has come is not " +
		"carried again " +
		"after a cut. Passwords and keys of the host's\nconfiguration stay there, mail stays here, and addresses become the site's own. The " +
		"site is " +
		"verified, and goes back when a check fails that passed before.",
	example: "vessik hosting add orchard-live -at sftp://ines@host.example/www -url https://orchard.example\nvessik pull orchard-live " +
		"orchard-days " +
		"-dry-run\nvessik pull orchard-live orchard-days -mask people", run: runPull}

func runPull(ctx context.Context, c *call) error {
	var without, empty list
	var asked client.Fetch
	var pull client.Pull
	c.flags.Var(&without, "without", "uploads, or a path at the host that stays there; may be given more than once")
	c.flags.Var(&empty, "empty", "table whose rows stay at the host; may be given more than once")
	mask := c.flags.String("mask", "", "people: names, mail addresses and the like are made unrecognisable before they leave the host")
	c.flags.BoolVar(&asked.DryRun, "dry-run", false, "tell what would be carried, and change nothing")
	c.flags.BoolVar(&asked.ByNeed, "uploads-by-need", false, "leave uploads at the host, and fetch each when somebody asks for it here")
	c.flags.BoolVar(&asked.NewerUploads, "newer-uploads-at-host", false, "of uploads, bring only those that came to the host since the "+
		"last pull")
	files := c.flags.Bool("files", false, "put its files alone into a site that is there")
	database := c.flags.Bool("database", false, "put its database alone into a site that is there")
	c.flags.StringVar(&pull.Domain, "domain", "", "domain of a new site (default: NAME.localhost)")
	pictures := c.flags.Bool("pictures", false, "compare pictures of both front pages at the end")
	c.flags.BoolVar(&pull.Stay, "stay", false, "stay with it although a check fails that passed before")
	service, err := c.connect(func() error {
		switch {
		case len(c.names) != 2 && !(len(c.names) == 1 && asked.DryRun):
			return usageError{"name a hosting account and a site: pull ACCOUNT NAME"}
		case *mask != "" && *mask != "people":
			return usageError{fmt.Sprintf("-mask: %q is not people", *mask)}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if *files != *database {
		pull.Only = map[bool]string{true: "files", false: "database"}[*files]
	}
	pull.ByNeed = asked.ByNeed
	if len(c.names) == 2 {
		asked.Into = c.names[1]
	}
	asked.Without, asked.Empty, asked.Mask = without, empty, *mask != ""
	operation, err := service.FetchAccount(ctx, c.names[0], asked)
	if err != nil {
		return err
	}
	watched, err := c.follow(ctx, service, operation)
	if err != nil {
		return err
	}
	result := client.FetchedBy(watched)
	if failed := outcome(watched); failed != nil || asked.DryRun || result == nil {
		return c.showFetched(result, asked.DryRun, failed)
	}
	if !*c.json {
		if err := c.showFetched(result, false, nil); err != nil {
			return err
		}
	}
	if err := c.putPulled(ctx, service, pull); err != nil || !*pictures {
		return err
	}
	return c.comparePictures(ctx, service, c.names[0], "")
}

// putPulled makes what was fetched a site.
func (c *call) putPulled(ctx context.Context, service *client.Client, pull client.Pull) error {
	pull.Site = c.names[1]
	sites, err := service.Sites(ctx, false)
	if err != nil {
		return err
	}
	isNew := !slices.ContainsFunc(sites, func(s client.Site) bool { return s.Name == pull.Site })
	operation, err := service.PullAccount(ctx, c.names[0], pull)
	if isNew {
		return c.showMade(ctx, service, operation, err)
	}
	return c.showChange(ctx, service, operation, err)
}

// showFetched tells what was found at a host, and what was carried.
func (c *call) showFetched(f *client.Fetched, dry bool, failed error) error {
	if f == nil {
		return failed
	}
	if *c.json {
		if err := c.printJSON(f); err != nil {
			return err
		}
		return failed
	}
	fmt.Fprintf(c.out, "%s %s on PHP %s and %s: %d files (%s)\n", f.CMS.Name, f.CMS.Version, f.PHP, f.Database, f.Files, sizeOf(f.FileBytes))
	fmt.Fprintf(c.out, "files that differ here: %d new, %d changed, %d gone (%s to carry)\n", f.New, f.Changed, f.Gone, sizeOf(f.CarryBytes))
	for _, warning := range f.Warnings {
		fmt.Fprintf(c.out, "→ %s\n", warning)
	}
	if f.NewerUploads > 0 {
		fmt.Fprintf(c.out, "%d newer uploads came\n", f.NewerUploads)
	}
	c.showReplaced(f.Replaces)
	if dry {
		fmt.Fprintln(c.out, "Nothing was carried.")
	}
	return failed
}

// showReplaced tells what a pull over a site takes the place of.
func (c *call) showReplaced(r *client.PullReplaces) {
	if r == nil || r.Files+len(r.Tables) == 0 {
		return
	}
	all := slices.Clone(r.Names)
	if r.Files > len(all) {
		all = append(all, fmt.Sprintf("and %d more files", r.Files-len(all)))
	}
	for _, table := range r.Tables {
		all = append(all, fmt.Sprintf("%d rows of %s", max(table.New, table.Gone), table.Name))
	}
	fmt.Fprintf(c.out, "→ changed here since the last move, and not at the host, whose take their place: %s\n  (a restore point keeps them)\n",
		strings.Join(all, ", "))
}
