package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

var sitesCommand = command{name: "sites", about: "list all sites",
	synopsis: "Lists sites: state, address, stack and the newest verdict. All of them, or those that every given flag fits.",
	example:  "vessik sites\nvessik sites -failed\nvessik sites -group \"Open days\" -engine php-7.4", run: runSites}

func runSites(ctx context.Context, c *call) error {
	wanted := c.choosing()
	service, err := c.connect()
	if err != nil {
		return err
	}
	sites, all, err := wanted.sites(ctx, service)
	if err != nil {
		return err
	}
	switch {
	case *c.json:
		return c.printJSON(sites)
	case len(all) == 0:
		fmt.Fprintln(c.out, "There are no sites yet. Make one with: vessik new NAME")
		return nil
	case len(sites) == 0:
		fmt.Fprintf(c.out, "None of %d sites fits.\n", len(all))
		return nil
	}
	return c.fleetTable(ctx, service, sites)
}

// fleetTable prints a line a site.
func (c *call) fleetTable(ctx context.Context, service *client.Client, sites []client.Site) error {
	report, err := service.Reports(ctx)
	if err != nil {
		return err
	}
	verdicts := map[string]string{}
	for _, r := range report.Sites {
		verdicts[r.Site] = r.Summary()
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "SITE\tSTATE\tURL\tSTACK\tVERDICT")
	for _, s := range sites {
		verdict := verdicts[s.Name]
		if verdict == "" || s.State == "stopped" {
			verdict = "not checked"
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s, %s, %s\t%s\n", site.Shown(s.Name), s.State, s.URL, s.Stack.PHP.Engine, s.Stack.Web.Engine,
			s.Stack.Database.Engine, verdict)
	}
	return table.Flush()
}

var siteCommand = command{name: "site", names: "NAME", about: "show one site",
	synopsis: "Shows everything about one site; its passwords only with -secrets.",
	example:  "vessik site orchard-days -secrets", run: func(ctx context.Context, c *call) error {
		secrets := c.flags.Bool("secrets", false, "with passwords")
		service, err := c.connect()
		if err != nil {
			return err
		}
		s, err := service.Site(ctx, c.names[0], *secrets)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(s)
		}
		words := "(shown with -secrets)"
		if *secrets {
			words = ""
		}
		return c.printSite(s, words)
	}}

// printSite tells everything about a site; words stand in the place of its passwords, unless they are empty.
func (c *call) printSite(s client.Site, words string, more ...[2]string) error {
	hidden := func(password string) string { return cmp.Or(words, password) }
	said := func(yes bool, words string) string {
		if yes {
			return words
		}
		return ""
	}
	rows := [][2]string{{"site", s.Name}, {"title", s.Title}, {"group", s.Group}, {"note", s.Note}, {"state", string(s.State)},
		{"reason", s.Reason}, {"notice", s.Notice}, {"address", s.URL}, {"reads", s.DomainUnicode},
		{"also answers for", strings.Join(s.Domains, ", ")}}
	for _, forward := range s.Forwards {
		rows = append(rows, [2]string{"had before", forward.Domain + ", leads there until " + forward.Until.Local().Format("2006-01-02")})
	}
	rows = append(rows, [2]string{"network", said(s.Network != "",
		"by "+map[string]string{"folders": "sub-folder", "domains": "sub-domain"}[s.Network])})
	for _, sub := range s.SubSites {
		rows = append(rows, [2]string{"sub-site", sub})
	}
	rows = append(rows, [][2]string{{"own port", fmt.Sprintf("127.0.0.1:%d", s.Port)},
		{"folder", s.Folder}, {"cms", s.CMS.Title + " " + s.CMS.Version}, {"language", s.Language}, {"time zone", s.TimeZone},
		{"search engines", said(s.SearchEngines, "may list it")}, {"other machines", machines(s)},
		{"finishing touches", strings.Join(s.Touches, ", ")}, {"plugins", strings.Join(s.Plugins, ", ")},
		{"themes", strings.Join(s.Themes, ", ")},
		{"stack", fmt.Sprintf("%s (%s), %s (%s), %s (%s)", s.Stack.PHP.Engine, s.Stack.PHP.Version, s.Stack.Web.Engine, s.Stack.Web.Version,
			s.Stack.Database.Engine, s.Stack.Database.Version)},
		{"database", fmt.Sprintf("%s on %s:%d", s.Database.Name, s.Database.Host, s.Database.Port)}, {"database user", s.Database.User},
		{"database password", hidden(s.Database.Password)},
		{"table prefix", s.Prefix}}...)
	if s.SignIn != "" {
		rows = append(rows, [][2]string{{"administrator", s.Administrator.Name}, {"mail", s.Administrator.Mail}, {"password",
			hidden(s.Administrator.Password)},
			{"sign in", s.SignIn}}...)
	}
	if !s.CreatedAt.IsZero() {
		rows = append(rows, [2]string{"made", s.CreatedAt.Local().Format("2006-01-02 15:04")})
	}
	return printFacts(c.out, append(rows, more...))
}

// printFacts shows what is known, a line each; what is empty is left out.
func printFacts(out io.Writer, rows [][2]string) error {
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	for _, row := range rows {
		if row[1] != "" {
			fmt.Fprintf(table, "%s\t%s\n", row[0], row[1])
		}
	}
	return table.Flush()
}

var openCommand = command{name: "open", names: "NAME", about: "open a site in the browser",
	synopsis: "Opens a site in the browser; without a desktop, prints its address.",
	example:  "vessik open orchard-days", run: show(
		func(ctx context.Context, service *client.Client, c *call) (client.Site, error) {
			return service.Site(ctx, c.names[0], false)
		},
		func(_ context.Context, _ *client.Client, c *call, s client.Site) error {
			browse(s.URL)
			fmt.Fprintln(c.out, s.URL)
			return nil
		})}

// browse opens an address where there is a desktop.
func browse(address string) {
	if os.Getenv("DISPLAY") == "" && os.Getenv("WAYLAND_DISPLAY") == "" {
		return
	}
	if opener, err := exec.LookPath("xdg-open"); err == nil {
		exec.Command(opener, address).Start()
	}
}

var startCommand = command{name: "start", names: "[NAME…]", about: "start sites",
	synopsis: "Starts sites and verifies them. Starting a running site takes up changes of its own virtual-host lines.",
	example:  "vessik start orchard-days\nvessik start -all", run: runOn(plan.Start)}

var stopCommand = command{name: "stop", names: "[NAME…]", about: "stop sites",
	synopsis: "Stops sites: nothing of them runs until they are started.",
	example:  "vessik stop orchard-days seed-exchange\nvessik stop -group \"Open days\"\nvessik stop -all", run: runOn(plan.Stop)}

// runOn is a command that has something done with sites.
func runOn(kind plan.Kind) func(context.Context, *call) error {
	return func(ctx context.Context, c *call) error {
		all, wanted := c.flags.Bool("all", false, "all sites"), c.choosing()
		service, err := c.connect(func() error {
			if *all == (len(c.names) > 0 || wanted.given()) {
				return usageError{"name sites, or give -all; -group, -state, -engine and -failed choose some"}
			}
			return wanted.judge(c.names, false)
		})
		if err != nil {
			return err
		}
		names, err := wanted.names(ctx, service, c.names)
		if err != nil {
			return err
		}
		operation, err := service.Do(ctx, kind, wire.Names{Names: names, All: *all})
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		if kind == plan.Start && !*c.json {
			sites, err := service.Sites(ctx, false)
			if err != nil {
				return err
			}
			for _, s := range sites {
				if s.Notice != "" && slices.ContainsFunc(watched.Sites, func(part wire.OperationSite) bool { return part.Site == s.Name }) {
					fmt.Fprintf(c.out, "%s: %s\n", site.Shown(s.Name), s.Notice)
				}
			}
		}
		return outcome(watched)
	}
}

var verifyCommand = command{name: "verify", names: "[NAME…]", about: "prove that sites answer",
	synopsis: "Asks sites everything, from outside: all of them, or those that are named. Exits with 3 when a check fails.",
	example:  "vessik verify\nvessik verify -failed\nvessik verify orchard-days -junit > report.xml", run: func(ctx context.Context,
		c *call) error {
		junit := c.flags.Bool("junit", false, "print JUnit XML")
		wanted := c.choosing()
		service, err := c.connect(c.oneFormat("junit", junit), func() error { return wanted.judge(c.names, false) })
		if err != nil {
			return err
		}
		names, err := wanted.names(ctx, service, c.names)
		if err != nil {
			return err
		}
		operation, err := service.Do(ctx, plan.Verify, wire.Names{Names: names, All: len(names) == 0})
		if err != nil {
			return err
		}
		watched, err := c.follow(ctx, service, operation)
		if err != nil {
			return err
		}
		sites := []check.SiteReport{}
		for _, part := range watched.Sites {
			if part.Report != nil {
				sites = append(sites, *part.Report)
			}
		}
		report := check.Together(sites)
		switch {
		case *c.json:
			err = c.printJSON(report)
		case *junit:
			err = check.WriteJUnit(c.out, report)
		default:
			err = check.WriteTable(c.out, report, coloured(c.out))
		}
		if err != nil {
			return err
		}
		return outcome(watched)
	}}

// machines says what a site may ask of other machines.
func machines(s client.Site) string {
	said := map[string]string{"web": "may be asked by HTTP and HTTPS", "open": "may be asked anything",
		"closed": "may be asked nothing"}[s.Outgoing]
	if len(s.Reach) > 0 {
		said += "; also " + strings.Join(s.Reach, ", ")
	}
	if len(s.Refuse) > 0 {
		said += "; in no case " + strings.Join(s.Refuse, ", ")
	}
	return said
}

var retireCommand = command{name: "retire", names: "[NAME…]", about: "remove sites and all that belongs to them",
	synopsis: "Removes sites: folder, database, user, virtual host, logs. Asks first, unless -yes is given.",
	example:  "vessik retire moss-archive -keep-files", run: func(ctx context.Context, c *call) error {
		yes := c.flags.Bool("yes", false, "do not ask")
		keep := c.flags.Bool("keep-files", false, "keep the folder, and the database as a dump")
		wanted := c.choosing()
		service, err := c.connect(func() error { return wanted.judge(c.names, true) })
		if err != nil {
			return err
		}
		names, err := wanted.names(ctx, service, c.names)
		if err != nil {
			return err
		}
		if !*yes {
			if err := somebody(); err != nil {
				return err
			}
			for _, name := range names {
				s, err := service.Site(ctx, name, false)
				if err != nil {
					return err
				}
				fmt.Fprintf(os.Stderr, "%s: removes the folder %s and the database %s\n", site.Shown(name), s.Folder, s.Database.Name)
				if *keep {
					fmt.Fprintf(os.Stderr, "  but keeps the folder, and the database as a dump\n")
				}
			}
			if err := goOn(); err != nil {
				return err
			}
		}
		operation, err := service.Do(ctx, plan.Retire, wire.Names{Names: names, KeepFiles: *keep})
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		if *keep && !*c.json {
			for _, part := range watched.Sites {
				for _, step := range part.Steps {
					if step.Step == "drop-database" && step.Note != "" {
						fmt.Fprintf(c.out, "%s: %s\n", part.Site, step.Note)
					}
				}
			}
		}
		return outcome(watched)
	}}
