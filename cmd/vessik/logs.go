package main

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"vessik/client"
	"vessik/internal/core/check"
)

var logsCommand = command{name: "logs", names: "NAME", about: "show and follow a site's logs",
	synopsis: "Shows the last lines of a site's logs: php, fpm, access, web, database, own. -f goes on with those that are added.",
	example:  "vessik logs orchard-days -log php,web -f", run: runLogs}

func runLogs(ctx context.Context, c *call) error {
	follow := c.flags.Bool("f", false, "follow: go on with lines that are added")
	which := c.flags.String("log", "", "names of logs, joined by commas (default: all)")
	last := c.flags.Int("last", 20, "how many lines of each")
	search := c.flags.String("search", "", "only lines that contain this text")
	checks := c.flags.Bool("checks", false, "also requests of Vessik's own checks, which the access log has as "+check.Agent)
	service, err := c.connect()
	if err != nil {
		return err
	}
	logs := slices.DeleteFunc(strings.Split(*which, ","), func(s string) bool { return s == "" })
	return service.Logs(ctx, c.names[0], logs, *last, *follow, *checks,
		func(line client.LogLine) {
			switch {
			case !strings.Contains(strings.ToLower(line.Text), strings.ToLower(*search)):
			case *c.json:
				text, _ := json.Marshal(line)
				fmt.Fprintf(c.out, "%s\n", text)
			default:
				fmt.Fprintf(c.out, "%-8s %s\n", line.Log, line.Text)
			}
		})
}
