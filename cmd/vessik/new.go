package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"vessik/client"
)

var newCommand = command{name: "new", names: "NAME…", about: "make sites",
	synopsis: "Makes one or many sites. From a name everything is derived: title, folder, domain, port, database, administrator; every flag\noverrides a part of it. With several names, flags that can belong to one site only are refused.",
	example:  "vessik new orchard-days -title \"Orchard Days\" -admin head-keeper\nvessik new fernhollow seed-exchange glasshouse-journal", run: runNew}

func runNew(ctx context.Context, c *call) error {
	var r client.Request
	texts := map[string]*string{}
	text := func(field *string, name, about string, oneSiteOnly bool) {
		c.flags.StringVar(field, name, "", about)
		if oneSiteOnly {
			texts[name] = field
		}
	}
	text(&r.Title, "title", "the site's title (default: from the name)", true)
	text(&r.Folder, "folder", "the site's folder, empty or not yet there (default: sites/NAME in the home folder)", true)
	text(&r.Domain, "domain", "host name that the gateway answers for (default: NAME.localhost)", true)
	c.flags.IntVar(&r.Port, "port", 0, "the site's own port on 127.0.0.1 (default: the first that is free)")
	text(&r.Admin, "admin", "administrator's user name (default: NAME-keeper)", false)
	text(&r.AdminEmail, "admin-email", "administrator's mail address (default: keeper@NAME.example)", false)
	text(&r.AdminPassword, "admin-password", "administrator's password, 12 characters or more (default: generated)", true)
	text(&r.Kit, "kit", "the CMS (default: wordpress)", false)
	text(&r.KitVersion, "kit-version", "its version (default: the usual one)", false)
	text(&r.PHP, "php", "PHP engine, such as php-8.2", false)
	text(&r.Web, "web", "web server engine, such as nginx-1.22", false)
	text(&r.Database, "database", "database engine, such as mariadb-10.11", false)
	text(&r.DatabaseName, "database-name", "the site's database (default: from the name)", true)
	text(&r.DatabaseUser, "database-user", "the database's user (default: from the name)", true)
	text(&r.DatabasePassword, "database-password", "that user's password (default: generated)", true)
	text(&r.Archive, "archive", "release archive of any PHP CMS (.zip, .tar.gz, .tar.zst), whose own installer asks in the browser", false)
	text(&r.Adopt, "adopt", "existing folder, used where it stands", true)
	text(&r.Stencil, "stencil", "saved site that it is drawn from; see them with vessik stencil", false)
	text(&r.SQL, "sql", "dump to load, with -archive or -adopt; plain, .gz or .zst", true)
	text(&r.SQLAddress, "sql-address", "base address in that dump (default: found where the kit knows how)", true)
	var touches list
	c.flags.Var(&touches, "touch", "finishing touch of the kit; may be given more than once, or joined by commas")
	text(&r.Group, "group", "label under which the fleet shows it", false)
	c.flags.BoolVar(&r.SearchEngines, "search-engines", false, "search engines may list the site")
	text(&r.Prefix, "prefix", "begins the names of the CMS's tables (default: generated, such as k3xw_)", false)
	service, err := c.connect(func() error {
		single := []string{}
		for name, field := range texts {
			if *field != "" {
				single = append(single, "-"+name)
			}
		}
		if r.Port != 0 {
			single = append(single, "-port")
		}
		if len(c.names) > 1 && len(single) > 0 {
			return usageError{strings.Join(sorted(single), ", ") + " can belong to one site only; name one site"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, path := range []*string{&r.Folder, &r.Archive, &r.Adopt, &r.SQL} {
		if *path != "" {
			if *path, err = filepath.Abs(*path); err != nil {
				return err
			}
		}
	}
	for _, touch := range touches {
		r.Touches = append(r.Touches, strings.Split(touch, ",")...)
	}
	requests := []client.Request{}
	for _, name := range c.names {
		each := r
		each.Name = name
		requests = append(requests, each)
	}
	return c.makeSites(ctx, service, requests...)
}

// makeSites has sites made, and says how they came out.
func (c *call) makeSites(ctx context.Context, service *client.Client, requests ...client.Request) error {
	operation, err := service.New(ctx, requests...)
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if *c.json {
		return outcome(watched)
	}
	sites, err := service.Sites(ctx, false)
	if err != nil {
		return err
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, part := range watched.Sites {
		for _, s := range sites {
			if s.Name == part.Site && part.Report != nil {
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", s.Name, s.URL, s.Admin.User, part.Report.Summary())
			}
		}
	}
	table.Flush()
	for _, s := range sites {
		if requests[0].Archive != "" && s.Name == requests[0].Name {
			fmt.Fprintf(c.out, "\nIts installer asks for the database: host %s, port %d, name %s, user %s\n", s.Database.Host, s.Database.Port, s.Database.Name, s.Database.User)
		}
	}
	if len(watched.Sites) > 0 && watched.State == "done" {
		fmt.Fprintf(c.out, "\nPasswords: vessik site %s -secrets\n", watched.Sites[0].Site)
	}
	return outcome(watched)
}
