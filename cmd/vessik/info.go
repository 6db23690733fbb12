package main

import (
	"context"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
)

var infoCommand = command{name: "info", names: "NAME", about: "show all that a site runs on",
	synopsis: "Shows versions, extensions, every setting in effect, database variables and the virtual host, as told by a request that the " +
		"site served.",
	example: "vessik info orchard-days -search upload\nvessik info orchard-days -compare moss-archive\nvessik info orchard-days -csv > " +
		"orchard-days.csv", run: runInfo}

func runInfo(ctx context.Context, c *call) error {
	search := c.flags.String("search", "", "only what contains this text")
	other := c.flags.String("compare", "", "only what differs from another site")
	asCSV := c.flags.Bool("csv", false, "print comma-separated values")
	service, err := c.connect(c.oneFormat("csv", asCSV))
	if err != nil {
		return err
	}
	info, err := service.Info(ctx, c.names[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, e := range info.Entries {
		rows = append(rows, []string{e.Section, e.Name, e.Value})
	}
	heads := []string{"SECTION", "NAME", "VALUE"}
	if *other != "" {
		second, err := service.Info(ctx, *other)
		if err != nil {
			return err
		}
		rows, heads = differences(info, second), []string{"SECTION", "NAME", c.names[0], *other}
	}
	rows = slices.DeleteFunc(rows, func(row []string) bool {
		return !strings.Contains(strings.ToLower(strings.Join(row, " ")), strings.ToLower(*search))
	})
	switch {
	case *c.json:
		objects := []map[string]string{}
		for _, row := range rows {
			object := map[string]string{}
			for i, head := range heads {
				if i < 3 {
					head = strings.ToLower(head)
				}
				object[head] = row[i]
			}
			objects = append(objects, object)
		}
		return c.printJSON(objects)
	case *asCSV:
		writer := csv.NewWriter(c.out)
		writer.Write(heads)
		return writer.WriteAll(rows)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, strings.Join(heads, "\t"))
	for _, row := range rows {
		for i := range row {
			row[i] = strings.Join(strings.Fields(row[i]), " ")
			if runes := []rune(row[i]); len(runes) > 90 {
				row[i] = string(runes[:89]) + "…"
			}
		}
		fmt.Fprintln(table, strings.Join(row, "\t"))
	}
	return table.Flush()
}

// differences are the facts in which two sites differ; a virtual host's lines differ anyway.
func differences(a, b client.Info) [][]string {
	type key struct{ section, name string }
	other := map[key]string{}
	for _, e := range b.Entries {
		other[key{e.Section, e.Name}] = e.Value
	}
	rows := [][]string{}
	for _, e := range a.Entries {
		k := key{e.Section, e.Name}
		value, ok := other[k]
		delete(other, k)
		if (!ok || value != e.Value) && e.Section != "virtual host" {
			rows = append(rows, []string{e.Section, e.Name, e.Value, value})
		}
	}
	for _, e := range b.Entries {
		if _, only := other[key{e.Section, e.Name}]; only && e.Section != "virtual host" {
			rows = append(rows, []string{e.Section, e.Name, "", e.Value})
		}
	}
	return rows
}
