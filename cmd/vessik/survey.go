package main

import (
	"context"
	"fmt"
	"text/tabwriter"

	"vessik/internal/survey"
)

var surveyCommand = command{name: "survey", about: "look at the machine before anything is changed",
	synopsis: "Shows the machine as Vessik sees it: ports and who holds them, other servers, names, disk, memory, limits, archive; each " +
		"with a verdict and a remedy.\nNeeds no service. Exits with 3 when something will not work.",
	example: "vessik survey", run: func(ctx context.Context, c *call) error {
		c.jsonFlag()
		if err := c.parse(); err != nil {
			return err
		}
		home, err := c.homeFolder()
		if err != nil {
			return err
		}
		result := survey.Look(ctx, home)
		if *c.json {
			err = c.printJSON(result)
		} else {
			table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
			area := ""
			for _, f := range result.Findings {
				if f.Area != area {
					fmt.Fprintf(table, "%s\t\t\n", f.Area)
					area = f.Area
				}
				fmt.Fprintf(table, "  %s\t%s\t%s\n", f.Verdict, f.Subject, f.Observed)
				if f.Remedy != "" {
					fmt.Fprintf(table, "  \t\t→ %s\n", f.Remedy)
				}
			}
			err = table.Flush()
		}
		if err == nil && result.Faults > 0 {
			err = exitCode(exitCheckFailed)
		}
		return err
	}}
