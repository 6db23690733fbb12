package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"golang.org/x/term"

	"vessik/client"
)

// signInAtHost has a customer let Vessik in at a host's page, and adds the environments that are chosen as accounts.
func (c *call) signInAtHost(ctx context.Context, service *client.Client, page, again string, chosen []string) error {
	said, err := service.SignInAtHost(ctx, page)
	if err != nil {
		return err
	}
	tell := io.Writer(c.out)
	if *c.json {
		tell = os.Stderr
	}
	fmt.Fprintf(tell, "Open %s and let Vessik in with the code %s; it is good until %s.\n", said.Address, said.Code,
		said.Until.Local().Format("15:04"))
	for said.State == "waiting" {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
		if said, err = service.HostSignInOf(ctx, said.ID); err != nil {
			return err
		}
	}
	if said.State != "done" {
		return errors.New(said.Why)
	}
	if again != "" {
		if err := service.SignInAccountAgain(ctx, again, said.ID); err != nil {
			return err
		}
		fmt.Fprintf(tell, "%s is signed in to again.\n", again)
		return nil
	}
	if *c.json {
		if err := c.printJSON(said); err != nil {
			return err
		}
	} else if err := c.showEnvironments(said); err != nil {
		return err
	}
	if len(chosen) == 0 {
		if chosen, err = askWhich(said); err != nil {
			return err
		}
	}
	return c.addEnvironments(ctx, service, said, chosen)
}

func (c *call) showEnvironments(said client.HostSignIn) error {
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "ENVIRONMENT\tKIND\tOF\tURL\tAT")
	for _, e := range said.Environments {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\n", e.Name, e.Kind, e.Of, e.URL, e.At)
	}
	return table.Flush()
}

// askWhich asks which environments are to be accounts; none where nobody is there.
func askWhich(said client.HostSignIn) ([]string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) || len(said.Environments) == 0 {
		return nil, nil
	}
	fmt.Fprint(os.Stderr, "Which of them are to be hosting accounts? Names with spaces between, or all: ")
	typed, err := bufio.NewReader(os.Stdin).ReadString('\n')
	return strings.Fields(typed), err
}

// addEnvironments adds environments as accounts, live ones first, to which the others belong.
func (c *call) addEnvironments(ctx context.Context, service *client.Client, said client.HostSignIn, chosen []string) error {
	known, err := service.Accounts(ctx)
	if err != nil {
		return err
	}
	isKnown := func(name string) bool {
		return slices.ContainsFunc(known, func(a client.Account) bool { return a.Name == name })
	}
	environments := slices.Clone(said.Environments)
	slices.SortStableFunc(environments, func(a, b client.HostEnvironment) int { return len(a.Of) - len(b.Of) })
	added := []string{}
	for _, e := range environments {
		if !slices.Contains(chosen, e.Name) && !slices.Contains(chosen, "all") {
			continue
		}
		asked := client.AddAccount{SignInID: said.ID, Environment: e.Name}
		if isKnown(e.Of) {
			asked.Of = e.Of
		}
		a, err := service.AddAccount(ctx, asked)
		if err != nil {
			return err
		}
		known, added = append(known, a), append(added, a.Name)
		if !*c.json {
			fmt.Fprintf(c.out, "%s is added. Look at it with: vessik hosting check %s\n", a.Name, a.Name)
		}
	}
	for _, name := range chosen {
		if name != "all" && !slices.Contains(added, name) {
			return usageError{fmt.Sprintf("-environment: the host's page tells no environment %q", name)}
		}
	}
	return nil
}

// comparePictures has pictures of a live site and of the site here be taken, tells in how much they differ, and writes them into a folder.
func (c *call) comparePictures(ctx context.Context, service *client.Client, account, folder string) error {
	taken, err := service.PicturesOfAccount(ctx, account)
	if err != nil {
		return err
	}
	if *c.json {
		err = c.printJSON(taken)
	} else {
		_, err = fmt.Fprintf(c.out, "pictures of the front pages of %s here and of %s differ in %.1f %% of their pixels\n", taken.Site, account,
			100*taken.Different)
	}
	if err != nil || folder == "" {
		return err
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for _, which := range []string{"here", "there"} {
		file, err := os.Create(filepath.Join(folder, account+"-"+which+".jpg"))
		if err != nil {
			return err
		}
		if err := errors.Join(service.AccountPicture(ctx, account, which, file), file.Close()); err != nil {
			return err
		}
		if !*c.json {
			fmt.Fprintln(c.out, file.Name())
		}
	}
	return nil
}
