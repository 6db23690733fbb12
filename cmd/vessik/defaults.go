package main

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/site"
)

var defaultsCommand = command{name: "defaults", names: "[SETTING=VALUE…]", about: "show and set what new sites have in common",
	synopsis: "Shows what new sites are made with where a request does not say otherwise, and where it comes from; SETTING=VALUE sets one, " +
		"SETTING= takes it back. OTHER SITES are those that have another value.\nThey stand in vessik.yaml in the home folder, and may be " +
		"written there by hand. Sites that exist stay as they are.",
	example: "vessik defaults\nvessik defaults administrator=head-keeper mail=ines@fernhollow.example php=8.4\nvessik defaults " +
		"finishing_touches=no-samples,no-comments", run: runDefaults}

func runDefaults(ctx context.Context, c *call) error {
	service, err := c.connect()
	if err != nil {
		return err
	}
	values, err := pairs(c.names)
	if err != nil {
		return err
	}
	var page client.DefaultsPage
	if len(values) > 0 {
		page, err = service.SetDefaults(ctx, values)
	} else {
		page, err = service.Defaults(ctx)
	}
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(page)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "SETTING\tVALUE\tFROM\tOTHER SITES\tABOUT")
	for _, d := range page.Settings {
		value := d.Value
		if value == "" {
			value = "(" + d.Usual + ")"
		}
		others := "-"
		if len(d.Others) > 2 {
			others = fmt.Sprint(len(d.Others))
		} else if len(d.Others) > 0 {
			others = strings.Join(d.Others, ", ")
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\n", d.Name, value, d.From, others, d.About)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	for _, warning := range page.Warnings {
		fmt.Fprintln(c.out, "\nwarning:", warning)
	}
	return nil
}

var labelCommand = command{name: "label", names: "NAME…", about: "group sites, note something, pin some",
	synopsis: "Changes how sites are shown in the fleet: their group, a note, whether they are pinned. What is not named stays; an " +
		"empty text takes one away.",
	example: "vessik label orchard-days seed-exchange -group \"Open days\"\nvessik label moss-archive -note \"must stay on PHP 7.4\" -pin on",
	run:     runLabel}

func runLabel(ctx context.Context, c *call) error {
	group := c.flags.String("group", "", "label under which the fleet shows them")
	note := c.flags.String("note", "", "a note")
	top := c.flags.String("pin", "", "on or off: kept above the others")
	c.mayBeEmpty = []string{"group", "note"}
	service, err := c.connect(func() error {
		if *top != "" && *top != "on" && *top != "off" {
			return usageError{"-pin: say on or off"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	l := client.Label{Names: c.names}
	given := c.given()
	if given["group"] {
		l.Group = group
	}
	if given["note"] {
		l.Note = note
	}
	if *top != "" {
		on := *top == "on"
		l.Pinned = &on
	}
	if l.Group == nil && l.Note == nil && l.Pinned == nil {
		return usageError{"say what is to change: -group, -note or -pin"}
	}
	sites, err := service.Label(ctx, l)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(sites)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, s := range sites {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", site.Shown(s.Name), s.Group, map[bool]string{true: "pinned"}[s.Pinned], s.Note)
	}
	return table.Flush()
}
