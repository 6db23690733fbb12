package main

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"vessik/client"
	"vessik/internal/api"
	"vessik/internal/cell"
	"vessik/internal/core/rewrite"
	"vessik/internal/names"
	"vessik/internal/service"
)

var serveCommand = command{name: "serve", about: "run the service",
	synopsis: "Runs the service until it is told to end (Ctrl-C). Sites that ran before answer again by themselves.\nStarted by root, it " +
		"opens port 80 for the gateway and then becomes an unprivileged account for good.",
	example: "vessik serve -home /srv/vessik", run: func(ctx context.Context, c *call) error {
		account := c.flags.String("account", "",
			"account to become when started by root (default: the home's owner, else who started sudo, else vessik)")
		port := c.flags.Int("gateway-port", 0, "port of the gateway; a home keeps it for all its life (default: 80 where it can be had, else "+
			"a free one)")
		secure := c.flags.Int("https-port", 0, "port of the gateway for https; a home keeps it as well (default: 443 where it can be had, "+
			"else a free one)")
		api := c.flags.Int("api-port", 0, "port of the API and the console, kept for the next time (default: that of the last time, "+
			"else a free one)")
		sitePorts := c.flags.String("site-ports", "", "range that new sites get their own ports from, such as 31000-31999; the home remembers it")
		hosts := c.flags.String("hosts-file", "", "hosts file of this machine (default: "+names.HostsFile+")")
		dsn := c.flags.String("records-dsn", "", "MariaDB server of your own for the records, such as "+
			"'vessik:secret@tcp(10.0.0.5:3306)/vessik'; a new home remembers it")
		plain := c.flags.Bool("records-plain", false, "let that server be reached over the network without TLS")
		if err := c.parse(); err != nil {
			return err
		}
		ports := [2]int{}
		if *sitePorts != "" {
			if n, err := fmt.Sscanf(*sitePorts, "%d-%d", &ports[0], &ports[1]); err != nil || n != 2 || ports[0] < 1024 || ports[1] > 65535 ||
				ports[1] < ports[0] {
				return usageError{fmt.Sprintf("-site-ports: %q is not a range of ports from 1024 to 65535, as in 31000-31999", *sitePorts)}
			}
		}
		for name, port := range map[string]int{"gateway-port": *port, "https-port": *secure, "api-port": *api} {
			if port < 0 || port > 65535 {
				return usageError{fmt.Sprintf("-%s: %d is not a port", name, port)}
			}
		}
		home, err := c.homeFolder()
		if err != nil {
			return err
		}
		return service.Run(ctx, service.Options{Home: home, Account: *account, GatewayPort: *port, HTTPSPort: *secure, APIPort: *api,
			SitePorts: ports, HostsFile: *hosts, RecordsDSN: *dsn, RecordsPlain: *plain, Out: c.out})
	}}

var statusCommand = command{name: "status", about: "show the service",
	synopsis: "Shows the service: where it is, how many sites it has, and what keeps them apart on this machine.",
	example:  "vessik status -wait 60s", run: func(ctx context.Context, c *call) error {
		wait := c.flags.Duration("wait", 0, "wait this long until the service answers and no site is on its way up or down")
		c.jsonFlag()
		if err := c.parse(); err != nil {
			return err
		}
		s, err := c.settledStatus(ctx, *wait)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(s)
		}
		sites := []string{}
		for _, state := range []string{"running", "stopped", "failed", "making", "starting", "stopping", "retiring"} {
			if s.Sites[state] > 0 {
				sites = append(sites, fmt.Sprintf("%d %s", s.Sites[state], state))
			}
		}
		if len(sites) == 0 {
			sites = append(sites, "none")
		}
		walls := cell.Abilities{Namespaces: s.Confinement.Cells, Governor: s.Confinement.Governed, Why: s.Confinement.Why,
			Landlock: s.Confinement.LandlockABI}
		table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
		for _, row := range append([][2]string{{"version", s.Version},
			{"process", fmt.Sprintf("%d, as %s, since %s", s.PID, s.Account, s.StartedAt.Local().Format("2006-01-02 15:04:05"))},
			{"home", s.Home}, {"engines", s.EngineStore}, {"api", s.API}, {"console", s.Console},
			{"gateway", fmt.Sprintf("port %d, and %d for https", s.GatewayPort, s.HTTPSPort)},
			{"sites", strings.Join(sites, ", ")}}, walls.Lines()...) {
			fmt.Fprintf(table, "%s\t%s\n", row[0], row[1])
		}
		return table.Flush()
	}}

// settledStatus asks until the service answers and its sites are settled, or the wait is over.
func (c *call) settledStatus(ctx context.Context, wait time.Duration) (client.Status, error) {
	until := time.Now().Add(wait)
	for {
		var status client.Status
		c2, err := c.client()
		if err == nil {
			status, err = c2.Status(ctx)
		}
		moving := status.Sites["making"] + status.Sites["starting"] + status.Sites["stopping"] + status.Sites["retiring"]
		if wait == 0 || err == nil && moving == 0 && !status.Settling {
			return status, err
		}
		if err != nil && !errors.Is(err, client.ErrUnreachable) {
			return status, err
		}
		if time.Now().After(until) {
			if err == nil {
				err = fmt.Errorf("%d sites are still on their way after %s; see: vessik operations", moving, wait)
			}
			return status, err
		}
		select {
		case <-ctx.Done():
			return status, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

var operationsCommand = command{name: "operations", names: "[ID]", about: "show what was and is being done",
	synopsis: "Lists operations, or shows the steps of one.",
	example:  "vessik operations 3", run: func(ctx context.Context, c *call) error {
		service, err := c.connect()
		if err != nil {
			return err
		}
		if len(c.names) == 1 {
			return c.showOperation(ctx, service, c.names[0])
		}
		return c.showOperations(ctx, service)
	}}

func (c *call) showOperation(ctx context.Context, service *client.Client, id string) error {
	operation, err := service.Operation(ctx, id)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(operation)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, part := range operation.Sites {
		fmt.Fprintf(table, "%s\t%s\t\t%s\n", part.Site, part.State, part.Problem)
		for _, step := range part.Steps {
			fmt.Fprintf(table, "  %s\t%s\t%d ms\t\n", step.Step, step.State, step.Milliseconds)
		}
	}
	return table.Flush()
}

func (c *call) showOperations(ctx context.Context, service *client.Client) error {
	operations, err := service.Operations(ctx, 50)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(operations)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "ID\tKIND\tSTATE\tBEGUN\tTOOK\tSITES")
	for _, o := range operations {
		took, names := "", []string{}
		if o.FinishedAt != nil {
			took = o.FinishedAt.Sub(o.CreatedAt).Round(10 * time.Millisecond).String()
		}
		for _, part := range o.Sites {
			names = append(names, part.Site)
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\n", o.ID, o.Kind, o.State, o.CreatedAt.Local().Format("01-02 15:04:05"), took,
			strings.Join(names, " "))
	}
	return table.Flush()
}

var consoleCommand = command{name: "console", about: "sign in to the web console",
	synopsis: "Opens the web console, signed in; without a desktop, prints a link that works once, for five minutes.",
	example:  "vessik console\nvessik console -end-all", run: func(ctx context.Context, c *call) error {
		all := c.flags.Bool("end-all", false, "sign all browsers out instead")
		service, err := c.connect()
		if err != nil {
			return err
		}
		if *all {
			ended, err := service.EndSessions(ctx)
			if err != nil {
				return err
			}
			if *c.json {
				return c.printJSON(ended)
			}
			fmt.Fprintf(c.out, "%s signed out\n", rewrite.Many(ended.Count, "browser", "browsers"))
			return nil
		}
		link, err := service.Link(ctx)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(link)
		}
		browse(link.URL)
		fmt.Fprintln(c.out, link.URL)
		return nil
	}}

var versionCommand = command{name: "version", about: "print the version", synopsis: "Prints the version of this program.",
	example: "vessik version", run: func(_ context.Context, c *call) error {
		c.jsonFlag()
		document := c.flags.Bool("openapi", false, "print the API's OpenAPI document instead")
		if err := c.parse(); err != nil {
			return err
		}
		if *document {
			text, err := service.Document()
			if err == nil {
				_, err = fmt.Fprintf(c.out, "%s\n", text)
			}
			return err
		}
		if *c.json {
			return c.printJSON(map[string]string{"version": api.Version})
		}
		fmt.Fprintln(c.out, "vessik", api.Version)
		return nil
	}}
