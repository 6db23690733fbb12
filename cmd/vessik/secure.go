package main

import (
	"bufio"
	"cmp"
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"text/tabwriter"

	"golang.org/x/net/publicsuffix"
	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/core/site"
	"vessik/internal/trust"
)

var httpsCommand = command{name: "https", names: "NAME [on|off]", about: "have a site answer over https, or over http",
	synopsis: "Tells whether a site answers over https, or switches it on or off: the addresses in its database and configuration follow, " +
		"requests over the other scheme\nlead there, and whoever is signed in stays so. The site is verified before and after, and goes back " +
		"when a check fails that passed before.",
	example: "vessik https orchard-days on\nvessik https orchard-days off -dry-run", run: runHTTPS}

func runHTTPS(ctx context.Context, c *call) error {
	var r client.Rename
	c.flags.BoolVar(&r.Stay, "stay", false, "stay with the change although a check fails")
	dry := c.flags.Bool("dry-run", false, "say what would be changed in the database, and change nothing")
	service, err := c.connect(func() error {
		if len(c.names) == 0 || len(c.names) > 2 || len(c.names) == 2 && c.names[1] != site.On && c.names[1] != site.Off {
			return usageError{"name the site, and on or off: https NAME on"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(c.names) == 1 {
		s, err := service.Site(ctx, c.names[0], false)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(map[string]any{"https": s.HTTPS, "url": s.URL})
		}
		fmt.Fprintf(c.out, "%s  %s\n", map[bool]string{true: site.On, false: site.Off}[s.HTTPS], s.URL)
		return nil
	}
	r.HTTPS = c.names[1]
	if *dry {
		tally, err := service.PreviewRename(ctx, c.names[0], r)
		return c.showTally(tally, err)
	}
	operation, err := service.Rename(ctx, c.names[0], r)
	err = c.showChange(ctx, service, operation, err)
	if r.HTTPS == site.On && !*c.json {
		c.hintAtAuthority(ctx, service)
	}
	return err
}

// hintAtAuthority tells whoever's browsers would warn what helps.
func (c *call) hintAtAuthority(ctx context.Context, service *client.Client) {
	a, err := service.Authority(ctx)
	if err != nil {
		return
	}
	root, err := rootOf(a)
	if err != nil {
		return
	}
	for _, each := range placesOf(ctx, root, true) {
		if each.Believed != "yes" {
			fmt.Fprintf(c.out, "%s does not believe the certificate yet: vessik authority add\n", each.Place)
		}
	}
}

var authorityCommand = command{name: "authority", names: "[add|drop]", about: "have browsers believe the certificates of the sites",
	synopsis: "Shows the home's own certificate authority, and where it is believed: in the machine's store, and by the browsers of " +
		"whoever runs this. add has it believed,\nafter showing where; drop takes that back everywhere. It can sign for the endings that " +
		"it names, and for nothing else.\nThe machine's store is root's to change; without it, the browsers are enough.",
	example: "vessik authority\nvessik authority add\nvessik authority -pem > authority.pem", run: runAuthority}

// believedAt is what a place says of the authority.
type believedAt struct {
	Place    string `json:"place"`
	Folder   string `json:"folder"`
	Believed string `json:"believed"` // yes, no, earlier, unknown
	Note     string `json:"note,omitempty"`

	place trust.Place
}

func runAuthority(ctx context.Context, c *call) error {
	text := c.flags.Bool("pem", false, "print the certificate, for programs that are told of it by hand")
	yes := c.flags.Bool("yes", false, "do not ask")
	browsers := c.flags.Bool("browsers", false, "leave the machine's store alone")
	trusted := c.flags.Bool("trust-home", false, "as root, take the authority from a home folder that is another account's")
	service, err := c.connect(func() error {
		if len(c.names) > 1 || len(c.names) == 1 && !slices.Contains([]string{"add", "drop"}, c.names[0]) {
			return usageError{"it is authority, authority add or authority drop"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	a, err := service.Authority(ctx)
	if err != nil {
		return err
	}
	if *text {
		fmt.Fprint(c.out, a.Certificate)
		return nil
	}
	root, err := rootOf(a)
	if err != nil {
		return err
	}
	places := placesOf(ctx, root, *browsers)
	if len(c.names) == 1 {
		if err := c.believe(ctx, c.names[0], root, places, *yes, *trusted); err != nil {
			return err
		}
		places = placesOf(ctx, root, *browsers)
	}
	if *c.json {
		return c.printJSON(map[string]any{"authority": a, "places": places})
	}
	printFacts(c.out, [][2]string{{"authority", a.Name}, {"SHA-256", a.SHA256}, {"signs for", strings.Join(a.Endings, ", ")},
		{"until", a.NotAfter.Local().Format("2006-01-02")}})
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "\n"+bold(c.out, "BELIEVED")+"\tBY\t")
	fmt.Fprintln(table, "yes\tPHP and commands of the sites\t")
	for _, each := range places {
		fmt.Fprintf(table, "%s\t%s, %s\t%s\n", each.Believed, each.Place, each.Folder, each.Note)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	if len(c.names) == 0 && slices.ContainsFunc(places, func(p believedAt) bool { return p.Believed != "yes" }) {
		fmt.Fprintln(c.out, "\nHave it believed with: vessik authority add")
	}
	return nil
}

// rootOf reads an authority's certificate, and judges it: whatever a service says, nothing is believed that could sign for more than it
// should.
func rootOf(a client.Authority) (*x509.Certificate, error) {
	block, _ := pem.Decode([]byte(a.Certificate))
	if block == nil {
		return nil, errors.New("the service shows no certificate")
	}
	root, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the service's certificate: %w", err)
	}
	if !root.IsCA || !root.PermittedDNSDomainsCritical || len(root.PermittedDNSDomains) == 0 || len(root.PermittedIPRanges) == 0 {
		return nil, errors.New("the service's certificate is not bound to endings; nothing was done with it")
	}
	for _, ending := range root.PermittedDNSDomains {
		if public, known := publicsuffix.PublicSuffix(ending); known && public == ending || strings.HasPrefix(ending, ".") {
			return nil, fmt.Errorf("the service's certificate is good for all of %s; nothing was done with it", ending)
		}
	}
	for _, network := range root.PermittedIPRanges {
		if !network.IP.IsLoopback() {
			return nil, fmt.Errorf("the service's certificate is good for %s; nothing was done with it", network)
		}
	}
	return root, nil
}

// placesOf are the machine's store and the browsers of whoever runs this; with sudo, only the store.
func placesOf(ctx context.Context, root *x509.Certificate, browsers bool) []believedAt {
	stores := []trust.Place{}
	if !browsers {
		stores = append(stores, trust.Machine())
	}
	if home, err := os.UserHomeDir(); err == nil && os.Getenv("SUDO_UID") == "" {
		stores = append(stores, trust.Browsers(home)...)
	}
	places := []believedAt{}
	for _, each := range stores {
		now, earlier, err := each.Believes(ctx, root)
		seen := believedAt{Place: each.Title, Folder: each.Folder, place: each, Believed: "no"}
		switch {
		case err != nil:
			seen.Believed, seen.Note = "unknown", err.Error()
		case now:
			seen.Believed = "yes"
		case earlier:
			seen.Believed, seen.Note = "earlier", "it believes an earlier certificate, which is good for fewer endings or ends sooner"
		case each.Missing:
			seen.Note = "it has not been started yet; its store is made"
		}
		places = append(places, seen)
	}
	return places
}

// believe adds the authority everywhere where this account may, or drops it.
func (c *call) believe(ctx context.Context, verb string, root *x509.Certificate, places []believedAt, yes, trusted bool) error {
	wanted := slices.DeleteFunc(slices.Clone(places), func(p believedAt) bool {
		return (p.Believed == "yes") == (verb == "add") && p.Believed != "earlier" && p.Believed != "unknown"
	})
	possible := slices.DeleteFunc(slices.Clone(wanted), func(p believedAt) bool { return p.place.Fault() != "" })
	if len(wanted) == 0 {
		return nil
	}
	if err := c.judgeHome(trusted); err != nil && verb == "add" {
		return err
	}
	if !yes {
		if err := somebody(); err != nil {
			return err
		}
	}
	for _, each := range wanted {
		words := map[string]string{"add": "will believe it", "drop": "will believe it no longer"}[verb]
		if fault := each.place.Fault(); fault != "" {
			words = "stays as it is: " + fault
		}
		fmt.Fprintf(os.Stderr, "%s, %s: %s\n", each.Place, each.Folder, words)
	}
	if len(possible) == 0 {
		return errors.New("none of these can be changed from here")
	}
	if !yes {
		if err := goOn(); err != nil {
			return err
		}
	}
	var faults []error
	for _, each := range possible {
		do := each.place.Add
		if verb == "drop" {
			do = each.place.Drop
		}
		faults = append(faults, do(ctx, root))
	}
	return errors.Join(faults...)
}

// judgeHome keeps root from believing what another account says, unless that one is who became root.
func (c *call) judgeHome(trusted bool) error {
	home, err := c.homeFolder()
	if err != nil {
		return err
	}
	info, err := os.Stat(home.Dir)
	if err != nil {
		return err
	}
	owner := info.Sys().(*syscall.Stat_t).Uid
	if os.Geteuid() != 0 || owner == 0 || trusted || strconv.Itoa(int(owner)) == cmp.Or(os.Getenv("SUDO_UID"), "0") {
		return nil
	}
	return fmt.Errorf("%s belongs to the account %d, whose authority root would believe; look at it with: vessik authority, then say "+
		"-trust-home", home.Dir, owner)
}

// somebody tells whether there is somebody to be asked.
func somebody() error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return usageError{"nobody is there to be asked; give -yes"}
	}
	return nil
}

// goOn asks whether to.
func goOn() error {
	fmt.Fprint(os.Stderr, "Go on? Write yes: ")
	answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if strings.TrimSpace(answer) != "yes" {
		fmt.Fprintln(os.Stderr, "nothing was changed")
		return exitCode(exitFailed)
	}
	return nil
}
