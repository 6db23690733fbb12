package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"vessik/internal/core/fleet"
)

var fleetCommand = command{name: "fleet", names: "preview|apply|write [FILE|NAME]", about: "describe sites in a file, and make them so",
	synopsis: "preview FILE shows what would change, apply FILE does it (new sites side by side, all verified), write prints the file of " +
		"what there is; write NAME puts a site's\nown file vessik-site.yaml into its folder, from which a colleague makes the same site with " +
		"vessik new -in FOLDER. Sites that the file\ndoes not name are left alone, and applying it twice changes nothing. " +
		"docs/fleet.schema.json describes the file for editors.",
	example: "vessik fleet write > fleet.yaml\nvessik fleet preview fleet.yaml\nvessik fleet apply fleet.yaml", run: runFleet}

func runFleet(ctx context.Context, c *call) error {
	content := c.flags.Bool("content", false, "with write NAME: with a dump of the database, without passwords")
	service, err := c.connect(func() error {
		if len(c.names) == 1 && c.names[0] == "write" || len(c.names) == 2 && slices.Contains([]string{"preview", "apply", "write"}, c.names[0]) {
			return nil
		}
		return usageError{"it is: fleet preview FILE, fleet apply FILE, fleet write, or fleet write NAME"}
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
	steps, err := service.PreviewFleet(ctx, string(text))
	if err != nil {
		return err
	}
	if c.names[0] == "preview" && *c.json {
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
	if c.names[0] == "preview" || len(steps) == 0 {
		return nil
	}
	operation, err := service.ApplyFleet(ctx, string(text))
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	return outcome(watched)
}
