package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/site"
)

var partsCommand = command{name: "parts", names: "[NAME…]", about: "list and change the plugins and themes of sites",
	synopsis: "Lists the plugins and themes of sites, and which of them are on; none is run for it. -add puts one of the shelf, or of a zip " +
		"archive, into the sites, in the place\nof the version that is there; a new plugin is switched on. -on, -off and -drop switch and " +
		"remove; -on THEME has the site use that theme. Each site is verified\nbefore and after, and becomes what it was when a check fails " +
		"that passed before. A plugin that keeps the CMS from loading can be switched off, too.",
	example: "vessik parts orchard-days\nvessik parts orchard-days moss-archive -add garden-menu.1.2.zip\n" +
		"vessik parts orchard-days -off akismet -drop hello\nvessik parts -group Gardens -add garden-menu.1.2.zip", run: runParts}

func runParts(ctx context.Context, c *call) error {
	var add, on, off, drop list
	c.flags.Var(&add, "add", "plugin or theme of the shelf, NAME or NAME@VERSION, or a zip archive; may be given more than once")
	c.flags.Var(&on, "on", "plugin or theme that is switched on; may be given more than once")
	c.flags.Var(&off, "off", "plugin that is switched off; may be given more than once")
	c.flags.Var(&drop, "drop", "plugin or theme that is removed; may be given more than once")
	stay := c.flags.Bool("stay", false, "stay with it although a check fails")
	wanted := c.choosing()
	service, err := c.connect(func() error { return wanted.judge(c.names, true) })
	if err != nil {
		return err
	}
	if c.names, err = wanted.names(ctx, service, c.names); err != nil {
		return err
	}
	if len(add)+len(on)+len(off)+len(drop) == 0 {
		return c.listParts(ctx, service)
	}
	asked := client.ChangeParts{Add: slices.Clone(add), On: on, Off: off, Drop: drop, Stay: *stay}
	for i, each := range asked.Add {
		if strings.HasSuffix(strings.ToLower(each), ".zip") || strings.ContainsRune(each, '/') {
			if asked.Add[i], err = shelved(ctx, service, each); err != nil {
				return fmt.Errorf("%s: %w", each, err)
			}
		}
	}
	faults, begun, refused := []error{}, []client.Operation{}, []string{}
	for _, name := range c.names { // they are changed side by side
		operation, err := service.ChangeParts(ctx, name, asked)
		switch {
		case err == nil:
			begun = append(begun, operation)
		case len(c.names) == 1:
			return err
		default: // the others are changed all the same
			refused = append(refused, site.Shown(name))
			faults = append(faults, exitCode(finish(command{name: "parts"}, err, tame("", os.Stderr))))
		}
	}
	changed, err := c.showParts(ctx, service, begun, refused)
	return errors.Join(append(faults, changed, err)...)
}

// showParts follows the changes of one or many sites, and sums up those of many.
func (c *call) showParts(ctx context.Context, service *client.Client, begun []client.Operation, refused []string) (bad, fault error) {
	all, ways, asked := []client.Operation{}, map[string][]string{"refused": refused}, len(begun)+len(refused)
	for _, operation := range begun {
		watched, err := c.follow(ctx, service, operation)
		if err != nil {
			return bad, err
		}
		all = append(all, watched.Operation)
		if !*c.json {
			c.printChange(watched)
		}
		err = outcome(watched)
		way := "changed"
		switch {
		case changeOf(watched).WentBack:
			way = "left as it was"
		case err != nil && watched.Sites[0].State == "done":
			way = "changed, and a check fails"
		case err != nil:
			way = "failed"
		}
		ways[way] = append(ways[way], site.Shown(watched.Sites[0].Site))
		bad = errors.Join(bad, err)
	}
	if *c.json {
		return bad, c.printJSON(all)
	}
	if asked > 1 {
		fmt.Fprintf(c.out, "\n%d of %d sites changed\n", len(ways["changed"]), asked)
		for _, way := range []string{"left as it was", "changed, and a check fails", "failed", "refused"} {
			if len(ways[way]) > 0 {
				fmt.Fprintf(c.out, "%s: %s\n", way, strings.Join(ways[way], ", "))
			}
		}
	}
	return bad, nil
}

// shelved puts an archive on the shelf, where it is not there yet, and says what it is called there.
func shelved(ctx context.Context, service *client.Client, path string) (string, error) {
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return "", err
	}
	sum := hex.EncodeToString(hash.Sum(nil))
	page, err := service.Shelf(ctx)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(page.Items, func(item client.ShelfItem) bool { return item.SHA256 == sum && item.Fault == "" })
	if i >= 0 {
		return page.Items[i].Name + "@" + page.Items[i].Version, nil
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	item, err := service.AddToShelf(ctx, filepath.Base(path), file)
	return item.Name + "@" + item.Version, err
}

// partsOfSite are a site's plugins and themes, with its name.
type partsOfSite struct {
	Site  string        `json:"site"`
	Parts []client.Part `json:"parts"`
}

func (c *call) listParts(ctx context.Context, service *client.Client) error {
	all := []partsOfSite{}
	for _, name := range c.names {
		parts, err := service.Parts(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, partsOfSite{name, parts})
	}
	if *c.json {
		return c.printJSON(all)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "SITE\tKIND\tNAME\tVERSION\tSTATE\tTITLE")
	for _, s := range all {
		for _, p := range s.Parts {
			state := map[bool]string{true: "on", false: "off"}[p.On]
			if p.Folder != "" {
				state += ", " + p.Folder
			}
			fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\n", s.Site, p.Kind, p.Name, p.Version, state, p.Title)
		}
	}
	return table.Flush()
}
