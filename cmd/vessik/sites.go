package main

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"text/tabwriter"

	"golang.org/x/term"

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
	wanted := wantedSites{}
	c.flags.StringVar(&wanted.group, "group", "", "only sites of this group")
	c.flags.StringVar(&wanted.state, "state", "", "only sites in this state, such as running or stopped")
	c.flags.StringVar(&wanted.engine, "engine", "", "only sites on an engine, such as php-8.4, nginx or mariadb-10.5")
	c.flags.BoolVar(&wanted.failed, "failed", false, "only sites that failed, or of which a check failed")
	service, err := c.connect()
	if err != nil {
		return err
	}
	all, err := service.Sites(ctx, false)
	if err != nil {
		return err
	}
	report, err := service.Reports(ctx)
	if err != nil {
		return err
	}
	for _, r := range report.Sites {
		if r.Passed != nil && !*r.Passed {
			wanted.failing = append(wanted.failing, r.Site)
		}
	}
	sites := slices.DeleteFunc(slices.Clone(all), func(s client.Site) bool { return !wanted.fits(s) })
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

// wantedSites are what sites are chosen by.
type wantedSites struct {
	group, state, engine string
	failed               bool
	failing              []string // by their newest reports
}

func (w wantedSites) fits(s client.Site) bool {
	on := []string{s.Stack.PHP.Engine, s.Stack.Web.Engine, s.Stack.Database.Engine}
	return (w.group == "" || strings.EqualFold(s.Group, w.group)) && (w.state == "" || string(s.State) == w.state) &&
		(w.engine == "" || slices.ContainsFunc(on, func(id string) bool { return id == w.engine || strings.HasPrefix(id, w.engine+"-") })) &&
		(!w.failed || s.State == site.Failed || s.State == site.Running && slices.Contains(w.failing, s.Name))
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
		{"search engines", said(s.SearchEngines, "may list it")}, {"offline", said(s.Offline, "what it asks of other machines is refused")},
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
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, row := range append(rows, more...) {
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
	example:  "vessik stop orchard-days seed-exchange\nvessik stop -all", run: runOn(plan.Stop)}

// runOn is a command that has something done with sites.
func runOn(kind plan.Kind) func(context.Context, *call) error {
	return func(ctx context.Context, c *call) error {
		all := c.flags.Bool("all", false, "all sites")
		service, err := c.connect(func() error {
			if *all == (len(c.names) > 0) {
				return usageError{"name sites, or give -all"}
			}
			return nil
		})
		if err != nil {
			return err
		}
		operation, err := service.Do(ctx, kind, wire.Names{Names: c.names, All: *all})
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
				if s.Notice != "" && slices.ContainsFunc(watched.Sites, func(part plan.OperationSite) bool { return part.Site == s.Name }) {
					fmt.Fprintf(c.out, "%s: %s\n", site.Shown(s.Name), s.Notice)
				}
			}
		}
		return outcome(watched)
	}
}

var verifyCommand = command{name: "verify", names: "[NAME…]", about: "prove that sites answer",
	synopsis: "Asks sites everything, from outside: all of them, or those that are named. Exits with 3 when a check fails.",
	example:  "vessik verify\nvessik verify orchard-days -junit > report.xml", run: func(ctx context.Context, c *call) error {
		junit := c.flags.Bool("junit", false, "print JUnit XML")
		service, err := c.connect(c.oneFormat("junit", junit))
		if err != nil {
			return err
		}
		operation, err := service.Do(ctx, plan.Verify, wire.Names{Names: c.names, All: len(c.names) == 0})
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

var retireCommand = command{name: "retire", names: "NAME…", about: "remove sites and all that belongs to them",
	synopsis: "Removes sites: folder, database, user, virtual host, logs. Asks first, unless -yes is given.",
	example:  "vessik retire moss-archive -keep-files", run: func(ctx context.Context, c *call) error {
		yes := c.flags.Bool("yes", false, "do not ask")
		keep := c.flags.Bool("keep-files", false, "keep the folder, and the database as a dump")
		service, err := c.connect()
		if err != nil {
			return err
		}
		if !*yes {
			if !term.IsTerminal(int(os.Stdin.Fd())) {
				return usageError{"nobody is there to be asked; give -yes"}
			}
			for _, name := range c.names {
				s, err := service.Site(ctx, name, false)
				if err != nil {
					return err
				}
				fmt.Fprintf(os.Stderr, "%s: removes the folder %s and the database %s\n", site.Shown(name), s.Folder, s.Database.Name)
				if *keep {
					fmt.Fprintf(os.Stderr, "  but keeps the folder, and the database as a dump\n")
				}
			}
			fmt.Fprint(os.Stderr, "Go on? Write yes: ")
			answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
			if strings.TrimSpace(answer) != "yes" {
				fmt.Fprintln(os.Stderr, "nothing was changed")
				return exitCode(exitFailed)
			}
		}
		operation, err := service.Do(ctx, plan.Retire, wire.Names{Names: c.names, KeepFiles: *keep})
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
