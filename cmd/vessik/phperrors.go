package main

import (
	"context"
	"fmt"
	"strings"

	"vessik/internal/core/site"
)

var errorsCommand = command{name: "errors", names: "NAME", about: "show what PHP of a site complained of",
	synopsis: "Lists errors, warnings, notices and deprecations of a site's PHP by the place in the code: how often, since when, for which " +
		"request the last time, and\nthe lines around. With vessik settings NAME -debug on, PHP reports all that it can.",
	example: "vessik errors orchard-days\nvessik errors orchard-days -forget", run: runErrors}

func runErrors(ctx context.Context, c *call) error {
	forget := c.flags.Bool("forget", false, "empty the list")
	service, err := c.connect()
	if err != nil {
		return err
	}
	if *forget {
		return service.ForgetPHPErrors(ctx, c.names[0])
	}
	all, err := service.PHPErrors(ctx, c.names[0])
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintf(c.out, "PHP of %s complained of nothing.\n", site.Shown(c.names[0]))
	}
	for _, e := range all {
		fmt.Fprintf(c.out, "%s %s:%d\n    %s\n", bold(c.out, e.Kind), e.File, e.Line, strings.ReplaceAll(e.Text, "\n", "\n    "))
		times := "once, at " + e.LastAt.Local().Format("2006-01-02 15:04:05")
		if e.Count > 1 {
			times = fmt.Sprintf("%d times, first at %s, last at %s", e.Count, e.FirstAt.Local().Format("2006-01-02 15:04:05"),
				e.LastAt.Local().Format("2006-01-02 15:04:05"))
		}
		if e.Request != "" {
			times += ", for " + e.Request
		}
		fmt.Fprintln(c.out, "    "+times)
		for _, line := range e.Source {
			mark := map[bool]string{true: ">"}[line.Line == e.Line]
			fmt.Fprintf(c.out, "  %1s %5d  %s\n", mark, line.Line, line.Text)
		}
	}
	return nil
}
