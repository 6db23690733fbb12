package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/site"
	"vessik/internal/names"
)

var renameCommand = command{name: "rename", names: "NAME [NEW]", about: "give a site another name or domain",
	synopsis: "Gives a site another name, another domain, or both. Its content is re-addressed everywhere, its folder and what belongs to " +
		"it follow the name, and the\nold domain leads to the new one for 30 days. The site is verified before and after, and goes back when " +
		"a check fails that passed before.",
	example: "vessik rename orchard-days apple-days\nvessik rename orchard-days -domain orchard.test\nvessik rename orchard-days " +
		"apple-days -dry-run", run: runRename}

func runRename(ctx context.Context, c *call) error {
	var r client.Rename
	c.flags.StringVar(&r.Domain, "domain", "", "its new domain (default: follows the name)")
	c.flags.BoolVar(&r.ForceDomain, "force-domain", false, "also an ending that is public")
	c.flags.BoolVar(&r.Stay, "stay", false, "stay with the change although a check fails")
	dry := c.flags.Bool("dry-run", false, "say what would be changed in the database, and change nothing")
	service, err := c.connect(func() error {
		if len(c.names) == 0 || len(c.names) > 2 {
			return usageError{"name the site, and its new name: rename NAME NEW"}
		}
		if len(c.names) == 1 && r.Domain == "" {
			return usageError{"give a new name, or a new domain with -domain"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(c.names) == 2 {
		r.Name = c.names[1]
	}
	if *dry {
		tally, err := service.PreviewRename(ctx, c.names[0], r)
		return c.showTally(tally, err)
	}
	operation, err := service.Rename(ctx, c.names[0], r)
	return c.showChange(ctx, service, operation, err)
}

// showChange follows a change to its end.
func (c *call) showChange(ctx context.Context, service *client.Client, operation client.Operation, err error) error {
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if !*c.json {
		c.printChange(watched)
		if change := changeOf(watched); change.Rewritten != nil && !change.WentBack && (change.Back == "" || len(change.Rewritten.Tables) > 0) {
			printTally(c.out, *change.Rewritten)
		}
	}
	return outcome(watched)
}

func (c *call) showTally(tally client.Tally, err error) error {
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(tally)
	}
	printTally(c.out, tally)
	return nil
}

// printTally shows what the rewriter did, or would do: counts by table, and everything that it leaves alone.
func printTally(out io.Writer, tally client.Tally) {
	fmt.Fprintln(out, tally)
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	for _, name := range slices.Sorted(maps.Keys(tally.Tables)) {
		c := tally.Tables[name]
		fmt.Fprintf(table, "  %s\t%s\n", name, c)
	}
	table.Flush()
	if tally.LeftCount > 0 {
		fmt.Fprintln(out, "left alone")
	}
	for _, left := range tally.Left {
		fmt.Fprintf(table, "  %s\t%s\t%s\n", left.Table, left.Why, strings.Join(strings.Fields(left.Excerpt), " "))
	}
	table.Flush()
	if tally.LeftCount > len(tally.Left) {
		fmt.Fprintf(out, "  and %d more\n", tally.LeftCount-len(tally.Left))
	}
	if len(tally.LeftOut) > 0 {
		fmt.Fprintf(out, "left out, since it is no content: %s\n", strings.Join(tally.LeftOut, ", "))
	}
}

var loadCommand = command{name: "load", names: "NAME FILE", about: "put a dump in the place of a site's database",
	synopsis: "Loads an SQL file (plain, .gz or .zst) into a site, re-addressed to it, in the place of its database. A restore point is " +
		"taken first; the site is verified\nbefore and after, and goes back when a check fails that passed before.",
	example: "vessik load orchard-days ~/orchard.sql.gz\n" +
		"vessik load orchard-days ~/orchard.sql -address https://orchard-days.example -dry-run",
	run: runLoad}

func runLoad(ctx context.Context, c *call) error {
	var l client.LoadSQL
	c.flags.StringVar(&l.Address, "address", "", "base address in the dump (default: found where the CMS knows how)")
	c.flags.BoolVar(&l.Stay, "stay", false, "stay with it although a check fails")
	dry := c.flags.Bool("dry-run", false, "say what would be changed in the dump, and change nothing")
	service, err := c.connect(func() error {
		if len(c.names) != 2 {
			return usageError{"name the site and the file: load NAME FILE"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if l.SQL, err = filepath.Abs(c.names[1]); err != nil {
		return err
	}
	done, err := c.bring(ctx, service, &l.SQL)
	if err != nil {
		return err
	}
	defer done()
	if *dry {
		tally, err := service.PreviewLoad(ctx, c.names[0], l)
		return c.showTally(tally, err)
	}
	operation, err := service.LoadSQL(ctx, c.names[0], l)
	return c.showChange(ctx, service, operation, err)
}

var domainsCommand = command{name: "domains", names: "NAME", about: "show and change the domains of a site",
	synopsis: "Shows the domains that a site answers for, and those that it had before, which lead to it for 30 days; adds further ones " +
		"and drops them.",
	example: "vessik domains orchard-days -add apples.localhost\nvessik domains orchard-days -drop orchard-old.localhost", run: runDomains}

func runDomains(ctx context.Context, c *call) error {
	var add, drop list
	c.flags.Var(&add, "add", "further domain; may be given more than once")
	c.flags.Var(&drop, "drop", "further domain, or one that it had before, that is to lead to it no longer; may be given more than once")
	force := c.flags.Bool("force-domain", false, "also an ending that is public")
	service, err := c.connect()
	if err != nil {
		return err
	}
	s, err := service.Site(ctx, c.names[0], false)
	if err != nil {
		return err
	}
	before := slices.DeleteFunc(slices.Clone(drop), func(domain string) bool { return slices.Contains(s.Domains, domain) })
	if len(add)+len(drop) > 0 {
		kept := slices.DeleteFunc(append(slices.Clone(s.Domains), add...), func(domain string) bool { return slices.Contains(drop, domain) })
		if s, err = service.SetDomains(ctx, s.Name, client.Domains{Domains: append([]string{}, kept...), Drop: before,
			ForceDomain: *force}); err != nil {
			return err
		}
	}
	if *c.json {
		return c.printJSON(map[string]any{"domain": s.Domain, "domains": append([]string{}, s.Domains...), "forwards": s.Forwards})
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(table, "%s\tits own\t%s\n", s.Domain, s.DomainUnicode)
	for _, domain := range s.Domains {
		fmt.Fprintf(table, "%s\tfurther\t\n", domain)
	}
	for _, forward := range s.Forwards {
		fmt.Fprintf(table, "%s\tleads there until %s\t\n", forward.Domain, forward.Until.Local().Format("2006-01-02"))
	}
	return table.Flush()
}

var hostsCommand = command{name: "hosts", about: "have this machine find domains that do not end in .localhost",
	synopsis: "Shows which domains this machine has to be told of, and the marked block that belongs into its hosts file. -allow lets the " +
		"service keep that block as\nthe sites come and go; -write and -drop edit the file at once, as whoever runs this. Lines outside the " +
		"block are never touched.",
	example: "vessik hosts\nsudo vessik hosts -write", run: runHosts}

func runHosts(ctx context.Context, c *call) error {
	allow := c.flags.Bool("allow", false, "let the service keep the block, from now on")
	forbid := c.flags.Bool("forbid", false, "drop the block, and keep it no longer")
	write := c.flags.Bool("write", false, "write the block now")
	drop := c.flags.Bool("drop", false, "drop the block now")
	file := c.flags.String("file", names.HostsFile, "the hosts file that -write and -drop edit")
	trust := c.flags.Bool("trust-home", false, "as root, take the names of sites from a home folder that is another account's")
	service, err := c.connect(func() error {
		if given := map[bool]int{true: 1}; given[*allow]+given[*forbid]+given[*write]+given[*drop] > 1 {
			return usageError{"-allow, -forbid, -write and -drop exclude each other"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	page, err := service.Hosts(ctx)
	if err == nil && (*allow || *forbid) {
		page, err = service.AllowHosts(ctx, *allow)
	}
	if err != nil {
		return err
	}
	if *write || *drop {
		domains := page.Domains
		if *drop {
			domains = nil
		}
		if err := writeHosts(c, *file, domains, *trust); err != nil {
			return err
		}
		if page, err = service.Hosts(ctx); err != nil {
			return err
		}
	}
	if *c.json {
		return c.printJSON(page)
	}
	return printHosts(c.out, page)
}

// writeHosts edits a hosts file as whoever runs this: path and text are its own, of the service it takes names of hosts and nothing else.
func writeHosts(c *call, path string, domains []string, trust bool) error {
	home, err := c.homeFolder()
	if err != nil {
		return err
	}
	info, err := os.Stat(home.Dir)
	if err != nil {
		return err
	}
	if owner := info.Sys().(*syscall.Stat_t).Uid; os.Geteuid() == 0 && owner != 0 && !trust && len(domains) > 0 {
		return fmt.Errorf("%s belongs to the account %d, which would say what root writes into %s; look at the names with: vessik hosts, then "+
			"say -trust-home", home.Dir, owner, path)
	}
	for _, domain := range domains {
		if !site.IsHostName(domain) {
			return fmt.Errorf("the service names %q, which is no host name; nothing was written", domain)
		}
	}
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return fmt.Errorf("%w; run it as root, or copy the block by hand", err)
	}
	defer file.Close()
	block := names.Block(domains)
	fmt.Fprintf(os.Stderr, "writing into %s:\n%s", path, cmp.Or(block, "(the block is dropped)\n"))
	return names.Write(file, block)
}

func printHosts(out io.Writer, page client.Hosts) error {
	if len(page.Domains) == 0 {
		fmt.Fprintln(out, "All domains end in .localhost: every browser finds them.")
		return nil
	}
	for _, domain := range page.Domains {
		state := "leads to this machine"
		if slices.Contains(page.NotFound, domain) {
			state = "is not found yet"
		}
		fmt.Fprintf(out, "%s %s\n", domain, state)
	}
	switch {
	case page.Fault != "":
		fmt.Fprintf(out, "\n%s: %s\n", page.File, page.Fault)
	case page.Current:
		fmt.Fprintf(out, "\n%s holds this block", page.File)
	default:
		fmt.Fprintf(out, "\nThis block belongs into %s", page.File)
	}
	switch {
	case page.Allowed && page.Writable:
		fmt.Fprint(out, ", and the service keeps it so:\n")
	case page.Allowed:
		fmt.Fprint(out, ". The service is allowed to write it, but its account cannot: start it as root once, or run: sudo vessik hosts -write\n")
	default:
		fmt.Fprint(out, ". Let the service keep it (vessik hosts -allow), or write it now (sudo vessik hosts -write):\n")
	}
	fmt.Fprintf(out, "\n%s", page.Block)
	if page.Resolver != "" {
		fmt.Fprintf(out, "\nOr point your resolver there for the ending %s: the service answers questions for names (DNS) on %s.\n",
			strings.Join(page.Endings, ", "), page.Resolver)
	}
	return nil
}
