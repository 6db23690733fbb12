package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"vessik/client"
)

var shelfCommand = command{name: "shelf", names: "[add FILE… | fetch ADDRESS… | drop FILE…]",
	about: "keep releases, plugins and themes on this machine",
	synopsis: "Lists the CMS releases, plugins and themes that are kept on this machine as zip archives, with version and checksum; sites " +
		"are made of them without a network\n(vessik new -plugin, -theme, -cms-version). add FILE takes one in, fetch ADDRESS downloads one " +
		"(or the plugins and themes of a Debian package, by its name),\ndrop FILE removes one. Archives dropped into shelf/ of the home " +
		"folder are found as well.",
	example: "vessik shelf add ~/Downloads/garden-menu.1.2.zip\nvessik shelf fetch wordpress-theme-twentytwentytwo\nvessik new " +
		"orchard-days -plugin garden-menu -theme twentytwentytwo", run: runShelf}

func runShelf(ctx context.Context, c *call) error {
	service, err := c.connect(func() error {
		if len(c.names) == 1 {
			return usageError{"it is: shelf, shelf add FILE…, shelf fetch ADDRESS… or shelf drop FILE…"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, what := range c.names[min(len(c.names), 1):] {
		if err := changeShelf(ctx, service, c.names[0], what); err != nil {
			return err
		}
	}
	page, err := service.Shelf(ctx)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(page)
	}
	if len(page.Items) == 0 {
		fmt.Fprintf(c.out, "Nothing is on the shelf. Put one there with vessik shelf add FILE, or drop zip archives into %s\n", page.Folder)
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "NAME\tKIND\tVERSION\tFOR\tTITLE\tFILE\tSHA256")
	for _, item := range page.Items {
		if item.Fault != "" {
			fmt.Fprintf(table, "-\tunusable\t\t\t%s\t%s\t\n", item.Fault, item.File)
			continue
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\t%s…\n", item.Name, item.Kind, item.Version, item.CMS, item.Title,
			item.File, item.SHA256[:12])
	}
	return table.Flush()
}

// changeShelf does with one thing what the shelf's verb says.
func changeShelf(ctx context.Context, service *client.Client, verb, what string) error {
	switch verb {
	case "add":
		file, err := os.Open(what)
		if err != nil {
			return err
		}
		defer file.Close()
		_, err = service.AddToShelf(ctx, filepath.Base(what), file)
		return err
	case "fetch":
		asked := client.FetchToShelf{Address: what}
		if !strings.Contains(what, "/") {
			asked = client.FetchToShelf{Package: what}
		}
		_, err := service.FetchToShelf(ctx, asked)
		return err
	case "drop":
		return service.DropFromShelf(ctx, what)
	}
	return usageError{fmt.Sprintf("shelf %s is not known: add, fetch or drop", verb)}
}
