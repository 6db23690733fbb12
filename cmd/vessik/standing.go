package main

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"vessik/client"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

var standingCommand = command{name: "standing", names: "[NAME]", about: "have a copy of a site stand at a relay, also while this " +
	"machine is off",
	synopsis: "With -at, puts a copy of a site up at a relay that keeps some (vessik relay -standing), or brings the one that stands " +
		"there up " +
		"to date:\nonly what changed is sent. Said again without other flags, guests may do what they might before. The copy runs there as " +
		"a site does here,\nin a cell, its mail caught; it ends by itself after 30 days, or -for. Without -at, lists the copies that stand, " +
		"with address and password.\n-bring fetches the mail that they caught, which happens by itself every few minutes; -end ends one: " +
		"mail and remarks come home first.",
	example: "vessik standing orchard-days -at guests.example -remarks\nvessik standing\nvessik standing orchard-days -end", run: runStanding}

func runStanding(ctx context.Context, c *call) error {
	var asked client.Stand
	var without list
	c.flags.StringVar(&asked.Relay, "at", "", "the relay's host: put a copy up there, or bring it up to date")
	lasts := c.flags.Duration("for", 30*24*time.Hour, "how long it stands, from now")
	c.termsFlags(&asked.Terms)
	c.flags.StringVar(&asked.Label, "label", "", "first label of the address (default: one that cannot be guessed)")
	c.flags.Var(&without, "without", "leave out uploads, caches, or a path; may be given more than once")
	end := c.flags.Bool("end", false, "end the copy; -at says at which relay, where there are several")
	bring := c.flags.Bool("bring", false, "bring home the mail that copies caught, now")
	c.common = []string{"at", "end", "for", "remarks"}
	service, err := c.connect(func() error {
		switch {
		case (*end || asked.Relay != "") && len(c.names) == 0:
			return usageError{"name the site"}
		case *lasts < time.Minute || *lasts > 365*24*time.Hour:
			return usageError{"-for is from 1m to 8760h"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	name := strings.Join(c.names, "")
	switch {
	case *end:
		return service.EndStanding(ctx, name, asked.Relay)
	case asked.Relay != "":
		if asked.Without = without; c.given()["for"] {
			asked.Seconds = int(lasts.Seconds())
		}
		return c.stand(ctx, service, name, asked)
	}
	if *bring {
		if err := service.BringHome(ctx); err != nil {
			return err
		}
	}
	all, err := service.Standing(ctx, name, true)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	return c.tellStanding(all)
}

// stand sends a copy, and tells where it stands.
func (c *call) stand(ctx context.Context, service *client.Client, name string, asked client.Stand) error {
	operation, err := service.Stand(ctx, name, asked)
	if err != nil {
		return err
	}
	watched, err := c.follow(ctx, service, operation)
	if err != nil {
		return err
	}
	if *c.json {
		err = c.printJSON(watched)
	}
	if err != nil || watched.State != plan.OperationDone {
		return cmp.Or(err, error(exitCode(exitFailed)))
	}
	var up client.StoodUp
	if err := json.Unmarshal(watched.Details, &up); err != nil || up.Copy == nil || *c.json {
		return err
	}
	fmt.Fprintf(c.out, "%s of %s were sent.\n", megabytes(up.Carried), megabytes(up.Copy.Bytes))
	all, err := service.Standing(ctx, name, true)
	for _, k := range all.Copies {
		if k.Key == up.Copy.Key && k.Relay == up.Copy.Relay {
			c.tellCopy(k)
		}
	}
	return err
}

func (c *call) tellCopy(k client.StandingCopy) {
	fmt.Fprintf(c.out, "Address   %s\n", bold(c.out, k.Address))
	if k.Password != "" {
		fmt.Fprintf(c.out, "Password  %s\n", bold(c.out, k.Password))
	}
	fmt.Fprintf(c.out, "It stands until %s, also while this machine is off. End it with: vessik standing %s -end\n",
		k.Until.Local().Format("2006-01-02"), k.Site)
}

func (c *call) tellStanding(all client.Standing) error {
	for _, host := range slices.Sorted(maps.Keys(all.Unreached)) {
		fmt.Fprintf(c.out, "%s does not tell what stands there: %s\n", host, all.Unreached[host])
	}
	if len(all.Copies) == 0 {
		fmt.Fprintln(c.out, "No copy stands. Put one up with: vessik standing NAME -at RELAY")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "SITE")+"\tSTATE\tADDRESS\tPASSWORD\tSENT\tSIZE\tUNTIL\tREMARKS\tMAIL\tRELAY")
	for _, k := range all.Copies {
		sent := "-"
		if !k.UpdatedAt.IsZero() {
			sent = k.UpdatedAt.Local().Format("2006-01-02 15:04")
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\t%s\t%d\t%d\t%s\n", site.Shown(k.Site), k.State, cmp.Or(k.Address, "-"),
			cmp.Or(k.Password, "-"), sent, megabytes(k.Bytes), k.Until.Local().Format("2006-01-02"), k.Remarked, k.Mails, k.Relay)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	for _, k := range all.Copies {
		then := fmt.Sprintf("; send it again: vessik standing %s -at %s", k.Site, k.Relay)
		if k.State == wire.CopyOver {
			then = fmt.Sprintf(": vessik standing %s -end", k.Site)
		}
		if k.Why != "" {
			fmt.Fprintf(c.out, "%s: %s%s\n", site.Shown(k.Site), k.Why, then)
		}
	}
	return nil
}
