package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"vessik/internal/core/fleet"
)

var fleetCommand = command{name: "fleet", names: "compare|match|write [FILE|NAME]", about: "describe sites in a file, and make them so",
	synopsis: "compare FILE shows how the sites differ from a file, match FILE changes them to what the file says\n(new sites " +
		"side by side, all verified), write prints the file of what there is; write NAME puts a site's own file\nvessik-site.yaml into " +
		"its folder, from which a colleague makes the same site with " +
		"vessik new -in FOLDER. Sites that the file\ndoes not name are left alone, and matching it twice changes nothing. " +
		"docs/fleet.schema.json describes the file for editors.",
	example: "vessik fleet write > vessik-fleet.yaml\nvessik fleet compare vessik-fleet.yaml\nvessik fleet match vessik-fleet.yaml",
	run:     runFleet}

func runFleet(ctx context.Context, c *call) error {
	content := c.flags.Bool("content", false, "with write NAME: with a dump of the database, without passwords")
	service, err := c.connect(func() error {
		if len(c.names) == 1 && c.names[0] == "write" || len(c.names) == 2 && slices.Contains([]string{"compare", "match", "write"}, c.names[0]) {
			return nil
		}
		return usageError{"it is: fleet compare FILE, fleet match FILE, fleet write, or fleet write NAME"}
	})
	if err != nil {
		return err
	}
	if c.names[0] == "write" && len(c.names) == 2 {
		written, err := service.WriteSiteFile(ctx, c.names[1], *content)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(written)
		}
		fmt.Fprintln(c.out, strings.Join(written.Files, "\n"))
		return nil
	}
	if c.names[0] == "write" {
		sites, err := service.Sites(ctx, false)
		if err != nil {
			return err
		}
		text, err := fleet.Of(sites)
		if err != nil {
			return err
		}
		_, err = c.out.Write(text)
		return err
	}
	text, err := os.ReadFile(c.names[1])
	if err != nil {
		return err
	}
	steps, err := service.CompareFleet(ctx, string(text))
	if err != nil {
		return err
	}
	if c.names[0] == "compare" && *c.json {
		return c.printJSON(steps)
	}
	if !*c.json {
		for _, step := range steps {
			fmt.Fprintf(c.out, "%-9s %s  %s\n", step.What, step.Site, strings.Join(step.Words, ", "))
		}
		if len(steps) == 0 {
			fmt.Fprintln(c.out, "everything is as the file says")
		}
	}
	if c.names[0] == "compare" || len(steps) == 0 {
		return nil
	}
	operation, err := service.MatchFleet(ctx, string(text))
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	return outcome(watched)
}
