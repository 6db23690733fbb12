package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/fleet"
	"vessik/internal/core/site"
	"vessik/internal/core/yamltext"
)

var newCommand = command{name: "new", names: "[NAME…]", about: "make sites",
	synopsis: "Makes one or many sites. Title, folder, domain, port, database and administrator follow from the name; every " +
		"flag\noverrides a part of it. With several names, flags that can belong to one site only are refused.",
	example: "vessik new orchard-days -title \"Orchard Days\" -administrator head-keeper\n" +
		"vessik new fernhollow seed-exchange glasshouse-journal\n" +
		"vessik new -in ~/sites/orchard-days", run: runNew}

// newSites is what the command line asks for.
type newSites struct {
	r                                           client.Request
	texts                                       map[string]*string // those that can belong to one site only, by flag
	in                                          string
	dryRun                                      bool
	touches, domains, subSites, plugins, themes list
	archives                                    list // one, or several that belong together
}

func runNew(ctx context.Context, c *call) error {
	asked := newSites{texts: map[string]*string{}}
	asked.flags(c)
	service, err := c.connect(func() error { return asked.check(c.names) })
	if err != nil {
		return err
	}
	if err := asked.fill(); err != nil {
		return err
	}
	if asked.in != "" {
		return c.makeAsWritten(ctx, service, asked.in, asked.r, asked.dryRun)
	}
	files := []*string{&asked.r.Parcel, &asked.r.SQL}
	for i := range asked.archives {
		files = append(files, &asked.archives[i])
	}
	for _, path := range files {
		done, err := c.bring(ctx, service, path)
		if err != nil {
			return err
		}
		defer done()
	}
	asked.r.Archive = strings.Join(asked.archives, "\n")
	requests := []client.Request{}
	for _, name := range c.names {
		each := asked.r
		each.Name = name
		requests = append(requests, each)
	}
	if asked.dryRun {
		return c.tellSites(ctx, service, requests...)
	}
	return c.makeSites(ctx, service, requests...)
}

func (a *newSites) flags(c *call) {
	c.common = []string{"title", "php", "web", "database", "touch", "stencil"}
	text := func(field *string, name, about string, oneSiteOnly bool) {
		c.flags.StringVar(field, name, "", about)
		if oneSiteOnly {
			a.texts[name] = field
		}
	}
	text(&a.r.Title, "title", "the site's title (default: from the name)", true)
	text(&a.r.Folder, "folder", "the site's folder, empty or not yet there (default: sites/NAME in the home folder)", true)
	text(&a.r.Domain, "domain", "host name that the gateway answers for (default: NAME.localhost)", true)
	c.flags.IntVar(&a.r.Port, "port", 0, "the site's own port on 127.0.0.1 (default: the first that is free)")
	text(&a.r.Administrator.Name, "administrator", "administrator's user name (default: NAME-keeper)", false)
	text(&a.r.Administrator.Mail, "mail", "administrator's mail address (default: keeper@NAME.example)", false)
	text(&a.r.Administrator.Password, "password", "administrator's password, 12 characters or more (default: generated)", true)
	text(&a.r.CMS, "cms", "the CMS (default: wordpress)", false)
	text(&a.r.CMSVersion, "cms-version", "its version (default: newest)", false)
	text(&a.r.PHP, "php", "PHP engine, such as php-8.4", false)
	text(&a.r.Web, "web", "web server engine, such as nginx-1.26", false)
	text(&a.r.Database, "database", "database engine, such as mariadb-11.8", false)
	text(&a.r.DatabaseName, "database-name", "the site's database (default: from the name)", true)
	text(&a.r.DatabaseUser, "database-user", "the database's user (default: from the name)", true)
	text(&a.r.DatabasePassword, "database-password", "that user's password (default: generated)", true)
	c.flags.Var(&a.archives, "archive", "release, backup or parcel of a PHP CMS (.zip, or .tar, plain or compressed): a CMS that is "+
		"known needs "+
		"no installer, unless -cms archive; given more than once, archives that belong together, one of which holds the CMS")
	text(&a.r.Parcel, "parcel", "whole site in one file, as vessik parcel makes it; its users stay, unless -administrator, -mail or "+
		"-password is given", false)
	text(&a.r.Adopt, "adopt", "existing folder, used where it stands", true)
	c.flags.StringVar(&a.in, "in", "", "folder with a vessik-site.yaml, used where it stands and made as that file says")
	text(&a.r.Stencil, "stencil", "saved site that it is drawn from; see them with vessik stencil", false)
	text(&a.r.SQL, "sql", "dump to load, plain, .gz, .zst, .xz or .bz2; alone into a new CMS", true)
	text(&a.r.Dump, "dump", "which dump in the archive, where it holds several databases", true)
	text(&a.r.SQLAddress, "sql-address", "base address in that dump (default: found where the CMS knows how)", true)
	c.flags.Var(&a.touches, "touch", "finishing touch of the CMS or of your own, NAME or NAME=VALUE; may be given more than once, or joined "+
		"by commas")
	text(&a.r.Group, "group", "label under which the fleet shows it", false)
	c.flags.BoolVar(&a.r.SearchEngines, "search-engines", false, "search engines may list the site")
	c.flags.Var(&a.domains, "also-domain", "further domain that the site answers for; may be given more than once")
	c.flags.BoolVar(&a.r.ForceDomain, "force-domain", false, "also a domain whose ending is public")
	c.flags.BoolVar(&a.r.ForceWeak, "force-weak", false, "also names and passwords that are easily guessed, such as admin")
	text(&a.r.Network, "network", "several sites in one installation: folders or domains", false)
	c.flags.Var(&a.subSites, "sub-site", "sub-site of the network that is made at once; may be given more than once, or joined by commas")
	c.flags.Var(&a.plugins, "plugin", "plugin of the shelf, NAME or NAME@VERSION, active from the start; may be given more than once, or "+
		"joined by commas")
	c.flags.Var(&a.themes, "theme", "theme of the shelf; the first is the active one")
	text(&a.r.Language, "language", "language of the CMS, such as de_DE, or de where only one fits", false)
	text(&a.r.TimeZone, "time-zone", "time zone, such as Europe/Lisbon (default: UTC)", false)
	text(&a.r.Outgoing, "outgoing", "web, open or closed: what the site may ask of other machines (default: web)", false)
	text(&a.r.HTTPS, "https", "on or off: whether it answers over https alone (default: off)", false)
	text(&a.r.Prefix, "prefix", "begins the names of the CMS's tables (default: generated, such as k3xw_)", false)
	c.flags.BoolVar(&a.dryRun, "dry-run", false, "tell what would be made, and change nothing")
}

// check says what cannot be asked for together.
func (a *newSites) check(names []string) error {
	single := []string{}
	for name, field := range a.texts {
		if *field != "" {
			single = append(single, "-"+name)
		}
	}
	if len(a.domains) > 0 {
		single = append(single, "-also-domain")
	}
	if a.r.Port != 0 {
		single = append(single, "-port")
	}
	if len(names) == 0 && a.in == "" {
		return usageError{"name a site"}
	}
	if a.in != "" {
		single = append(single, "-in")
	}
	if len(names) > 1 && len(single) > 0 {
		return usageError{strings.Join(sorted(single), ", ") + " can belong to one site only; name one site"}
	}
	return nil
}

// fill reads lists and relative paths into the request.
func (a *newSites) fill() error {
	for _, path := range []*string{&a.r.Folder, &a.r.Parcel, &a.r.Adopt, &a.r.SQL} {
		if *path != "" {
			absolute, err := filepath.Abs(*path)
			if err != nil {
				return err
			}
			*path = absolute
		}
	}
	for i, each := range a.archives {
		absolute, err := filepath.Abs(each)
		if err != nil {
			return err
		}
		a.archives[i] = absolute
	}
	a.r.Archive = strings.Join(a.archives, "\n")
	for _, touch := range a.touches {
		a.r.Touches = append(a.r.Touches, client.SplitTouches(touch)...)
	}
	a.r.Domains = a.domains
	for _, each := range []struct {
		given  list
		target *[]string
	}{{a.plugins, &a.r.Plugins}, {a.themes, &a.r.Themes}} {
		for _, words := range each.given {
			*each.target = append(*each.target, strings.Split(words, ",")...)
		}
	}
	for _, sub := range a.subSites {
		a.r.SubSites = append(a.r.SubSites, strings.Split(sub, ",")...)
	}
	return nil
}

// makeAsWritten makes the site that a folder's own file describes; what the command line says goes before it.
func (c *call) makeAsWritten(ctx context.Context, service *client.Client, folder string, asked client.Request, dryRun bool) error {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	path := filepath.Join(folder, fleet.SiteFileName)
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	file, err := fleet.ParseSite(text)
	var fault *yamltext.Fault
	if errors.As(err, &fault) {
		return usageError{fmt.Sprintf("%s, %v", path, fault)}
	}
	if err != nil {
		return err
	}
	r := client.Request(file.Request())
	r.Adopt, r.SubSites, r.Plugins, r.Themes, r.Touches, r.Language = folder, nil, nil, nil, nil,
		"" // all that is in the folder and the dump
	if file.SQL != "" {
		r.SQL, r.SQLAddress = filepath.Join(folder, file.SQL), file.Address
		if info, err := os.Lstat(r.SQL); err == nil && !info.Mode().IsRegular() { // it came with the folder, and may lead anywhere
			return fmt.Errorf("%s is a link, a pipe or the like: put the dump itself there", r.SQL)
		}
	}
	for given, target := range map[string]*string{asked.Title: &r.Title, asked.Domain: &r.Domain, asked.PHP: &r.PHP, asked.Web: &r.Web,
		asked.Database: &r.Database, asked.Group: &r.Group} {
		if given != "" {
			*target = given
		}
	}
	if len(c.names) == 1 {
		r.Name = c.names[0]
	}
	if dryRun {
		return c.tellSites(ctx, service, r)
	}
	if err := c.makeSites(ctx, service, r); err != nil || len(file.PHPIni) == 0 {
		return err
	}
	page, err := service.Settings(ctx, r.Name)
	if err != nil {
		return err
	}
	next := page.Settings
	next.PHP = orEmpty(next.PHP)
	maps.Copy(next.PHP, file.PHPIni)
	if next.Equal(page.Settings) {
		return nil
	}
	operation, err := service.Adjust(ctx, r.Name, next, false)
	return c.showChange(ctx, service, operation, err)
}

// tellSites says what would be made.
func (c *call) tellSites(ctx context.Context, service *client.Client, requests ...client.Request) error {
	derived, err := service.PreviewSites(ctx, requests...)
	if err != nil {
		return err
	}
	if len(derived.Problems) > 0 {
		return &client.ProblemDetails{Status: 422, Detail: "the request could not be carried out", Errors: derived.Problems}
	}
	if *c.json {
		return c.printJSON(derived)
	}
	for i, s := range derived.Sites {
		if i > 0 {
			fmt.Fprintln(c.out)
		}
		s.State, s.Prefix = "", requests[i].Prefix
		rows := [][2]string{{"steps", strings.Join(derived.Plans[i].Steps, ", ")}}
		if holds := derived.Plans[i].Holds; holds != "" {
			rows = append(rows, [2]string{"the archive holds", holds})
		}
		for _, change := range derived.Plans[i].Changes {
			rows = append(rows, [2]string{"in its folder", change})
		}
		if changes := len(derived.Plans[i].Changes); requests[i].Adopt != "" && changes > 0 {
			rows = append(rows, [2]string{"in its folder", "nothing else; this is given back when the site is retired"})
		} else if requests[i].Adopt != "" {
			rows = append(rows, [2]string{"in its folder", "nothing is changed"})
		}
		if err := c.printSite(s, "(shown once it is made)", rows...); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintln(c.out, "\nNothing was made.")
	return err
}

// makeSites has sites made, and says how they came out.
func (c *call) makeSites(ctx context.Context, service *client.Client, requests ...client.Request) error {
	operation, err := service.New(ctx, requests...)
	return c.showMade(ctx, service, operation, err, requests...)
}

// showMade follows sites that are made to their end.
func (c *call) showMade(ctx context.Context, service *client.Client, operation client.Operation, err error,
	requests ...client.Request) error {
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
				fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", site.Shown(s.Name), s.URL, s.Administrator.Name, part.Report.Summary())
			}
		}
	}
	table.Flush()
	for _, s := range sites {
		if len(requests) > 0 && requests[0].Archive != "" && s.Name == site.ASCII(requests[0].Name) && s.CMS.Name == site.ArchiveCMS {
			fmt.Fprintf(c.out, "\nIts installer asks for the database: host %s, port %d, name %s, user %s\n", s.Database.Host, s.Database.Port,
				s.Database.Name, s.Database.User)
		}
	}
	if len(watched.Sites) > 0 && watched.State == "done" {
		fmt.Fprintf(c.out, "\nPasswords: vessik site %s -secrets\n", site.Shown(watched.Sites[0].Site))
	}
	return outcome(watched)
}
