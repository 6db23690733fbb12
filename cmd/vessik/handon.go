package main

import (
	"context"
	"fmt"
	"os"

	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/core/site"
)

var mailServerCommand = command{name: "mail-server", names: "[ADDRESS]", about: "set the mail server that hands messages on",
	synopsis: "Sites never use it: it sends one message at a time, when vessik mail -hand-on asks for it. Without an address it shows which " +
		"one is set.\nThe password is asked for, or taken from VESSIK_MAIL_PASSWORD; it is kept sealed, and told to nobody again. The " +
		"server is asked before it is kept.",
	example: "vessik mail-server smtps://mail.example.org -user ada -from ada@example.org\nvessik mail-server -drop", run: runMailServer}

func runMailServer(ctx context.Context, c *call) error {
	user := c.flags.String("user", "", "whom the server lets in; nobody where empty")
	from := c.flags.String("from", "", "the address that it sends for")
	drop := c.flags.Bool("drop", false, "forget it")
	service, err := c.connect(func() error {
		switch {
		case len(c.names) > 1:
			return usageError{"name one address, as smtps://mail.example.org"}
		case len(c.names) == 1 && *drop, len(c.names) == 0 && *user+*from != "":
			return usageError{"an address goes with -user and -from, and -drop with none"}
		case len(c.names) == 1 && *from == "":
			return usageError{"say with -from which address the server sends for"}
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case *drop:
		return service.DropMailServer(ctx)
	case len(c.names) == 0:
		set, err := service.MailServer(ctx)
		if err != nil {
			return err
		}
		return c.showServer(set)
	}
	password := ""
	if *user != "" {
		if password, err = passwordOf("VESSIK_MAIL_PASSWORD"); err != nil {
			return err
		}
	}
	return service.SetMailServer(ctx, client.MailServer{Server: c.names[0], User: *user, From: *from}, password)
}

// passwordOf is what the environment says, or whoever sits there.
func passwordOf(variable string) (string, error) {
	if set, ok := os.LookupEnv(variable); ok {
		return set, nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", usageError{"nobody is there to be asked for the password; set " + variable}
	}
	fmt.Fprint(os.Stderr, "Password: ")
	typed, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	return string(typed), err
}

func (c *call) showServer(s client.MailServer) error {
	if *c.json {
		return c.printJSON(s)
	}
	return printFacts(c.out, [][2]string{{"server", s.Server}, {"user", s.User}, {"sends for", s.From}})
}

func (c *call) showAccess(ctx context.Context, service *client.Client, name string) error {
	access, err := service.MailAccess(ctx, name)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(access)
	}
	return printFacts(c.out, [][2]string{{"server", access.Host}, {"port", fmt.Sprint(access.Port)}, {"protocol", "IMAP, without TLS"},
		{"user", access.User}, {"password", access.Password}})
}

// handOn shows what would be sent, asks, and sends it.
func (c *call) handOn(ctx context.Context, service *client.Client, id int64, to string, yes bool) error {
	told, err := service.HandOn(ctx, id, to, true)
	if err != nil {
		return err
	}
	if !yes {
		if err := somebody(); err != nil {
			return err
		}
		facts := [][2]string{{"message", fmt.Sprintf("%d of %s, %d bytes", told.ID, site.Shown(told.Site), told.Bytes)},
			{"subject", told.Subject}, {"to", told.To}, {"from", told.From}, {"by", told.Server}}
		if err := printFacts(os.Stderr, facts); err != nil {
			return err
		}
		if err := goOn(); err != nil {
			return err
		}
	}
	if told, err = service.HandOn(ctx, id, to, false); err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(told)
	}
	fmt.Fprintf(c.out, "handed on to %s\n", told.To)
	return nil
}
