package main

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"vessik/client"
	"vessik/internal/core/site"
)

var mailCommand = command{name: "mail", names: "[NAME]", about: "show the mail that sites sent: it goes to nobody",
	synopsis: "Lists the mail that sites sent by mail(), by a command or by SMTP to any mail server: all of it is caught, and nothing is " +
		"delivered. -id shows one message,\n-source as it was sent, -html its HTML, -attachment one of its attachments. -f goes on with " +
		"what arrives. -drop removes one message (with -id) or all of a site.\n-imap tells how a mail program opens a site's mailbox. " +
		"-hand-on sends one message on to a real address, by the server that mail-server\nnames: what is sent is shown first.",
	example: "vessik mail orchard-days\nvessik mail -id 12\nvessik mail -id 12 -attachment 1 > menu.pdf\nvessik mail -f\n" +
		"vessik mail orchard-days -imap\nvessik mail -id 12 -hand-on ada@example.org", run: runMail}

// followWait is for how long one request waits for mail.
const followWait = 50 * time.Second

func runMail(ctx context.Context, c *call) error {
	id := c.flags.Int64("id", 0, "the message")
	source := c.flags.Bool("source", false, "with -id: as it was sent")
	page := c.flags.Bool("html", false, "with -id: its HTML")
	number := c.flags.Int("attachment", 0, "with -id: its attachment of that number, from 1")
	search := c.flags.String("search", "", "only mail with this text in its sender, recipients or subject")
	follow := c.flags.Bool("f", false, "follow: go on with mail that arrives")
	drop := c.flags.Bool("drop", false, "remove the message, or all of the site")
	access := c.flags.Bool("imap", false, "how a mail program opens the site's mailbox")
	to := c.flags.String("hand-on", "", "with -id: send the message on to this address")
	yes := c.flags.Bool("yes", false, "with -hand-on: do not ask")
	service, err := c.connect(func() error {
		switch {
		case *access && len(c.names) == 0:
			return usageError{"say whose mailbox: vessik mail NAME -imap"}
		case len(c.names) > 1:
			return usageError{"name one site at most"}
		case *id == 0 && (*source || *page || *number != 0 || *to != ""):
			return usageError{"say which message: -id NUMBER"}
		case *drop && *id == 0 && len(c.names) == 0:
			return usageError{"say what to drop: -id NUMBER for one message, or a site for all of its"}
		case *number < 0:
			return usageError{"attachments are counted from 1"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	name := ""
	if len(c.names) == 1 {
		name = c.names[0]
	}
	switch {
	case *access:
		return c.showAccess(ctx, service, name)
	case *to != "":
		return c.handOn(ctx, service, *id, *to, *yes)
	case *drop && *id != 0:
		return service.DropMail(ctx, *id)
	case *drop:
		count, err := service.DropMails(ctx, name)
		if err == nil && *c.json {
			return c.printJSON(map[string]int{"count": count})
		}
		if err == nil {
			fmt.Fprintf(c.out, "%d dropped\n", count)
		}
		return err
	case *id != 0 && (*source || *number != 0):
		return service.MailSource(ctx, *id, *number, c.out)
	case *id != 0:
		return c.showMail(ctx, service, *id, *page)
	}
	asked := client.MailAsked{Site: name, Search: *search}
	mails, err := service.Mails(ctx, asked)
	if err != nil {
		return err
	}
	if *follow {
		return c.followMail(ctx, service, asked, mails)
	}
	if *c.json {
		return c.printJSON(mails)
	}
	return c.listMail(mails)
}

func (c *call) listMail(mails []client.Mail) error {
	if len(mails) == 0 {
		fmt.Fprintln(c.out, "No mail was caught.")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "ID")+"\tAT\tSITE\tFROM\tTO\tSUBJECT")
	for _, m := range mails {
		fmt.Fprintf(table, "%d\t%s\t%s\t%s\t%s\t%s\n", m.ID, m.At.Local().Format("2006-01-02 15:04:05"), site.Shown(m.Site), short(m.From, 32),
			short(strings.Join(m.To, ", "), 32), short(m.Subject, 60))
	}
	return table.Flush()
}

// short is the beginning of a text, in one line.
func short(text string, most int) string {
	if runes := []rune(strings.Join(strings.Fields(text), " ")); len(runes) > most {
		return string(runes[:most-1]) + "…"
	} else {
		return string(runes)
	}
}

// followMail shows what is there, and then what arrives, a line each.
func (c *call) followMail(ctx context.Context, service *client.Client, asked client.MailAsked, mails []client.Mail) error {
	asked.Wait = followWait
	for {
		for _, m := range slices.Backward(mails) {
			asked.After = max(asked.After, m.ID)
			if *c.json {
				text, err := json.Marshal(m)
				if err != nil {
					return err
				}
				fmt.Fprintf(c.out, "%s\n", text)
				continue
			}
			fmt.Fprintf(c.out, "%d  %s  %s  %s → %s  %s\n", m.ID, m.At.Local().Format("15:04:05"), site.Shown(m.Site), short(m.From, 40),
				short(strings.Join(m.To, ", "), 40), short(m.Subject, 80))
		}
		var err error
		if mails, err = service.Mails(ctx, asked); err != nil {
			return err
		}
	}
}

func (c *call) showMail(ctx context.Context, service *client.Client, id int64, page bool) error {
	m, err := service.Mail(ctx, id)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(m)
	}
	if page {
		fmt.Fprintln(c.out, m.Message.HTML)
		return nil
	}
	rows := [][2]string{{"site", site.Shown(m.Site)}, {"caught", m.At.Local().Format("2006-01-02 15:04:05") + ", by " + m.Way},
		{"from", m.From}, {"to", strings.Join(m.To, ", ")}, {"subject", m.Subject}}
	for i, each := range m.Message.Attachments {
		rows = append(rows, [2]string{fmt.Sprintf("attachment %d", i+1), fmt.Sprintf("%s, %s, %d bytes", each.Name, each.Type, each.Bytes)})
	}
	for _, each := range m.Message.Remarks {
		rows = append(rows, [2]string{"remark", each})
	}
	if err := printFacts(c.out, rows); err != nil {
		return err
	}
	text := strings.TrimSpace(m.Message.Text)
	if text == "" && m.Message.HTML != "" {
		text = "It is HTML alone; see it with -html, or in the console."
	}
	fmt.Fprintf(c.out, "\n%s\n", text)
	return nil
}
