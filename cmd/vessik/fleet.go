package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"vessik/client"
	"vessik/internal/core/fleet"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

var fleetCommand = command{name: "fleet", names: "preview|apply|write [FILE|NAME]", about: "describe sites in a file, and make them so",
	synopsis: "preview FILE shows what would change, apply FILE does it (new sites side by side, all verified), write prints the file of what there is; write NAME puts a site's\nown file vessik-site.yaml into its folder, from which a colleague makes the same site with vessik new -in FOLDER. Sites that the file\ndoes not name are left alone, and applying it twice changes nothing. docs/fleet.schema.json describes the file for editors.",
	example:  "vessik fleet write > fleet.yaml\nvessik fleet preview fleet.yaml\nvessik fleet apply fleet.yaml", run: runFleet}

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
	sites, err := service.Sites(ctx, false)
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
	file, err := fleet.Parse(text)
	var fault *fleet.Fault
	if errors.As(err, &fault) {
		return usageError{fmt.Sprintf("%s, %v", c.names[1], fault)}
	}
	if err != nil {
		return err
	}
	engines, err := service.Engines(ctx)
	if err != nil {
		return err
	}
	facts := map[string][]site.EngineFact{}
	for _, e := range engines.Engines {
		facts[e.Kind] = append(facts[e.Kind], site.EngineFact{ID: e.ID, Version: e.Version, Age: e.Age})
	}
	steps, problems := fleet.Compare(file, sites, facts)
	if len(problems) > 0 {
		return &client.ProblemDetails{Status: 422, Detail: c.names[1] + " cannot be applied; nothing was changed", Errors: problems}
	}
	if *c.json && c.names[0] == "preview" {
		return c.printJSON(steps)
	}
	for _, step := range steps {
		fmt.Fprintf(c.out, "%-9s %s  %s\n", step.What, step.Site, strings.Join(step.Words, ", "))
	}
	if len(steps) == 0 {
		fmt.Fprintln(c.out, "everything is as the file says")
	}
	if c.names[0] == "preview" {
		return nil
	}
	return c.applyFleet(ctx, service, steps)
}

func (c *call) applyFleet(ctx context.Context, service *client.Client, steps []fleet.Step) error {
	requests := []client.Request{}
	for _, step := range steps {
		if step.Make != nil {
			requests = append(requests, *step.Make)
		}
	}
	worst := error(nil)
	follow := func(operation client.Operation, err error) error {
		if err != nil {
			return err
		}
		watched, err := c.follow(ctx, service, operation)
		if err != nil {
			return err
		}
		if failed := outcome(watched); failed != nil && worst == nil {
			worst = failed
		}
		return nil
	}
	if len(requests) > 0 {
		operation, err := service.New(ctx, requests...)
		if err := follow(operation, err); err != nil {
			return err
		}
	}
	names := map[plan.Kind][]string{}
	for _, step := range steps {
		switch step.What {
		case "restack":
			operation, err := service.Restack(ctx, step.Site, *step.Stack)
			if err := follow(operation, err); err != nil {
				return err
			}
		case "readdress":
			operation, err := service.Rename(ctx, step.Site, *step.Rename)
			if err := follow(operation, err); err != nil {
				return err
			}
		case "domains":
			if _, err := service.SetDomains(ctx, step.Site, *step.Domains); err != nil {
				return err
			}
		case "label":
			if _, err := service.Label(ctx, *step.Label); err != nil {
				return err
			}
		case "start":
			names[plan.Start] = append(names[plan.Start], step.Site)
		case "stop":
			names[plan.Stop] = append(names[plan.Stop], step.Site)
		}
	}
	for kind, each := range names {
		operation, err := service.Do(ctx, kind, wire.Names{Names: each})
		if err := follow(operation, err); err != nil {
			return err
		}
	}
	return worst
}
