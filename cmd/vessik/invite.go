package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/boombuler/barcode/qr"

	"vessik/client"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
)

var inviteCommand = command{name: "invite", names: "NAME", about: "lend a running site an address that guests open",
	synopsis: "Lends a site an address for guests, prints it with its password and as a QR code, and ends it by itself: after 3 hours, or " +
		"-for.\nThe address comes from a relay (vessik relays join), or, with -lan, from this machine in the local network. Pages work at " +
		"it as at the site's own;\nnothing of the site changes. It ends with the site and with the service.\n-only, -read-only and " +
		"-no-sign-in keep cookies and passwords from the site: nobody can sign in, and there is no shopping basket.",
	example: "vessik invite orchard-days -for 2h -note 'for Ines'\nvessik invite orchard-days -read-only -open\n" +
		"vessik invite orchard-days -lan eth0", run: runInvite}

var invitesCommand = command{name: "invites", names: "[NAME]", about: "list and end invitations, and see what guests asked",
	synopsis: "Lists the invitations that stand, of one site where it is named. -show prints one again, with its password. -end ends one, " +
		"-asked lists what guests asked of a site.",
	example: "vessik invites\nvessik invites -show k3v9x2mq\nvessik invites -end k3v9x2mq\nvessik invites orchard-days -asked",
	run:     runInvites}

func runInvite(ctx context.Context, c *call) error {
	var asked client.Invite
	lasts := c.flags.Duration("for", 3*time.Hour, "how long, such as 45m or 48h")
	c.termsFlags(&asked.Terms)
	c.flags.StringVar(&asked.Note, "note", "", "what you want to remember of it")
	c.flags.StringVar(&asked.Relay, "relay", "", "the relay's host, where there are several")
	c.flags.StringVar(&asked.Label, "label", "", "first label of the address (default: one that cannot be guessed)")
	c.flags.StringVar(&asked.LAN, "lan", "", "address or interface of this machine: in the local network, without a relay")
	plain := c.flags.Bool("no-code", false, "print no QR code")
	c.common = []string{"for", "password", "read-only", "note"}
	service, err := c.connect(func() error {
		if *lasts < time.Minute || *lasts > 30*24*time.Hour {
			return usageError{"-for is from 1m to 720h"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	asked.Seconds = int(lasts.Seconds())
	made, err := service.Invite(ctx, c.names[0], asked)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(made)
	}
	return c.tellInvitation(made, !*plain)
}

// termsFlags are those that say what guests may.
func (c *call) termsFlags(t *client.Terms) {
	c.flags.StringVar(&t.Password, "password", "", "what guests say (default: one is made up)")
	c.flags.BoolVar(&t.Open, "open", false, "ask for no password")
	c.flags.StringVar(&t.Only, "only", "", "let this path be seen alone, such as /shop/")
	c.flags.BoolVar(&t.ReadOnly, "read-only", false, "refuse whatever changes something")
	c.flags.BoolVar(&t.NoSignIn, "no-sign-in", false, "let nobody sign in")
	c.flags.BoolVar(&t.Remarks, "remarks", false, "let guests leave remarks on pages")
}

func (c *call) tellInvitation(i client.Invitation, code bool) error {
	fmt.Fprintf(c.out, "Address   %s\n", bold(c.out, i.Address))
	for _, domain := range slices.Sorted(maps.Keys(i.Others)) {
		fmt.Fprintf(c.out, "          %s for %s\n", i.Others[domain], domain)
	}
	if i.Password != "" {
		fmt.Fprintf(c.out, "Password  %s\n", bold(c.out, i.Password))
	}
	if i.Fingerprint != "" {
		fmt.Fprintf(c.out, "The browser will warn once, since nobody vouches for this machine. Its certificate's SHA-256:\n  %s\n", i.Fingerprint)
	}
	fmt.Fprintf(c.out, "Open until %s. End it with: vessik invites -end %s\n", i.Until.Local().Format("2006-01-02 15:04"), i.ID)
	if !i.Reached {
		fmt.Fprintln(c.out, "The line to the relay does not stand now; see why with: vessik relays")
	}
	if !code {
		return nil
	}
	return drawCode(c.out, i.Address)
}

// drawCode draws a QR code by half blocks, dark on light whatever colours the terminal has.
func drawCode(out io.Writer, text string) error {
	code, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return err
	}
	const margin = 2
	side := code.Bounds().Dx()
	dark := func(x, y int) bool {
		if x < 0 || y < 0 || x >= side || y >= side {
			return false
		}
		r, _, _, _ := code.At(x, y).RGBA()
		return r == 0
	}
	for y := -margin; y < side+margin; y += 2 {
		line := ""
		for x := -margin; x < side+margin; x++ {
			switch upper, lower := dark(x, y), dark(x, y+1); {
			case upper && lower:
				line += " "
			case upper:
				line += "▄"
			case lower:
				line += "▀"
			default:
				line += "█"
			}
		}
		fmt.Fprintln(out, onBlack(out, line))
	}
	return nil
}

func runInvites(ctx context.Context, c *call) error {
	end := c.flags.String("end", "", "end this one, by its id")
	show := c.flags.String("show", "", "print this one again, with its password and code")
	asked := c.flags.Bool("asked", false, "list what guests asked of the site that is named")
	most := c.flags.Int("most", 50, "how many requests -asked lists")
	service, err := c.connect(func() error {
		switch {
		case *asked && len(c.names) == 0:
			return usageError{"-asked is of a site: name it"}
		case *most < 1 || *most > 10000:
			return usageError{"-most is from 1 to 10000"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	switch {
	case *end != "":
		return service.EndInvitation(ctx, *end)
	case *show != "":
		one, err := service.Invitation(ctx, *show)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(one)
		}
		return c.tellInvitation(one, true)
	case *asked:
		return c.listGuested(ctx, service, *most)
	}
	name := ""
	if len(c.names) > 0 {
		name = c.names[0]
	}
	all, err := service.Invitations(ctx, name)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(c.out, "Nobody is invited now. Invite with: vessik invite NAME")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "ID")+"\tSITE\tADDRESS\tFOR\tGUESTS\tREQUESTS\tREFUSED\tMAY\tNOTE")
	for _, i := range all {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%d\t%d\t%d\t%s\t%s\n", i.ID, site.Shown(i.Site), i.Address,
			strings.TrimSuffix(max(time.Until(i.Until), time.Minute).Round(time.Minute).String(), "0s"), i.Guests, i.Requests, i.Refused, may(i),
			cmp.Or(i.Note, "-"))
	}
	return table.Flush()
}

// may is what guests may do by an invitation.
func may(i client.Invitation) string {
	words := "all"
	switch {
	case i.Only != "":
		words = "see " + i.Only
	case i.ReadOnly:
		words = "look"
	case i.NoSignIn:
		words = "all but sign in"
	}
	if !i.Asks {
		words += ", without a password"
	}
	if i.Remarks {
		words += ", remark"
	}
	return words
}

func (c *call) listGuested(ctx context.Context, service *client.Client, most int) error {
	all, err := service.Guested(ctx, c.names[0], most)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(c.out, "No guest asked anything.")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "AT")+"\tGUEST\tASKED\tSTATUS\tREFUSED")
	for _, g := range all {
		fmt.Fprintf(table, "%s\t%s\t%s %s\t%d\t%s\n", g.At.Local().Format("01-02 15:04:05"), g.Guest, g.Method, short(g.Address, 70), g.Status,
			cmp.Or(g.Refused, "-"))
	}
	fmt.Fprintf(table, "%s\n", rewrite.Many(len(all), "request", "requests"))
	return table.Flush()
}
