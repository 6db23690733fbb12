package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/hosting"
)

var hostingCommand = command{name: "hosting", names: "[add NAME | sign-in PAGE | check NAME | pictures NAME | unpin NAME | drop NAME]",
	about: "keep hosting accounts that sites are pulled from",
	synopsis: "Lists the hosting accounts. add NAME adds one: where its folder is (-at), at which address that is served (-url), and how " +
		"it is signed " +
		"in to;\npassword and key are sealed in the records. A password is asked for, or taken from VESSIK_HOST_PASSWORD. check NAME looks " +
		"at the " +
		"host step by step, from the\nfirst connection to the site's database, and exits with 3 where something is amiss. unpin NAME takes " +
		"the key that " +
		"the host shows next for its own, drop NAME forgets\nan account; the site at the host stays. pictures NAME compares pictures of the " +
		"live site and " +
		"of the site here (-o FOLDER keeps them). sign-in PAGE signs in\nat the account page of a host that has one, with a code: the host " +
		"tells your environments, of which those that -environment names become accounts, and\nlends their passwords for a time.",
	example: "vessik hosting add orchard-live -at sftp://ines@host.example/www -url https://orchard.example\nvessik hosting add " +
		"orchard-staging " +
		"-at sftp://ines@host.example/staging -url https://staging.orchard.example -like orchard-live -of orchard-live\n" +
		"vessik hosting check orchard-live\nvessik hosting sign-in https://host.example -environment all", run: runHosting}

func runHosting(ctx context.Context, c *call) error {
	var asked client.AddAccount
	c.flags.StringVar(&asked.At, "at", "", "its folder: sftp://user@host:port/folder, or ftps:// (or ftp://, which anybody on the way "+
		"can read)")
	c.flags.StringVar(&asked.URL, "url", "", "address at which that folder is served, such as https://orchard.example")
	c.flags.StringVar(&asked.Of, "of", "", "account that it belongs to, as staging to a live one")
	c.flags.StringVar(&asked.Like, "like", "", "account that is signed in to in the same way")
	key := c.flags.String("key", "", "file of the private key that signs in (a password opens it)")
	agent := c.flags.Bool("agent", false, "the SSH agent of this terminal signs in")
	var environments list
	c.flags.Var(&environments, "environment", "environment that the host's page tells, or all; may be given more than once")
	folder := c.flags.String("o", "", "folder that the pictures are written to")
	again := c.flags.String("again", "", "account that a sign-in at its host's page is for, instead of adding one")
	password := c.flags.Bool("password", false, "ask for a password besides a key")
	service, err := c.connect(func() error {
		if len(c.names) != 0 && (len(c.names) != 2 || !slices.Contains([]string{"add", "sign-in", "check", "pictures", "unpin", "drop"},
			c.names[0])) {
			return usageError{"it is: hosting, hosting add NAME, hosting sign-in PAGE, hosting check NAME, hosting pictures NAME, hosting " +
				"unpin NAME or hosting drop NAME"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(c.names) == 0 {
		return c.showAccounts(service.Accounts(ctx))
	}
	switch name := c.names[1]; c.names[0] {
	case "sign-in":
		return c.signInAtHost(ctx, service, name, *again, environments)
	case "pictures":
		return c.comparePictures(ctx, service, name, *folder)
	case "check":
		return c.showHostChecks(service.CheckAccount(ctx, name))
	case "unpin":
		return service.UnpinAccount(ctx, name)
	case "drop":
		return service.DropAccount(ctx, name)
	}
	asked.Name = c.names[1]
	if _, err := hosting.ParsePlace(asked.At); err != nil { // before anybody is asked for a password
		return usageError{"-at: " + err.Error()}
	}
	if err := credentials(&asked, *key, *agent, *password); err != nil {
		return err
	}
	added, err := service.AddAccount(ctx, asked)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(added)
	}
	fmt.Fprintf(c.out, "%s is added. Look at it with: vessik hosting check %s\n", added.Name, added.Name)
	return nil
}

// credentials reads how an account is signed in to.
func credentials(asked *client.AddAccount, key string, agent, password bool) (err error) {
	if key != "" {
		text, err := os.ReadFile(key)
		if err != nil {
			return err
		}
		asked.Key = string(text)
	}
	if agent {
		if asked.Agent = os.Getenv("SSH_AUTH_SOCK"); asked.Agent == "" {
			return usageError{"-agent: no SSH agent is known here; SSH_AUTH_SOCK does not name one"}
		}
		if asked.Agent, err = filepath.Abs(asked.Agent); err != nil {
			return err
		}
	}
	if password || key == "" && !agent && asked.Like == "" {
		asked.Password, err = passwordOf("VESSIK_HOST_PASSWORD")
	}
	return err
}

func (c *call) showAccounts(all []client.Account, err error) error {
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(c.out, "There is no hosting account. Add one with: vessik hosting add NAME -at sftp://user@host/folder -url https://…")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "NAME\tOF\tURL\tAT\tSIGN-IN\tFETCHED")
	for _, a := range all {
		fetched := "never"
		if a.Pulled != nil {
			fetched = a.Pulled.At.Local().Format("2006-01-02 15:04")
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\n", a.Name, a.Of, a.URL, a.At, a.SignIn, fetched)
		if a.Leftover != "" {
			fmt.Fprintf(table, "\t\t→ %s may still be there; it is removed as soon as the host answers\t\t\t\n", a.Leftover)
		}
	}
	return table.Flush()
}

func (c *call) showHostChecks(found client.HostChecks, err error) error {
	if err != nil {
		return err
	}
	if *c.json {
		err = c.printJSON(found)
	} else {
		table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
		for _, check := range found.Checks {
			fmt.Fprintf(table, "%s\t%s\t%s\n", map[bool]string{true: "pass", false: "fail"}[check.Passed], check.Title, check.Observed)
			if check.Remedy != "" {
				fmt.Fprintf(table, "\t\t→ %s\n", check.Remedy)
			}
		}
		err = table.Flush()
	}
	if err == nil && !found.Passed {
		err = exitCode(exitCheckFailed)
	}
	return err
}
