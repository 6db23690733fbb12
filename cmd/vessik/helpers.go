package main

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"text/tabwriter"
)

var helpersCommand = command{name: "helpers", names: "NAME", about: "show and switch local helpers of a site",
	synopsis: "Local helpers are PHP that is loaded for chosen sites on this machine, and stands outside their folders: helpers/NAME.php in " +
		"the home folder is loaded as\na plugin is, NAME.settings.php before the CMS. A stencil, a dump or a repository never has them. A " +
		"change of a file counts from the next request on.",
	example: "vessik helpers orchard-days\nvessik helpers orchard-days -on local.settings", run: runHelpers}

func runHelpers(ctx context.Context, c *call) error {
	var on, off list
	c.flags.Var(&on, "on", "load this one for the site; may be given more than once")
	c.flags.Var(&off, "off", "load this one no more; may be given more than once")
	stay := c.flags.Bool("stay", false, "stay with the change although a check fails with it")
	service, err := c.connect()
	if err != nil {
		return err
	}
	name := c.names[0]
	if len(on)+len(off) > 0 {
		page, err := service.Settings(ctx, name)
		if err != nil {
			return err
		}
		next := page.Settings
		next.Helpers = slices.DeleteFunc(slices.Clone(next.Helpers), func(each string) bool {
			return slices.Contains(off, each) || slices.Contains(on, each)
		})
		next.Helpers = append(next.Helpers, on...)
		operation, err := service.Adjust(ctx, name, next, *stay)
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		if !*c.json {
			c.printChange(watched)
		}
		return outcome(watched)
	}
	all, err := service.Helpers(ctx, name)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(c.out, "There are none: write one as helpers/NAME.php in the home folder.")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "HELPER")+"\tLOADED\tFROM\tWHAT IT IS FOR")
	for _, h := range all {
		from := cmp.Or(h.Path, "its CMS")
		if h.Missing {
			from = "nowhere any more"
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", h.Name, map[bool]string{true: "yes", false: "no"}[h.On], from, h.About)
	}
	return table.Flush()
}
