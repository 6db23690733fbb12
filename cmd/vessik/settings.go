package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"vessik/client"
	"vessik/internal/core/site"
)

// list is a flag that may be given more than once.
type list []string

func (l *list) String() string { return strings.Join(*l, ",") }

func (l *list) Set(value string) error { *l = append(*l, value); return nil }

var settingsCommand = command{name: "settings", names: "NAME [DIRECTIVE=VALUE…]", about: "show and change settings of a site's engines",
	synopsis: "Shows what a site's engines are set to, or changes it: php.ini directives (DIRECTIVE= takes one back), extensions, lines " +
		"for the virtual host, further\nfolders, debugging, rest, and what the site may take at most (memory=1G processes=200 disk=5G). " +
		"Engines check a change before it is loaded; it is verified, and taken back when a check fails that passed before.",
	example: "vessik settings orchard-days memory_limit=512M upload_max_filesize=64M\nvessik settings orchard-days -extension gd=off " +
		"-debug on -rest 30m\nvessik settings orchard-days -history", run: runSettings}

func runSettings(ctx context.Context, c *call) error {
	var asked askedSettings
	c.flags.Var(&asked.extensions, "extension", "switch an extension: NAME=on, NAME=off, or NAME= for as usual; may be given more than once")
	c.flags.Var(&asked.allow, "allow", "open a further folder to the site: FOLDER, or FOLDER=PLACE to have it in the site's own, such as "+
		"~/own=wp-content/plugins/own; may be given more than once")
	c.flags.Var(&asked.drop, "drop", "close such a folder again; may be given more than once")
	hostLines := c.flags.String("host-lines", "", "file with further lines for the site's virtual host (an empty one takes them back)")
	for _, setting := range site.Settable {
		if setting.Name != "allow" {
			c.flags.Func(setting.Name, setting.About+": "+setting.Form, func(value string) error {
				asked.words = append(asked.words, setting.Name+"="+value)
				return nil
			})
		}
	}
	history := c.flags.Bool("history", false, "show the settings' history")
	back := c.flags.Int64("back", 0, "go back to the settings of an entry of the history; 0 of the history's beginning with -back -1")
	stay := c.flags.Bool("stay", false, "stay with the change although a check fails with it")
	service, err := c.connect()
	if err != nil {
		return err
	}
	name := c.names[0]
	page, err := service.Settings(ctx, name)
	if err != nil {
		return err
	}
	asked.words = append(c.names[1:], asked.words...)
	next, err := asked.change(page)
	if err != nil {
		return err
	}
	if *hostLines != "" {
		if err := setHostLines(ctx, service, name, *hostLines, &next); err != nil {
			return err
		}
	}
	if *back != 0 {
		if next, err = entryOf(page, *back); err != nil {
			return err
		}
	}
	if !asked.any() && *hostLines == "" && *back == 0 {
		if *c.json {
			return c.printJSON(page)
		}
		return printSettings(c.out, page, *history)
	}
	operation, err := service.Adjust(ctx, name, next, *stay)
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if !*c.json {
		c.printChange(watched)
	}
	return outcome(watched)
}

// askedSettings are what the command line asks for.
type askedSettings struct {
	words                   []string // NAME=VALUE: settings, and php.ini directives
	extensions, allow, drop list
}

func (a askedSettings) any() bool {
	return len(a.words)+len(a.extensions)+len(a.allow)+len(a.drop) > 0
}

// change is a site's settings with what is asked for.
func (a askedSettings) change(page client.SettingsPage) (client.Settings, error) {
	next := page.Settings
	next.PHP, next.Extensions, next.HostLines = orEmpty(next.PHP), orEmpty(next.Extensions), orEmpty(next.HostLines)
	values, err := pairs(a.words)
	if err != nil {
		return next, err
	}
	for name, value := range values {
		if site.IsSetting(name) {
			if err := next.Set(name, value); err != nil {
				return next, usageError{err.Error()}
			}
			continue
		}
		if next.PHP[name] = value; value == "" {
			delete(next.PHP, name)
		}
	}
	switches, err := pairs(a.extensions)
	if err != nil {
		return next, err
	}
	for extension, value := range switches {
		switch value {
		case "":
			delete(next.Extensions, extension)
		case "on", "off":
			next.Extensions[extension] = value == "on"
		default:
			return next, usageError{fmt.Sprintf("-extension %s=%s: say on or off", extension, value)}
		}
	}
	return a.folders(next)
}

// folders opens further folders, and closes those that are taken back.
func (a askedSettings) folders(next client.Settings) (client.Settings, error) {
	for _, entry := range a.allow {
		shared := site.SharedOf(entry)
		path, err := filepath.Abs(shared.Folder)
		if err != nil {
			return next, err
		}
		if shared.Place != "" {
			path += "=" + filepath.Clean(shared.Place)
		}
		if !slices.Contains(next.Allow, path) {
			next.Allow = append(slices.Clone(next.Allow), path)
		}
	}
	for _, dir := range a.drop {
		path, err := filepath.Abs(dir)
		if err != nil {
			return next, err
		}
		kept := slices.DeleteFunc(slices.Clone(next.Allow), func(entry string) bool {
			return site.SharedOf(entry).Folder == path || site.SharedOf(entry).Place == filepath.Clean(dir)
		})
		if len(kept) == len(next.Allow) {
			return next, usageError{path + " is not open to the site"}
		}
		next.Allow = kept
	}
	return next, nil
}

func orEmpty[V any](values map[string]V) map[string]V {
	if values == nil {
		return map[string]V{}
	}
	return maps.Clone(values)
}

func setHostLines(ctx context.Context, service *client.Client, name, file string, next *client.Settings) error {
	s, err := service.Site(ctx, name, false)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	server, _, _ := strings.Cut(s.Stack.Web.Engine, "-")
	if next.HostLines[server] = strings.TrimRight(string(text), "\n"); next.HostLines[server] == "" {
		delete(next.HostLines, server)
	}
	return nil
}

func entryOf(page client.SettingsPage, id int64) (client.Settings, error) {
	if id == -1 {
		return client.Settings{}, nil
	}
	for _, entry := range page.History {
		if entry.ID == id {
			return entry.Settings, nil
		}
	}
	return client.Settings{}, usageError{fmt.Sprintf("the history has no entry %d; see them with -history", id)}
}

func printSettings(out io.Writer, page client.SettingsPage, history bool) error {
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	defer table.Flush()
	if history {
		fmt.Fprintln(table, "ENTRY\tWHEN\tWHO\tCHANGED")
		for _, e := range page.History {
			fmt.Fprintf(table, "%d\t%s\t%s\t%s\n", e.ID, e.At.Local().Format("2006-01-02 15:04:05"), e.Who, strings.Join(e.Changed, "; "))
		}
		fmt.Fprintln(table, "-1\t\t\tas the site was made")
		return nil
	}
	own := (client.Settings{}).Differences(page.Settings)
	if len(own) == 0 {
		fmt.Fprintln(table, "the site's own\tnone")
	}
	for i, line := range own {
		if i == 0 {
			fmt.Fprintf(table, "the site's own\t%s\n", line)
		} else {
			fmt.Fprintf(table, "\t%s\n", line)
		}
	}
	for i, name := range slices.Sorted(maps.Keys(page.Usual)) {
		label := ""
		if i == 0 {
			label = "usual"
		}
		fmt.Fprintf(table, "%s\t%s = %s\n", label, name, page.Usual[name])
	}
	on, off := []string{}, []string{}
	for _, name := range page.Extensions {
		if is, said := page.Settings.Extensions[name]; said && is || !said && !slices.Contains(page.Extras, name) {
			on = append(on, name)
		} else {
			off = append(off, name)
		}
	}
	fmt.Fprintf(table, "extensions\t%s\n", strings.Join(on, ", "))
	if len(off) > 0 {
		fmt.Fprintf(table, "switched off\t%s\n", strings.Join(off, ", "))
	}
	for i, limit := range page.Limits {
		amount := func(n int64) string {
			switch limit.Name {
			case "processes":
				return fmt.Sprint(n)
			case "processor":
				return fmt.Sprintf("%d%% of one", n)
			}
			return fmt.Sprintf("%d MB", (n+1<<20-1)>>20)
		}
		most := "no limit"
		if limit.Most > 0 {
			most = "at most " + amount(limit.Most)
		}
		label := ""
		if i == 0 {
			label = "limits"
		}
		fmt.Fprintf(table, "%s\t%s: %s used, %s\n", label, limit.Name, amount(limit.Used), most)
	}
	return nil
}
