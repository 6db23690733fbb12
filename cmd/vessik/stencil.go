package main

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
)

var copyCommand = command{name: "copy", names: "NAME NEW", about: "make a copy of a site",
	synopsis: "Makes a new site with the files and content of another one, re-addressed, with a title, database, administrator and secrets " +
		"of its own. The stack and the settings are those of the site.",
	example: "vessik copy orchard-days orchard-days-next\nvessik copy orchard-days orchard-old -php 7.4", run: runCopy}

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
	r.CopyOf, r.Name = c.names[0], c.names[1]
	return c.makeSites(ctx, service, r)
}

const stencilSuffix = ".stencil.tar.zst"

var stencilCommand = command{name: "stencil", names: "[save|describe|rename|drop|export|import …]",
	about: "save sites, and draw new ones from them",
	synopsis: "Lists stencils: saved sites that new ones are drawn from with vessik new NAME -stencil STENCIL. save SITE STENCIL saves one " +
		"(files and database, without\npasswords, secrets, logs and caches), describe STENCIL TEXT, rename STENCIL NEW, drop STENCIL, export " +
		"STENCIL [FILE], import FILE [STENCIL].",
	example: "vessik stencil save orchard-days garden-basics -about \"Theme, menus, opening hours\"\nvessik new moss-days -stencil " +
		"garden-basics\nvessik stencil export garden-basics ~/garden-basics" + stencilSuffix, run: runStencil}

func runStencil(ctx context.Context, c *call) error {
	about := c.flags.String("about", "", "with save: a description")
	settings := c.flags.Bool("settings", false, "with save: sites are drawn with its php.ini settings and extensions")
	newest := c.flags.Bool("newest-cms", false, "with save: sites are drawn with the newest release of the CMS")
	service, err := c.connect()
	if err != nil {
		return err
	}
	if len(c.names) == 0 {
		return c.listStencils(ctx, service)
	}
	verb, words := c.names[0], c.names[1:]
	do, known := map[string]struct {
		least, most int
		usage       string
		do          func() error
	}{
		"save": {2, 2, "SITE STENCIL", func() error {
			return c.saveStencil(ctx, service, words[0],
				client.SaveStencil{As: words[1], Description: *about, NewestCMS: *newest, Settings: *settings})
		}},
		"describe": {2, 2, "STENCIL TEXT", func() error { return c.describeStencil(ctx, service, words[0], words[1]) }},
		"rename":   {2, 2, "STENCIL NEW", func() error { return c.renameStencil(ctx, service, words[0], words[1]) }},
		"drop": {1, 1, "STENCIL", func() error {
			return c.tellStencil(client.Stencil{Name: words[0]}, service.DropStencil(ctx, words[0]), "dropped: "+words[0])
		}},
		"export": {1, 2, "STENCIL [FILE]", func() error { return c.exportStencil(ctx, service, words) }},
		"import": {1, 2, "FILE [STENCIL]", func() error { return c.importStencil(ctx, service, words) }},
	}[verb]
	switch {
	case !known:
		return usageError{fmt.Sprintf("there is no stencil %s; it is save, describe, rename, drop, export or import", verb)}
	case len(words) < do.least || len(words) > do.most:
		return usageError{"it is: stencil " + verb + " " + do.usage}
	}
	return do.do()
}

// tellStencil says what was done with one.
func (c *call) tellStencil(s client.Stencil, err error, text string) error {
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(s)
	}
	_, err = fmt.Fprintln(c.out, text)
	return err
}

func (c *call) saveStencil(ctx context.Context, service *client.Client, site string, asked client.SaveStencil) error {
	operation, err := service.SaveStencil(ctx, site, asked)
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if err := outcome(watched); err != nil || *c.json {
		return err
	}
	return c.listStencils(ctx, service)
}

func (c *call) describeStencil(ctx context.Context, service *client.Client, stencil, text string) error {
	s, err := service.DescribeStencil(ctx, stencil, "", text)
	return c.tellStencil(s, err, stencil+": "+text)
}

func (c *call) renameStencil(ctx context.Context, service *client.Client, old, name string) error {
	all, err := service.Stencils(ctx)
	if err != nil {
		return err
	}
	description := ""
	for _, s := range all {
		if s.Name == old {
			description = s.Description
		}
	}
	s, err := service.DescribeStencil(ctx, old, name, description)
	return c.tellStencil(s, err, old+" is called "+name+" now")
}

func (c *call) exportStencil(ctx context.Context, service *client.Client, words []string) error {
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
	return c.tellStencil(client.Stencil{Name: words[0]}, to.Close(), "written: "+file)
}

func (c *call) importStencil(ctx context.Context, service *client.Client, words []string) error {
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
	return c.tellStencil(s, err, fmt.Sprintf("taken in: %s (%s %s, %s)", s.Name, s.CMS.Name, s.CMS.Version, sizeOf(s.SizeBytes)))
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
		fmt.Fprintf(table, "%s\t%s %s\t%s\t%s\t%s\t%s\t%s\n", s.Name, s.CMS.Name, s.CMS.Version, s.From, sizeOf(s.FileBytes),
			sizeOf(s.DatabaseBytes), sizeOf(s.SizeBytes), s.Description)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	for _, s := range all {
		if words := apart(s); words != "" {
			fmt.Fprintf(c.out, "%s %s\n", s.Name, words)
		}
	}
	return nil
}

// apart says what a stencil brings besides files and content, and what it does not hold.
func apart(s client.Stencil) string {
	words := []string{}
	for _, directive := range slices.Sorted(maps.Keys(s.Settings.PHP)) {
		words = append(words, "brings "+directive+"="+s.Settings.PHP[directive])
	}
	for _, extension := range slices.Sorted(maps.Keys(s.Settings.Extensions)) {
		words = append(words, fmt.Sprintf("brings the extension %s %s", extension, map[bool]string{true: "on",
			false: "off"}[s.Settings.Extensions[extension]]))
	}
	if len(s.Shared) > 0 {
		words = append(words, "is without "+strings.Join(s.Shared, ", ")+", where another folder of the machine stood")
	}
	return strings.Join(words, "; ")
}

// sizeOf is megabytes, or kilobytes of what is less than one.
func sizeOf(bytes int64) string {
	if bytes < 1<<20 {
		return fmt.Sprintf("%d KB", (bytes+1<<9)>>10)
	}
	return megabytes(bytes)
}
