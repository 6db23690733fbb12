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

var copyCommand = command{name: "copy", names: "NAME NEW", about: "make a copy of a site",
	synopsis: "Makes a new site with the files and content of another one, re-addressed, with a title, database, administrator and secrets of its own.",
	example:  "vessik copy orchard-days orchard-days-next\nvessik copy orchard-days orchard-old -php 7.4", run: runCopy}

func runCopy(ctx context.Context, c *call) error {
	var r client.Request
	c.flags.StringVar(&r.Title, "title", "", "the copy's title (default: from its name)")
	c.flags.StringVar(&r.PHP, "php", "", "PHP engine (default: that of the site)")
	c.flags.StringVar(&r.Web, "web", "", "web server engine (default: that of the site)")
	c.flags.StringVar(&r.Database, "database", "", "database engine (default: that of the site)")
	service, err := c.connect(func() error {
		if len(c.names) != 2 {
			return usageError{"name the site and its copy: copy NAME NEW"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	source, err := service.Site(ctx, c.names[0], false)
	if err != nil {
		return err
	}
	r.CopyOf, r.Name = c.names[0], c.names[1]
	for part, own := range map[*string]string{&r.PHP: source.Stack.PHP.Engine, &r.Web: source.Stack.Web.Engine, &r.Database: source.Stack.Database.Engine} {
		if *part == "" {
			*part = own
		}
	}
	return c.makeSites(ctx, service, r)
}

const stencilSuffix = ".stencil.tar.zst"

var stencilCommand = command{name: "stencil", names: "[save|describe|rename|drop|export|import …]", about: "save sites, and draw new ones from them",
	synopsis: "Lists stencils: saved sites that new ones are drawn from with vessik new NAME -stencil STENCIL. save SITE STENCIL saves one (files and database, without\npasswords, secrets, logs and caches), describe STENCIL TEXT, rename STENCIL NEW, drop STENCIL, export STENCIL [FILE], import FILE [STENCIL].",
	example:  "vessik stencil save orchard-days garden-basics -about \"Theme, menus, opening hours\"\nvessik new moss-days -stencil garden-basics\nvessik stencil export garden-basics ~/garden-basics" + stencilSuffix, run: runStencil}

func runStencil(ctx context.Context, c *call) error {
	about := c.flags.String("about", "", "with save: a description")
	newest := c.flags.Bool("newest-cms", false, "with save: sites are drawn with the newest release of the CMS")
	service, err := c.connect()
	if err != nil {
		return err
	}
	if len(c.names) == 0 {
		return c.listStencils(ctx, service)
	}
	verb, words := c.names[0], c.names[1:]
	need := func(least, most int, usage string) error {
		if len(words) < least || len(words) > most {
			return usageError{"it is: stencil " + usage}
		}
		return nil
	}
	done := func(s client.Stencil, err error, text string, arguments ...any) error {
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(s)
		}
		_, err = fmt.Fprintf(c.out, text+"\n", arguments...)
		return err
	}
	switch verb {
	case "save":
		if err := need(2, 2, "save SITE STENCIL"); err != nil {
			return err
		}
		operation, err := service.SaveStencil(ctx, words[0], words[1], *about, *newest)
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		if err := outcome(watched); err != nil || *c.json {
			return err
		}
		return c.listStencils(ctx, service)
	case "describe":
		if err := need(2, 2, "describe STENCIL TEXT"); err != nil {
			return err
		}
		s, err := service.DescribeStencil(ctx, words[0], "", words[1])
		return done(s, err, "%s: %s", words[0], words[1])
	case "rename":
		if err := need(2, 2, "rename STENCIL NEW"); err != nil {
			return err
		}
		all, err := service.Stencils(ctx)
		if err != nil {
			return err
		}
		description := ""
		for _, s := range all {
			if s.Name == words[0] {
				description = s.Description
			}
		}
		s, err := service.DescribeStencil(ctx, words[0], words[1], description)
		return done(s, err, "%s is called %s now", words[0], words[1])
	case "drop":
		if err := need(1, 1, "drop STENCIL"); err != nil {
			return err
		}
		return done(client.Stencil{Name: words[0]}, service.DropStencil(ctx, words[0]), "dropped: %s", words[0])
	case "export":
		if err := need(1, 2, "export STENCIL [FILE]"); err != nil {
			return err
		}
		file := words[0] + stencilSuffix
		if len(words) == 2 {
			file = words[1]
		}
		to, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		if err := service.ExportStencil(ctx, words[0], to); err != nil {
			to.Close()
			os.Remove(file)
			return err
		}
		return done(client.Stencil{Name: words[0]}, to.Close(), "written: %s", file)
	case "import":
		if err := need(1, 2, "import FILE [STENCIL]"); err != nil {
			return err
		}
		name := strings.TrimSuffix(filepath.Base(words[0]), stencilSuffix)
		if len(words) == 2 {
			name = words[1]
		}
		from, err := os.Open(words[0])
		if err != nil {
			return err
		}
		defer from.Close()
		s, err := service.ImportStencil(ctx, name, from)
		return done(s, err, "taken in: %s (%s %s, %s)", s.Name, s.Kit.Name, s.Kit.Version, sizeOf(s.SizeBytes))
	}
	return usageError{fmt.Sprintf("there is no stencil %s; it is save, describe, rename, drop, export or import", verb)}
}

func (c *call) listStencils(ctx context.Context, service *client.Client) error {
	all, err := service.Stencils(ctx)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "STENCIL\tCMS\tFROM\tFILES\tDATABASE\tSIZE\tABOUT")
	for _, s := range all {
		fmt.Fprintf(table, "%s\t%s %s\t%s\t%s\t%s\t%s\t%s\n", s.Name, s.Kit.Name, s.Kit.Version, s.From, sizeOf(s.FileBytes), sizeOf(s.DatabaseBytes), sizeOf(s.SizeBytes), s.Description)
	}
	return table.Flush()
}

// sizeOf is megabytes, or kilobytes of what is less than one.
func sizeOf(bytes int64) string {
	if bytes < 1<<20 {
		return fmt.Sprintf("%d KB", (bytes+1<<9)>>10)
	}
	return megabytes(bytes)
}
