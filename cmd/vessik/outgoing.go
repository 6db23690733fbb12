package main

import (
	"cmp"
	"context"
	"fmt"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/site"
)

var outgoingCommand = command{name: "outgoing", names: "NAME", about: "show what a site asks of other machines",
	synopsis: "Lists which hosts a site asked, at which ports, how often, how long a connection took, and what was refused. What it " +
		"may ask is a setting:\nvessik settings NAME -outgoing web, open or closed; -outgoing-allow and -outgoing-refuse name hosts, " +
		"networks and ports.\n-page loads one page and lists what the site asked for it.",
	example: "vessik outgoing orchard-days\nvessik outgoing orchard-days -page /wp-admin/\nvessik settings orchard-days -outgoing closed " +
		"-outgoing-allow api.example.org", run: runOutgoing}

func runOutgoing(ctx context.Context, c *call) error {
	page := c.flags.String("page", "", "load this page, and list what the site asks for it")
	forget := c.flags.Bool("forget", false, "empty the list")
	service, err := c.connect(func() error {
		switch {
		case *forget && *page != "":
			return usageError{"-forget goes without -page"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	name := c.names[0]
	switch {
	case *forget:
		return service.ForgetOutgoing(ctx, name)
	case *page != "":
		loaded, err := service.OutgoingPage(ctx, name, *page)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(loaded)
		}
		fmt.Fprintf(c.out, "%s answered %d in %d ms.\n", loaded.Path, loaded.Status, loaded.Milliseconds)
		return c.listOutgoing(loaded.Asked, "For it, the site asked no other machine.")
	}
	asked, err := service.Outgoing(ctx, name)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(asked)
	}
	s, err := service.Site(ctx, name, false)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.out, "Other machines %s.\n", machines(s))
	return c.listOutgoing(asked, site.Shown(s.Name)+" asked no other machine.")
}

func (c *call) listOutgoing(asked []client.Outgoing, none string) error {
	if len(asked) == 0 {
		fmt.Fprintln(c.out, none)
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "HOST")+"\tADDRESS\tPORT\tASKED\tREFUSED\tFAILED\tTO THE MAILBOX\tTOOK\tFIRST\tLAST")
	for _, o := range asked {
		number := func(n int64, unit string) string {
			if n == 0 {
				return "-"
			}
			return fmt.Sprint(n) + unit
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%d\t%s\t%s\t%s\t%s\t%s\t%s\n", cmp.Or(short(o.Host, 50), "-"), cmp.Or(o.Address, "-"),
			number(int64(o.Port), ""), o.Count, number(o.Refused, ""), number(o.Failed, ""), number(o.Caught, ""), number(o.Milliseconds, " ms"),
			o.FirstAt.Local().Format("01-02 15:04:05"), o.LastAt.Local().Format("01-02 15:04:05"))
	}
	return table.Flush()
}
