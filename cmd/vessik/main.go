// Command vessik provisions many local CMS sites side by side and verifies that each of them answers. Every command but serve and
// demo is a client of a running service.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"vessik/client"
	"vessik/internal/home"
)

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitCheckFailed = 3
	exitUnreachable = 4
)

// command is one word of the command line.
type command struct {
	name, synopsis, about, example string
	run                            func(ctx context.Context, c *call) error
	names                          string // what the words besides flags are: "", "NAME", "[NAME]", "[NAME…]", "NAME…"
}

// group is what commands have in common, as vessik -h shows them.
type group struct {
	title    string
	commands []command
}

var (
	groups   []group
	commands []command // of all groups
)

func init() {
	groups = []group{
		{"Sites", []command{newCommand, copyCommand, sitesCommand, siteCommand, openCommand, ticketCommand, startCommand, stopCommand,
			verifyCommand, renameCommand, domainsCommand, httpsCommand, labelCommand, fleetCommand, retireCommand}},
		{"Content", []command{stencilCommand, shelfCommand, partsCommand, sqlCommand, databaseCommand, dumpCommand, loadCommand,
			restoreCommand, parcelCommand, unpackCommand, usersCommand, editCommand,
			terminalCommand, runCommandCommand}},
		{"Stack", []command{restackCommand, trialCommand, settingsCommand, helpersCommand, enginesCommand, cmsCommand}},
		{"Look inside", []command{infoCommand, mailCommand, mailServerCommand, outgoingCommand,
			errorsCommand, walkCommand, logsCommand, operationsCommand}},
		{"Elsewhere", []command{hostingCommand, pullCommand, pushCommand, practiceHostCommand}},
		{"Show", []command{inviteCommand, invitesCommand, standingCommand, remarksCommand, screensCommand, relaysCommand, relayCommand}},
		{"Machine", []command{surveyCommand, hostsCommand, authorityCommand, defaultsCommand, atLoginCommand, completionCommand}},
		{"Service", []command{serveCommand, demoCommand, statusCommand, consoleCommand, versionCommand}},
	}
	for _, each := range groups {
		commands = append(commands, each.commands...)
	}
}

// usageError is a fault of the command line itself.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

// exitCode is an error that says nothing more than how to exit: all is printed already.
type exitCode int

func (e exitCode) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// call is one use of a command.
type call struct {
	command command
	flags   *flag.FlagSet
	names   []string
	home    *string
	json    *bool
	// mayBeEmpty are the flags for which an empty text says something.
	mayBeEmpty []string
	common     []string // flags that are shown first
	out        io.Writer
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	code := run(untilStarterEnds(ctx), os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}

func run(ctx context.Context, arguments []string, out, errs io.Writer) int {
	if len(arguments) == 0 || arguments[0] == "-h" || arguments[0] == "-help" || arguments[0] == "--help" || arguments[0] == "help" {
		overview(out)
		if len(arguments) == 0 {
			return exitUsage
		}
		return exitDone
	}
	for _, command := range commands {
		if command.name == arguments[0] {
			return finish(command, runCommand(ctx, command, arguments[1:], tame(command.name, out)), tame("", errs))
		}
	}
	fmt.Fprintf(errs, "vessik: there is no command %q; see them with: vessik -h\n", arguments[0])
	return exitUsage
}

func overview(out io.Writer) {
	fmt.Fprint(out, "Vessik makes many local CMS sites side by side and proves that each of them answers.\n")
	for _, each := range groups {
		fmt.Fprintf(out, "\n%s\n", bold(out, each.title))
		for _, c := range each.commands {
			fmt.Fprintf(out, "  %-12s %s\n", c.name, c.about)
		}
	}
	fmt.Fprint(out, "\nEach command has -h. Flags may stand before or after names.\n"+
		"Exit codes: 0 done, 1 the operation failed, 2 wrong usage, 3 a check failed, 4 the service cannot be reached.\n"+
		"VESSIK_HOME names the home folder, VESSIK_ENGINES the engine store, NO_COLOR leaves colours out.\n")
}

// runCommand reads flags wherever they stand and runs the command.
func runCommand(ctx context.Context, command command, arguments []string, out io.Writer) error {
	c := &call{command: command, flags: flag.NewFlagSet(command.name, flag.ContinueOnError), out: out}
	c.flags.SetOutput(io.Discard)
	c.home = c.flags.String("home", "", "home folder of the service (default: $VESSIK_HOME, else ~/vessik, for root /var/lib/vessik)")
	return command.run(ctx, c.with(arguments))
}

// with keeps the arguments until the command has named its flags; parse reads them.
func (c *call) with(arguments []string) *call {
	c.names = arguments
	return c
}

// given are the flags that stand on the command line, even where they are empty.
func (c *call) given() map[string]bool {
	given := map[string]bool{}
	c.flags.Visit(func(f *flag.Flag) { given[f.Name] = true })
	return given
}

func (c *call) jsonFlag() { c.json = c.flags.Bool("json", false, "print the API's own JSON") }

func (c *call) parse() error {
	rest, tail := c.names, []string(nil)
	if i := slices.Index(rest, "--"); i >= 0 { // what follows is not ours to read
		rest, tail = rest[:i], rest[i:]
		if !strings.Contains(c.command.names, "--") { // names from here on
			tail = tail[1:]
		}
	}
	c.names = nil
	for {
		if err := c.flags.Parse(rest); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				c.help()
				return exitCode(exitDone)
			}
			return usageError{strings.Replace(err.Error(), "flag provided but not defined: ", "there is no flag ", 1)}
		}
		if rest = c.flags.Args(); len(rest) == 0 {
			break
		}
		if strings.Contains(c.command.names, "--") && len(c.names) == 1 { // a command, whose flags are its own
			tail = rest
			break
		}
		c.names, rest = append(c.names, rest[0]), rest[1:]
	}
	c.names = append(c.names, tail...)
	if empty := c.emptyFlag(); empty != "" {
		return usageError{fmt.Sprintf("-%s is given, but empty; leave it out, or say what it is to be", empty)}
	}
	switch wanted := c.command.names; {
	case wanted == "" && len(c.names) > 0:
		return usageError{fmt.Sprintf("%q is too much; this command takes flags only", c.names[0])}
	case strings.HasPrefix(wanted, "NAME") && len(c.names) == 0:
		return usageError{"name a site"}
	case (wanted == "NAME" || wanted == "[ID]") && len(c.names) > 1:
		return usageError{fmt.Sprintf("%q is too much; this command takes one name", c.names[1])}
	}
	return nil
}

// emptyFlag is one that was given an empty text, as a script does whose variable is not set; for flags that may be so it means something.
func (c *call) emptyFlag() (name string) {
	c.flags.Visit(func(f *flag.Flag) {
		if value, ok := f.Value.(flag.Getter); ok && value.Get() == "" && !slices.Contains(c.mayBeEmpty, f.Name) {
			name = f.Name
		}
	})
	return name
}

func (c *call) help() {
	fmt.Fprintf(c.out, "vessik %s %s\n\n%s\n\n%s\n  %s\n", c.command.name, strings.TrimSpace(c.command.names+" [flags]"),
		c.command.synopsis, bold(c.out, "Example"), strings.ReplaceAll(c.command.example, "\n", "\n  "))
	title := "Flags"
	if len(c.common) > 0 {
		c.describe("Common flags", func(name string) bool { return slices.Contains(c.common, name) })
		title = "Further flags"
	}
	c.describe(title, func(name string) bool { return !slices.Contains(c.common, name) })
}

// describe prints those of the flags that belong under a heading.
func (c *call) describe(title string, belongs func(name string) bool) {
	part := flag.NewFlagSet(c.command.name, flag.ContinueOnError)
	c.flags.VisitAll(func(f *flag.Flag) {
		if belongs(f.Name) {
			part.Var(f.Value, f.Name, f.Usage)
			part.Lookup(f.Name).DefValue = f.DefValue
		}
	})
	fmt.Fprintf(c.out, "\n%s\n", bold(c.out, title))
	part.SetOutput(c.out)
	part.PrintDefaults()
}

func (c *call) homeFolder() (home.Home, error) {
	place, err := home.Default()
	if err == nil && *c.home != "" {
		place, err = home.New(*c.home, place.Engines)
	}
	return place, err
}

func (c *call) client() (*client.Client, error) {
	home, err := c.homeFolder()
	if err != nil {
		return nil, err
	}
	return client.ForHome(home.Dir)
}

// connect reads the flags, has the command judge them, and finds the service: how every client command begins.
func (c *call) connect(judge ...func() error) (*client.Client, error) {
	c.jsonFlag()
	if err := c.parse(); err != nil {
		return nil, err
	}
	for _, each := range judge {
		if err := each(); err != nil {
			return nil, err
		}
	}
	return c.client()
}

// show is a command that asks the service for one thing and prints it, as JSON or for people.
func show[T any](ask func(context.Context, *client.Client, *call) (T, error),
	print func(context.Context, *client.Client, *call, T) error) func(context.Context, *call) error {
	return func(ctx context.Context, c *call) error {
		service, err := c.connect()
		if err != nil {
			return err
		}
		answer, err := ask(ctx, service, c)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(answer)
		}
		return print(ctx, service, c, answer)
	}
}

// carryOut follows an operation to its end and prints it as JSON where that is asked for.
func (c *call) carryOut(ctx context.Context, service *client.Client, operation client.Operation, err error) (client.Watched, error) {
	if err != nil {
		return client.Watched{}, err
	}
	watched, err := c.follow(ctx, service, operation)
	if err == nil && *c.json {
		err = c.printJSON(watched.Operation)
	}
	return watched, err
}

func (c *call) printJSON(value any) error {
	encoder := json.NewEncoder(c.out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(value)
}

// finish says what went wrong and how to exit.
func finish(command command, err error, errs io.Writer) int {
	var code exitCode
	var usage usageError
	var problem *client.ProblemDetails
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &code):
		return int(code)
	case errors.As(err, &usage):
		fmt.Fprintf(errs, "vessik %s: %s; see: vessik %s -h\n", command.name, usage.text, command.name)
		return exitUsage
	case errors.Is(err, client.ErrUnreachable):
		fmt.Fprintf(errs, "vessik: %v\n", err)
		return exitUnreachable
	case errors.As(err, &problem):
		if len(problem.Errors) == 0 {
			fmt.Fprintf(errs, "vessik %s: %s\n", command.name, problem.Detail)
		} else {
			fmt.Fprintf(errs, "vessik %s: %s\n", command.name, problem.Detail)
			for _, p := range problem.Errors {
				p.Field = asWritten(p.Field)
				fmt.Fprintf(errs, "  %s\n", p)
			}
		}
		if problem.Status == 422 || problem.Status == 404 || problem.Status == 400 {
			return exitUsage
		}
		return exitFailed
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(errs, "interrupted")
		return exitFailed
	}
	fmt.Fprintf(errs, "vessik %s: %v\n", command.name, err)
	return exitFailed
}

// asWritten is how a field of a request is written on the command line.
func asWritten(field string) string {
	switch field {
	case "name", "copy_of":
		return "name"
	case "administrator.name":
		return "-administrator"
	case "id":
		return "ID"
	case "finishing_touches":
		return "-touch"
	case "domains":
		return "-also-domain"
	case "plugins", "themes", "sub_sites": // which may be said more than once
		field = strings.TrimSuffix(field, "s")
	}
	return "-" + strings.ReplaceAll(strings.TrimPrefix(field, "administrator."), "_", "-")
}
