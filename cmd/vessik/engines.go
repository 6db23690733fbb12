package main

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/plan"
)

var enginesCommand = command{name: "engines", names: "[fetch|drop|adopt|set|extensions …]", about: "list, fetch, drop and adopt engines",
	synopsis: "Lists the engines that are there, and those that could be. fetch ID… brings some in, drop ID… removes some that no site " +
		"uses, adopt ID -path FOLDER takes\none from a folder of yours, set ID NAME=VALUE… sets server variables of a database engine (NAME= " +
		"takes one back)\nand shows their history.\nextensions ID lists what Debian has for a PHP besides what it brings, " +
		"extensions ID NAME… fetches some: they are off\nin every site that does not switch " +
		"them on (vessik settings NAME -extension imagick=on, which fetches by itself, too). Any part of an id will do.",
	example: "vessik engines\nvessik engines fetch php-8.4 nginx-1.26\nvessik engines adopt php-8.3 -path /opt/php-8.3\nvessik engines set " +
		"mariadb-11.8 max_connections=600\nvessik engines extensions php-8.4", run: runEngines}

func runEngines(ctx context.Context, c *call) error {
	path := c.flags.String("path", "", "folder of the engine to adopt, which holds its bin or sbin")
	back := c.flags.Int64("back", 0, "with set: go back to the variables of an entry of the history; -1 for none")
	service, err := c.connect()
	if err != nil {
		return err
	}
	if len(c.names) == 0 {
		return c.listEngines(ctx, service)
	}
	verb, ids := c.names[0], c.names[1:]
	if len(ids) == 0 {
		return usageError{"name an engine after " + verb}
	}
	switch verb {
	case "fetch":
		operation, err := service.FetchEngines(ctx, ids...)
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		return outcome(watched)
	case "drop":
		dropped, err := service.DropEngines(ctx, ids...)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(dropped)
		}
		fmt.Fprintln(c.out, "dropped:", strings.Join(dropped, ", "))
	case "adopt":
		if *path == "" || len(ids) > 1 {
			return usageError{"name one engine and its folder: engines adopt ID -path FOLDER"}
		}
		folder, err := filepath.Abs(*path)
		if err != nil {
			return err
		}
		adopted, err := service.AdoptEngine(ctx, ids[0], folder)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(adopted)
		}
		fmt.Fprintf(c.out, "%s %s was started and adopted from %s\n", adopted.ID, adopted.Version, adopted.From)
	case "extensions":
		return c.extensions(ctx, service, ids[0], ids[1:])
	case "set":
		return c.setVariables(ctx, service, ids[0], ids[1:], *back)
	default:
		return usageError{fmt.Sprintf("there is no engines %s; it is fetch, drop, adopt, set or extensions", verb)}
	}
	return nil
}

// extensions lists what there is for a PHP besides what it brings, or fetches some of them.
func (c *call) extensions(ctx context.Context, service *client.Client, id string, names []string) error {
	if len(names) > 0 {
		operation, err := service.FetchExtensions(ctx, id, names...)
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		return outcome(watched)
	}
	all, err := service.Extensions(ctx, id)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "EXTENSION\tHERE\tPACKAGE\tABOUT")
	for _, each := range all {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", each.Name, map[bool]string{true: "yes", false: ""}[each.Present], each.Package, each.About)
	}
	return table.Flush()
}

// setVariables changes server variables of a database engine, and shows what they are and were.
func (c *call) setVariables(ctx context.Context, service *client.Client, id string, words []string, back int64) error {
	values, err := pairs(words)
	if err != nil {
		return err
	}
	page, err := service.Variables(ctx, id)
	if err != nil {
		return err
	}
	if back != 0 {
		i := slices.IndexFunc(page.History, func(e plan.VariablesEntry) bool { return e.ID == back })
		if i < 0 && back != -1 {
			return usageError{fmt.Sprintf("the history has no entry %d; see it with: vessik engines set %s", back, page.Engine)}
		}
		for name := range page.Variables { // taken back, unless the entry has them
			values[name] = ""
		}
		if i >= 0 {
			maps.Copy(values, page.History[i].Variables)
		}
	}
	if len(values) > 0 {
		if page, err = service.SetVariables(ctx, id, values); err != nil {
			return err
		}
	}
	if *c.json {
		return c.printJSON(page)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(table, "%s\t%s\n\nENTRY\tWHEN\tWHO\tVARIABLES\n", page.Engine, variablesLine(page.Variables))
	for _, e := range page.History {
		fmt.Fprintf(table, "%d\t%s\t%s\t%s\n", e.ID, e.At.Local().Format("2006-01-02 15:04:05"), e.Who, variablesLine(e.Variables))
	}
	fmt.Fprintln(table, "-1\t\t\tas the server has them")
	return table.Flush()
}

func variablesLine(variables map[string]string) string {
	words := []string{}
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		words = append(words, name+" = "+variables[name])
	}
	if len(words) == 0 {
		return "as the server has them"
	}
	return strings.Join(words, ", ")
}

func pairs(words []string) (map[string]string, error) {
	values := map[string]string{}
	for _, word := range words {
		name, value, ok := strings.Cut(word, "=")
		if !ok || name == "" {
			return nil, usageError{fmt.Sprintf("%q is not NAME=VALUE", word)}
		}
		values[name] = value
	}
	return values, nil
}

func (c *call) listEngines(ctx context.Context, service *client.Client) error {
	answer, err := service.Engines(ctx)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(answer)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "ENGINE\tVERSION\tFROM\tSIZE\tSITES\tPROCESSES\tMEMORY")
	for _, e := range answer.Engines {
		version, size, memory := e.Version, megabytes(e.SizeBytes), ""
		if !e.Present {
			version, size = "not here yet", ""
		}
		if e.MemoryBytes > 0 {
			memory = megabytes(e.MemoryBytes)
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%d\t%d\t%s\n", e.ID, version, e.From, size, len(e.Sites), len(e.Processes), memory)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	parts := []string{}
	for _, generation := range slices.Sorted(maps.Keys(answer.Disk)) {
		parts = append(parts, fmt.Sprintf("%s %s", generation, megabytes(answer.Disk[generation])))
	}
	if len(parts) > 0 {
		fmt.Fprintf(c.out, "\nOn disk, what engines share counted once: %s (CMS releases not counted)\n", strings.Join(parts, ", "))
	}
	for _, e := range answer.Engines {
		if e.Note != "" {
			fmt.Fprintf(c.out, "%s: %s\n", e.ID, e.Note)
		}
	}
	return nil
}

func megabytes(bytes int64) string {
	if bytes > 0 && bytes < 1<<20 {
		return fmt.Sprintf("%d KB", (bytes+1023)>>10)
	}
	return fmt.Sprintf("%d MB", (bytes+1<<19)>>20)
}
