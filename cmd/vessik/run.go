package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/term"

	"vessik/client"
)

var runCommandCommand = command{name: "run", names: "NAME [[--] COMMAND…]", about: "run a command as one of a site's own",
	synopsis: "Runs a command in a site's folder, with its own PHP as php and its database's settings for mariadb; without a command, " +
		"opens a shell there.\nIt lives in a cell, as the site does: of this machine it has the system's programs and the site's folder. Of " +
		"your environment it gets what -env names.\nThe command's exit code is passed on.",
	example: "vessik run orchard-days php -v\nvessik run orchard-days -env STAGE -- mariadb -e 'SHOW TABLES'", run: runInSite}

func runInSite(ctx context.Context, c *call) error {
	named := c.flags.String("env", "", "names of variables of your environment that the command gets, joined by commas")
	words := c.names
	var rest []string
	if i := slices.Index(words, "--"); i >= 0 {
		words, rest = words[:i], words[i+1:]
	}
	c.names = words
	service, err := c.connect()
	if err != nil {
		return err
	}
	if len(c.names) > 1 && rest != nil {
		return usageError{"write the whole command after --"}
	}
	if len(c.names) > 1 {
		c.names, rest = c.names[:1], c.names[1:]
	}
	if *c.json {
		environment, err := service.Environment(ctx, c.names[0])
		if err != nil {
			return err
		}
		return c.printJSON(environment)
	}
	asked := client.Command{Arguments: rest, Environment: map[string]string{}}
	for name := range strings.SplitSeq(*named, ",") {
		if value, set := os.LookupEnv(name); name != "" && set {
			asked.Environment[name] = value
		} else if name != "" {
			return usageError{fmt.Sprintf("-env names %s, which is not set", name)}
		}
	}
	asked.Folder, _ = os.Getwd() // it counts only inside the site's folder
	code, err := c.runAttached(ctx, service, asked)
	if err != nil {
		return fmt.Errorf("run in %s: %w", c.names[0], err)
	}
	if code != 0 {
		return exitCode(code)
	}
	return nil
}

// runAttached joins the command with this terminal, if there is one.
func (c *call) runAttached(ctx context.Context, service *client.Client, asked client.Command) (int, error) {
	in, out := int(os.Stdin.Fd()), int(os.Stdout.Fd())
	if !term.IsTerminal(in) || !term.IsTerminal(out) {
		return service.Run(ctx, c.names[0], asked, os.Stdin, c.out, os.Stderr, nil)
	}
	size := func() client.TerminalSize {
		columns, rows, err := term.GetSize(out)
		if err != nil {
			return client.TerminalSize{Rows: 24, Columns: 80}
		}
		return client.TerminalSize{Rows: uint16(rows), Columns: uint16(columns)}
	}
	now := size()
	asked.Terminal, asked.Environment["TERM"] = &now, os.Getenv("TERM")
	before, err := term.MakeRaw(in)
	if err != nil {
		return 0, err
	}
	defer term.Restore(in, before)
	changed, resized := make(chan os.Signal, 1), make(chan client.TerminalSize, 1)
	signal.Notify(changed, syscall.SIGWINCH)
	defer signal.Stop(changed)
	done := make(chan struct{})
	defer close(done)
	go func() {
		defer close(resized)
		for {
			select {
			case <-done:
				return
			case <-changed:
				resized <- size()
			}
		}
	}()
	return service.Run(ctx, c.names[0], asked, os.Stdin, c.out, os.Stderr, resized)
}
