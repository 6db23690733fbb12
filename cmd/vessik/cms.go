package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/cms"
	"vessik/internal/core/wire"
)

var cmsCommand = command{name: "cms", names: "[CMS | check FOLDER]", about: "list the CMS that sites can be made of",
	synopsis: "Lists what sites can be made of; of one CMS, its finishing touches and languages. A CMS is described by a " +
		"folder with a cms.yaml; your own are put into cms/ of the home folder and are there at once.\n" +
		"check FOLDER judges one, with the line of everything that is " +
		"wrong; it needs no service.",
	example: "vessik cms\nvessik cms wordpress\nvessik cms check ~/cms/our-cms", run: runCMS}

func runCMS(ctx context.Context, c *call) error {
	c.jsonFlag()
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.names) == 2 && c.names[0] == "check" {
		return c.checkCMS(c.names[1])
	}
	if len(c.names) > 1 || len(c.names) == 1 && c.names[0] == "check" {
		return usageError{"it is: cms check FOLDER, or cms CMS"}
	}
	service, err := c.client()
	if err != nil {
		return err
	}
	all, err := service.CMS(ctx)
	if err != nil {
		return err
	}
	if len(c.names) == 1 {
		return c.printCMS(all, c.names[0])
	}
	if *c.json {
		return c.printJSON(all)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "CMS\tVERSIONS\tSITES\tABOUT")
	for _, k := range all.CMS {
		versions := strings.Join(k.Versions, ", ")
		if versions == "" {
			versions = "any"
		}
		fmt.Fprintf(table, "%s\t%s\t%d\t%s\n", k.Name, versions, len(k.Sites), k.Title+": "+k.About)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "\nYour own CMS: folders in %s\nYour own finishing touches: NAME.sql, NAME.php and NAME.sh in %s\n", all.Folder,
		all.TouchFolder)
	c.printTouches(all.CMS[0], true)
	for _, folder := range slices.Sorted(maps.Keys(all.Faults)) {
		fmt.Fprintf(c.out, "left out: %s\n  %s\n", folder, strings.ReplaceAll(all.Faults[folder], "\n", "\n  "))
	}
	return nil
}

func (c *call) printTouches(k wire.CMSInfo, own bool) {
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	for _, t := range k.Touches {
		if t.Own != own {
			continue
		}
		name := t.Name
		if t.Value != "" {
			name += "=" + t.Example
		}
		fmt.Fprintf(table, "  %s\t%s\n", name, t.About)
	}
	table.Flush()
}

// printCMS shows one CMS with everything that can be chosen of it.
func (c *call) printCMS(all client.CMSPage, name string) error {
	i := slices.IndexFunc(all.CMS, func(k wire.CMSInfo) bool { return k.Name == name })
	if i < 0 {
		return usageError{fmt.Sprintf("there is no CMS %q; see them with: vessik cms", name)}
	}
	k := all.CMS[i]
	if *c.json {
		return c.printJSON(k)
	}
	host := "nothing in particular"
	if len(k.HostExtensions) > 0 {
		host = "PHP with " + strings.Join(k.HostExtensions, ", ") + "; it writes to " + strings.Join(k.HostWritable, ", ")
	}
	defer fmt.Fprintf(c.out, "\nA host must offer: %s\n", host)
	fmt.Fprintf(c.out, "%s: %s\nversions   %s\nlanguages  %s\n\nFinishing touches\n", k.Title, k.About,
		cmp.Or(strings.Join(k.Versions, ", "), "any"), cmp.Or(strings.Join(k.Languages, ", "), "not known before one is fetched"))
	c.printTouches(k, false)
	fmt.Fprintf(c.out, "\nYour own finishing touches: NAME.sql, NAME.php and NAME.sh in %s\n", all.TouchFolder)
	c.printTouches(k, true)
	return nil
}

func (c *call) checkCMS(folder string) error {
	k, err := cms.Read(os.DirFS(folder))
	var faults cms.Faults
	if err != nil && !errors.As(err, &faults) {
		return err
	}
	if *c.json {
		if err := c.printJSON(map[string]any{"folder": folder, "faults": append(cms.Faults{}, faults...)}); err != nil {
			return err
		}
	} else if len(faults) == 0 {
		fmt.Fprintf(c.out, "%s is right: %s, %d finishing touches\n", folder, k.Title, len(k.Touches))
	} else {
		fmt.Fprintln(c.out, faults.Error())
	}
	if len(faults) > 0 {
		return exitCode(exitCheckFailed)
	}
	return nil
}

var ticketCommand = command{name: "ticket", names: "NAME", about: "sign in to a site without typing",
	synopsis: "Prints an address that signs a browser in to the site: good for one use within a minute, on this machine only. Nothing of " +
		"it is kept in the site.",
	example: "vessik ticket orchard-days -open\nvessik ticket orchard-days -as tobias", run: runTicket}

func runTicket(ctx context.Context, c *call) error {
	as := c.flags.String("as", "", "which of the site's users (default: its administrator; see them with vessik users NAME)")
	open := c.flags.Bool("open", false, "open it in the browser")
	return show(func(ctx context.Context, service *client.Client, c *call) (client.Ticket, error) {
		return service.Ticket(ctx, c.names[0], *as)
	}, func(_ context.Context, _ *client.Client, c *call, t client.Ticket) error {
		if *open {
			browse(t.URL)
		}
		_, err := fmt.Fprintln(c.out, t.URL)
		return err
	})(ctx, c)
}

var usersCommand = command{name: "users", names: "NAME", about: "list a site's users, set a password, replace the administrator",
	synopsis: "Lists the users of a site's CMS, administrators first. With -set-password, gives one of them another password and prints " +
		"it. With -replace, the administrator that came with a stencil, a folder or a dump becomes the site's own, with everything that it " +
		"wrote; its name and password are printed.",
	example: "vessik users orchard-days\nvessik users orchard-days -set-password tobias\nvessik users orchard-days -replace old-keeper " +
		"-by ines", run: runUsers}

func runUsers(ctx context.Context, c *call) error {
	user := c.flags.String("set-password", "", "login of the user who gets another password")
	password := c.flags.String("password", "", "that password, 12 characters or more (default: generated)")
	var replace client.NewAdministrator
	c.flags.StringVar(&replace.Replace, "replace", "", "login of the administrator who becomes the site's own")
	c.flags.StringVar(&replace.By, "by", "", "with -replace: the login that this one has then (default: the site's administrator)")
	c.flags.StringVar(&replace.Mail, "mail", "", "with -replace: the mail address (default: the site's administrator's)")
	weak := c.flags.Bool("force-weak", false, "also a name or a password that is easily guessed")
	service, err := c.connect(func() error {
		switch {
		case *user != "" && replace.Replace != "":
			return usageError{"give -set-password or -replace, one at a time"}
		case *password != "" && *user == "" && replace.Replace == "":
			return usageError{"name the user with -set-password or -replace"}
		case replace.Replace == "" && replace.By+replace.Mail != "":
			return usageError{"name the administrator to be replaced with -replace"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if *user != "" {
		set, err := service.SetPassword(ctx, c.names[0], *user, client.NewPassword{Password: *password, ForceWeak: *weak})
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(set)
		}
		_, err = fmt.Fprintf(c.out, "%s: %s\n", *user, set.Password)
		return err
	}
	if replace.Replace != "" {
		replace.Password, replace.ForceWeak = *password, *weak
		admin, err := service.ReplaceAdministrator(ctx, c.names[0], replace)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(admin)
		}
		_, err = fmt.Fprintf(c.out, "%s: %s\n", admin.Name, admin.Password)
		return err
	}
	users, err := service.Users(ctx, c.names[0])
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(users)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "LOGIN\tNAME\tMAIL\tROLE")
	for _, u := range users {
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\n", u.Login, u.Name, u.Mail, u.Role)
	}
	return table.Flush()
}
