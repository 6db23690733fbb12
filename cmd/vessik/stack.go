package main

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"

	"vessik/client"
	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/survey"
)

var enginesCommand = command{name: "engines", names: "[fetch|drop|adopt|set …]", about: "list, fetch, drop and adopt engines",
	synopsis: "Lists the engines that are there, and those that could be. fetch ID… brings some in, drop ID… removes some that no site uses, adopt ID -path FOLDER takes\none from a folder of yours, set ID NAME=VALUE… sets server variables of a database engine (NAME= takes one back)\nand shows their history. Any part of an id will do.",
	example:  "vessik engines\nvessik engines fetch php-8.4 nginx-1.26\nvessik engines adopt php-8.3 -path /opt/php-8.3\nvessik engines set mariadb-10.11 max_connections=600", run: runEngines}

func runEngines(ctx context.Context, c *call) error {
	path := c.flags.String("path", "", "folder of the engine to adopt, which holds its bin or sbin")
	back := c.flags.Int64("back", 0, "with set: go back to the variables of an entry of the history; -1 for none")
	service, err := c.connect()
	if err != nil {
		return err
	}
	if len(c.names) == 0 {
		return c.listEngines(ctx, service)
	}
	verb, ids := c.names[0], c.names[1:]
	if len(ids) == 0 {
		return usageError{"name an engine after " + verb}
	}
	switch verb {
	case "fetch":
		operation, err := service.FetchEngines(ctx, ids...)
		watched, err := c.carryOut(ctx, service, operation, err)
		if err != nil {
			return err
		}
		return outcome(watched)
	case "drop":
		dropped, err := service.DropEngines(ctx, ids...)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(dropped)
		}
		fmt.Fprintln(c.out, "dropped:", strings.Join(dropped, ", "))
	case "adopt":
		if *path == "" || len(ids) > 1 {
			return usageError{"name one engine and its folder: engines adopt ID -path FOLDER"}
		}
		folder, err := filepath.Abs(*path)
		if err != nil {
			return err
		}
		adopted, err := service.AdoptEngine(ctx, ids[0], folder)
		if err != nil {
			return err
		}
		if *c.json {
			return c.printJSON(adopted)
		}
		fmt.Fprintf(c.out, "%s %s was started and adopted from %s\n", adopted.ID, adopted.Version, adopted.From)
	case "set":
		return c.setVariables(ctx, service, ids[0], ids[1:], *back)
	default:
		return usageError{fmt.Sprintf("there is no engines %s; it is fetch, drop, adopt or set", verb)}
	}
	return nil
}

// setVariables changes server variables of a database engine, and shows what they are and were.
func (c *call) setVariables(ctx context.Context, service *client.Client, id string, words []string, back int64) error {
	values, err := pairs(words)
	if err != nil {
		return err
	}
	page, err := service.Variables(ctx, id)
	if err != nil {
		return err
	}
	if back != 0 {
		i := slices.IndexFunc(page.History, func(e plan.VariablesEntry) bool { return e.ID == back })
		if i < 0 && back != -1 {
			return usageError{fmt.Sprintf("the history has no entry %d; see it with: vessik engines set %s", back, page.Engine)}
		}
		for name := range page.Variables { // taken back, unless the entry has them
			values[name] = ""
		}
		if i >= 0 {
			maps.Copy(values, page.History[i].Variables)
		}
	}
	if len(values) > 0 {
		if page, err = service.SetVariables(ctx, id, values); err != nil {
			return err
		}
	}
	if *c.json {
		return c.printJSON(page)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(table, "%s\t%s\n\nENTRY\tWHEN\tWHO\tVARIABLES\n", page.Engine, variablesLine(page.Variables))
	for _, e := range page.History {
		fmt.Fprintf(table, "%d\t%s\t%s\t%s\n", e.ID, e.At.Local().Format("2006-01-02 15:04:05"), e.Who, variablesLine(e.Variables))
	}
	fmt.Fprintln(table, "-1\t\t\tas the server has them")
	return table.Flush()
}

func variablesLine(variables map[string]string) string {
	words := []string{}
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		words = append(words, name+" = "+variables[name])
	}
	if len(words) == 0 {
		return "as the server has them"
	}
	return strings.Join(words, ", ")
}

func pairs(words []string) (map[string]string, error) {
	values := map[string]string{}
	for _, word := range words {
		name, value, ok := strings.Cut(word, "=")
		if !ok || name == "" {
			return nil, usageError{fmt.Sprintf("%q is not NAME=VALUE", word)}
		}
		values[name] = value
	}
	return values, nil
}

func (c *call) listEngines(ctx context.Context, service *client.Client) error {
	answer, err := service.Engines(ctx)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(answer)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, "ENGINE\tVERSION\tFROM\tSIZE\tSITES\tPROCESSES\tMEMORY")
	for _, e := range answer.Engines {
		version, size, memory := e.Version, megabytes(e.SizeBytes), ""
		if !e.Present {
			version, size = "not here yet", ""
		}
		if e.MemoryBytes > 0 {
			memory = megabytes(e.MemoryBytes)
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%d\t%d\t%s\n", e.ID, version, e.From, size, len(e.Sites), len(e.Processes), memory)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	parts := []string{}
	for _, generation := range slices.Sorted(maps.Keys(answer.Disk)) {
		parts = append(parts, fmt.Sprintf("%s %s", generation, megabytes(answer.Disk[generation])))
	}
	if len(parts) > 0 {
		fmt.Fprintf(c.out, "\nOn disk, what engines share counted once: %s (CMS releases not counted)\n", strings.Join(parts, ", "))
	}
	for _, e := range answer.Engines {
		if e.Note != "" {
			fmt.Fprintf(c.out, "%s: %s\n", e.ID, e.Note)
		}
	}
	return nil
}

func megabytes(bytes int64) string { return fmt.Sprintf("%d MB", (bytes+1<<19)>>20) }

var restackCommand = command{name: "restack", names: "NAME", about: "change a site's PHP, web server or database",
	synopsis: "Puts a site on other engines: says what will happen, takes a restore point, switches, verifies, and goes back by itself when a check that passed before\nno longer does. Engines may be written in part: 8.4, apache, mariadb-11. Exits with 3 when the site went back.",
	example:  "vessik restack orchard-days -php 8.4\nvessik restack orchard-days -web apache -database 11.8 -preview", run: runRestack}

func runRestack(ctx context.Context, c *call) error {
	var r client.Restack
	c.flags.StringVar(&r.PHP, "php", "", "PHP engine")
	c.flags.StringVar(&r.Web, "web", "", "web server engine")
	c.flags.StringVar(&r.Database, "database", "", "database engine")
	c.flags.BoolVar(&r.Keep, "keep", false, "stay on the new stack although a check fails on it")
	preview := c.flags.Bool("preview", false, "only say what would happen")
	service, err := c.connect(func() error {
		if r.PHP+r.Web+r.Database == "" {
			return usageError{"name an engine with -php, -web or -database"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	shown, err := service.PreviewRestack(ctx, c.names[0], r)
	if err != nil {
		return err
	}
	if !*c.json {
		printPreview(c.out, c.names[0], shown)
	}
	if *preview {
		if *c.json {
			return c.printJSON(shown)
		}
		return nil
	}
	operation, err := service.Restack(ctx, c.names[0], r)
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if !*c.json {
		c.printChange(watched)
	}
	return outcome(watched)
}

func printPreview(out io.Writer, name string, p client.Preview) {
	table := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(table, "%s\t\n", name)
	for _, row := range [][3]string{{"PHP", p.Before.PHP, p.After.PHP}, {"web server", p.Before.Web, p.After.Web}, {"database", p.Before.Database, p.After.Database}} {
		change := row[1] + " stays"
		if row[1] != row[2] {
			change = row[1] + " → " + row[2]
		}
		fmt.Fprintf(table, "  %s\t%s\n", row[0], change)
	}
	fmt.Fprintf(table, "  steps\t%s\n", strings.Join(p.Steps, ", "))
	if len(p.Fetch) > 0 {
		fmt.Fprintf(table, "  fetched first\t%s\n", strings.Join(p.Fetch, ", "))
	}
	known := p.Supported
	if p.Warning != "" {
		known = p.Warning + "; " + known
	}
	fmt.Fprintf(table, "  CMS\t%s\n  visitors notice\t%s\n", known, p.Downtime)
	table.Flush()
}

// printChange says how a change ended.
func (c *call) printChange(watched client.Watched) {
	change := watched.Change
	for _, part := range watched.Sites {
		summary := "not verified, since the site does not run"
		if part.Report != nil && part.Report.Passed != nil {
			summary = part.Report.Summary()
		}
		fmt.Fprintf(c.out, "%s: %s", part.Site, summary)
		if change != nil && change.DowntimeMilliseconds > 0 {
			fmt.Fprintf(c.out, "; longest time without an answer %d ms", change.DowntimeMilliseconds)
		}
		fmt.Fprintln(c.out)
		if change == nil {
			continue
		}
		if change.Moved != "" {
			fmt.Fprintf(c.out, "  database: %s\n", change.Moved)
		}
		if change.WentBack {
			for _, report := range part.Earlier {
				if report.Stage != "after" {
					continue
				}
				for _, id := range change.Worse {
					r := report.Result(check.ID(id))
					fmt.Fprintf(c.out, "\n  %s (%s), after the change\n    expected  %s\n    observed  %s\n    remedy    %s\n", r.Title, r.ID, r.Expected, r.Observed, r.Remedy)
				}
			}
		}
		if change.RestorePoint != "" {
			fmt.Fprintf(c.out, "  restore point: %s\n", change.RestorePoint)
		}
	}
}

// oneOf judges -format, which -json stands in for.
func (c *call) oneOf(format *string, first, second, third string) func() error {
	return func() error {
		if *c.json {
			*format = "json"
		}
		if *format != first && *format != second && *format != third {
			return usageError{fmt.Sprintf("there is no format %q; choose %s, %s or %s", *format, first, second, third)}
		}
		return nil
	}
}

// list is a flag that may be given more than once.
type list []string

func (l *list) String() string         { return strings.Join(*l, ",") }
func (l *list) Set(value string) error { *l = append(*l, value); return nil }

var settingsCommand = command{name: "settings", names: "NAME [DIRECTIVE=VALUE…]", about: "show and change settings of a site's engines",
	synopsis: "Shows what a site's engines are set to, or changes it: php.ini directives (DIRECTIVE= takes one back), extensions, lines for the virtual host, further\nfolders, debugging, rest. Engines check a change before it is loaded; it is verified, and taken back when the site is worse off.",
	example:  "vessik settings orchard-days memory_limit=512M upload_max_filesize=64M\nvessik settings orchard-days -extension gd=off -debug on -rest 30m\nvessik settings orchard-days -history", run: runSettings}

func runSettings(ctx context.Context, c *call) error {
	var extensions, allow, disallow list
	c.flags.Var(&extensions, "extension", "switch an extension: NAME=on, NAME=off, or NAME= for as usual; may be given more than once")
	c.flags.Var(&allow, "allow", "open a further folder to the site; may be given more than once")
	c.flags.Var(&disallow, "disallow", "take such a folder back")
	hostLines := c.flags.String("host-lines", "", "file with further lines for the site's virtual host (an empty one takes them back)")
	debug := c.flags.String("debug", "", "on or off: PHP shows and logs every error")
	offline := c.flags.String("offline", "", "on or off: what the site asks of other machines is refused at once")
	xdebug := c.flags.String("xdebug", "", "port that Xdebug connects to, or off")
	rest := c.flags.String("rest", "", "idle time after which PHP goes to rest, such as 30m, or never")
	history := c.flags.Bool("history", false, "show the settings' history")
	back := c.flags.Int64("back", 0, "go back to the settings of an entry of the history; 0 of the history's beginning with -back -1")
	keep := c.flags.Bool("keep", false, "keep the change although a check fails with it")
	service, err := c.connect()
	if err != nil {
		return err
	}
	name := c.names[0]
	page, err := service.Settings(ctx, name)
	if err != nil {
		return err
	}
	next, err := changed(page, c.names[1:], extensions, allow, disallow, *debug, *offline, *xdebug, *rest)
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
	asked := len(c.names) > 1 || len(extensions)+len(allow)+len(disallow) > 0 || *debug+*offline+*xdebug+*rest+*hostLines != "" || *back != 0
	if !asked {
		if *c.json {
			return c.printJSON(page)
		}
		return printSettings(c.out, page, *history)
	}
	operation, err := service.Adjust(ctx, name, next, *keep)
	watched, err := c.carryOut(ctx, service, operation, err)
	if err != nil {
		return err
	}
	if !*c.json {
		c.printChange(watched)
	}
	return outcome(watched)
}

// changed is a site's settings with what the command line asks for.
func changed(page client.SettingsPage, words []string, extensions, allow, disallow list, debug, offline, xdebug, rest string) (client.Settings, error) {
	next := page.Settings
	next.PHP, next.Extensions, next.HostLines = orEmpty(next.PHP), orEmpty(next.Extensions), orEmpty(next.HostLines)
	values, err := pairs(words)
	if err != nil {
		return next, err
	}
	for directive, value := range values {
		if next.PHP[directive] = value; value == "" {
			delete(next.PHP, directive)
		}
	}
	switches, err := pairs(extensions)
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
	for _, dir := range allow {
		path, err := filepath.Abs(dir)
		if err != nil {
			return next, err
		}
		if !slices.Contains(next.Allow, path) {
			next.Allow = append(slices.Clone(next.Allow), path)
		}
	}
	for _, dir := range disallow {
		path, err := filepath.Abs(dir)
		if err != nil {
			return next, err
		}
		if !slices.Contains(next.Allow, path) {
			return next, usageError{path + " is not open to the site"}
		}
		next.Allow = slices.DeleteFunc(slices.Clone(next.Allow), func(d string) bool { return d == path })
	}
	for _, each := range []struct {
		flag, value string
		field       *bool
	}{{"debug", debug, &next.Debug}, {"offline", offline, &next.Offline}} {
		if each.value != "" && each.value != "on" && each.value != "off" {
			return next, usageError{"-" + each.flag + ": say on or off"}
		}
		if each.value != "" {
			*each.field = each.value == "on"
		}
	}
	switch {
	case xdebug == "off":
		next.Xdebug = 0
	case xdebug != "":
		if next.Xdebug, err = strconv.Atoi(xdebug); err != nil {
			return next, usageError{"-xdebug: give a port, or off"}
		}
	}
	switch {
	case rest == "never":
		next.RestAfter = -1
	case rest != "":
		idle, err := time.ParseDuration(rest)
		if err != nil || idle < time.Second {
			return next, usageError{"-rest: give a time of a second or more, such as 30m, or never"}
		}
		next.RestAfter = int(idle.Seconds())
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
	fmt.Fprintf(table, "extensions\t%s\n", strings.Join(page.Extensions, ", "))
	return nil
}

var infoCommand = command{name: "info", names: "NAME", about: "show all that a site runs on", synopsis: "Shows versions, extensions, every setting in effect, database variables and the virtual host, as told by a request that the site served.",
	example: "vessik info orchard-days -search upload\nvessik info orchard-days -compare moss-archive\nvessik info orchard-days -format csv > orchard-days.csv", run: runInfo}

func runInfo(ctx context.Context, c *call) error {
	search := c.flags.String("search", "", "only what contains this text")
	other := c.flags.String("compare", "", "only what differs from another site")
	format := c.flags.String("format", "table", "table, json or csv")
	service, err := c.connect(c.oneOf(format, "table", "json", "csv"))
	if err != nil {
		return err
	}
	info, err := service.Info(ctx, c.names[0])
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, e := range info.Entries {
		rows = append(rows, []string{e.Section, e.Name, e.Value})
	}
	heads := []string{"SECTION", "NAME", "VALUE"}
	if *other != "" {
		second, err := service.Info(ctx, *other)
		if err != nil {
			return err
		}
		rows, heads = differences(info, second), []string{"SECTION", "NAME", c.names[0], *other}
	}
	rows = slices.DeleteFunc(rows, func(row []string) bool {
		return !strings.Contains(strings.ToLower(strings.Join(row, " ")), strings.ToLower(*search))
	})
	switch *format {
	case "json":
		objects := []map[string]string{}
		for _, row := range rows {
			object := map[string]string{}
			for i, head := range heads {
				if i < 3 {
					head = strings.ToLower(head)
				}
				object[head] = row[i]
			}
			objects = append(objects, object)
		}
		return c.printJSON(objects)
	case "csv":
		writer := csv.NewWriter(c.out)
		writer.Write(heads)
		return writer.WriteAll(rows)
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, strings.Join(heads, "\t"))
	for _, row := range rows {
		for i := range row {
			row[i] = strings.Join(strings.Fields(row[i]), " ")
			if runes := []rune(row[i]); len(runes) > 90 {
				row[i] = string(runes[:89]) + "…"
			}
		}
		fmt.Fprintln(table, strings.Join(row, "\t"))
	}
	return table.Flush()
}

// differences are the facts in which two sites differ; a virtual host's lines differ anyway.
func differences(a, b client.Info) [][]string {
	type key struct{ section, name string }
	other := map[key]string{}
	for _, e := range b.Entries {
		other[key{e.Section, e.Name}] = e.Value
	}
	rows := [][]string{}
	for _, e := range a.Entries {
		k := key{e.Section, e.Name}
		value, ok := other[k]
		delete(other, k)
		if (!ok || value != e.Value) && e.Section != "virtual host" {
			rows = append(rows, []string{e.Section, e.Name, e.Value, value})
		}
	}
	for _, e := range b.Entries {
		if _, only := other[key{e.Section, e.Name}]; only && e.Section != "virtual host" {
			rows = append(rows, []string{e.Section, e.Name, "", e.Value})
		}
	}
	return rows
}

var logsCommand = command{name: "logs", names: "NAME", about: "show and follow a site's logs", synopsis: "Shows the last lines of a site's logs: php, fpm, access, web, database, own. -f goes on with those that are added.",
	example: "vessik logs orchard-days -log php,web -f", run: runLogs}

func runLogs(ctx context.Context, c *call) error {
	follow := c.flags.Bool("f", false, "follow: go on with lines that are added")
	which := c.flags.String("log", "", "names of logs, joined by commas (default: all)")
	last := c.flags.Int("last", 20, "how many lines of each")
	search := c.flags.String("search", "", "only lines that contain this text")
	service, err := c.connect()
	if err != nil {
		return err
	}
	return service.Logs(ctx, c.names[0], slices.DeleteFunc(strings.Split(*which, ","), func(s string) bool { return s == "" }), *last, *follow, func(line client.LogLine) {
		switch {
		case !strings.Contains(strings.ToLower(line.Text), strings.ToLower(*search)):
		case *c.json:
			text, _ := json.Marshal(line)
			fmt.Fprintf(c.out, "%s\n", text)
		default:
			fmt.Fprintf(c.out, "%-8s %s\n", line.Log, line.Text)
		}
	})
}

var runCommandCommand = command{name: "run", names: "NAME [-- COMMAND…]", about: "run a command as one of a site's own", synopsis: "Runs a command in a site's folder, with its own PHP as php and its database's settings for mariadb; without a command, opens a shell there.\nThe command's exit code is passed on.",
	example: "vessik run orchard-days -- php -v\nvessik run orchard-days -- mariadb -e 'SHOW TABLES'", run: runInSite}

func runInSite(ctx context.Context, c *call) error {
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
	if len(c.names) > 1 {
		return usageError{"write the command after --"}
	}
	environment, err := service.Environment(ctx, c.names[0])
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(environment)
	}
	if len(rest) == 0 {
		shell := os.Getenv("SHELL")
		if shell == "" {
			shell = "/bin/sh"
		}
		rest = []string{shell}
	}
	path := environment.Path + ":" + os.Getenv("PATH")
	program := rest[0]
	if !strings.Contains(program, "/") {
		if own := filepath.Join(environment.Path, program); fileExists(own) {
			program = own
		}
	}
	signal.Ignore(syscall.SIGINT, syscall.SIGQUIT) // they are the command's
	command := exec.Command(program, rest[1:]...)
	command.Dir, command.Stdin, command.Stdout, command.Stderr = environment.Folder, os.Stdin, c.out, os.Stderr
	command.Env = append(os.Environ(), "PATH="+path)
	for name, value := range environment.Variables {
		command.Env = append(command.Env, name+"="+value)
	}
	if os.Geteuid() == 0 && environment.Account != 0 { // what it makes belongs to the site
		command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(environment.Account), Gid: uint32(environment.Account), NoSetGroups: false}}
		command.Env = append(command.Env, "HOME="+environment.Variables["TMPDIR"])
		if info, err := os.Stat(environment.Folder); err == nil {
			command.SysProcAttr.Credential.Gid = info.Sys().(*syscall.Stat_t).Gid
		}
	}
	err = command.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exitCode(max(exit.ExitCode(), 1))
	}
	if err != nil {
		return fmt.Errorf("run %s: %w", rest[0], err)
	}
	return nil
}

func fileExists(path string) bool { _, err := os.Stat(path); return err == nil }

var surveyCommand = command{name: "survey", about: "look at the machine before anything is changed", synopsis: "Shows the machine as Vessik sees it: ports and who holds them, other servers, names, disk, memory, limits, archive; each with a verdict and a remedy.\nNeeds no service. Exits with 3 when something will not work.",
	example: "vessik survey", run: func(ctx context.Context, c *call) error {
		c.jsonFlag()
		if err := c.parse(); err != nil {
			return err
		}
		home, err := c.homeFolder()
		if err != nil {
			return err
		}
		result := survey.Look(ctx, home)
		if *c.json {
			err = c.printJSON(result)
		} else {
			table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
			area := ""
			for _, f := range result.Findings {
				if f.Area != area {
					fmt.Fprintf(table, "%s\t\t\n", f.Area)
					area = f.Area
				}
				fmt.Fprintf(table, "  %s\t%s\t%s\n", f.Verdict, f.Subject, f.Observed)
				if f.Remedy != "" {
					fmt.Fprintf(table, "  \t\t→ %s\n", f.Remedy)
				}
			}
			err = table.Flush()
		}
		if err == nil && result.Faults > 0 {
			err = exitCode(exitCheckFailed)
		}
		return err
	}}

var trialCommand = command{name: "trial", names: "NAME", about: "try a site on many stacks", synopsis: "Draws a temporary copy of a site for every combination of engines, verifies each, and shows a grid: verdicts, times, what PHP said, and how much the front\npage looks different. Nothing is kept. Lists are parts of engines' names, joined by commas, or all; what is left out is the site's own. Exits with 3 when a combination fails.",
	example: "vessik trial orchard-days -php all\nvessik trial orchard-days -php 7.4,8.4 -web all -database 11.8 -visit /hello-world/ -format junit > trial.xml", run: runTrial}

func runTrial(ctx context.Context, c *call) error {
	var t client.Trial
	var visit list
	c.flags.StringVar(&t.PHP, "php", "", "PHP engines")
	c.flags.StringVar(&t.Web, "web", "", "web server engines")
	c.flags.StringVar(&t.Database, "database", "", "database engines")
	c.flags.Var(&visit, "visit", "address to ask besides the front page, such as /shop/; may be given more than once")
	c.flags.BoolVar(&t.Keep, "keep", false, "keep the copies as sites")
	c.flags.BoolVar(&t.NoPicture, "no-picture", false, "take no pictures")
	format := c.flags.String("format", "table", "table, json or junit")
	service, err := c.connect(c.oneOf(format, "table", "json", "junit"))
	if err != nil {
		return err
	}
	t.Visit = visit
	operation, err := service.Try(ctx, c.names[0], t)
	if err != nil {
		return err
	}
	watched, err := c.follow(ctx, service, operation)
	if err != nil {
		return err
	}
	switch *format {
	case "json":
		err = c.printJSON(watched.Trial)
	case "junit":
		err = check.WriteJUnit(c.out, trialReport(*watched.Trial))
	default:
		err = plan.WriteGrid(c.out, *watched.Trial)
	}
	if err != nil {
		return err
	}
	for _, cell := range watched.Trial.Cells {
		if cell.Verdict == check.Fail {
			return exitCode(exitCheckFailed)
		}
	}
	return outcome(watched)
}

// trialReport is a trial as a report: a suite a combination.
func trialReport(t plan.Trial) check.Report {
	sites := []check.SiteReport{}
	for _, cell := range t.Cells {
		report := check.SiteReport{Checks: []check.Result{{ID: "copy", Title: "The copy was made", Verdict: cell.Verdict, Observed: cell.Summary}}}
		if cell.Report != nil {
			report = *cell.Report
		}
		report.Site = t.Site + " on " + strings.Join(cell.Stack.IDs(), ", ")
		sites = append(sites, report)
	}
	return check.Together(sites)
}
