package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"golang.org/x/term"

	"vessik/client"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/wire"
)

var databaseCommand = command{name: "database", names: "NAME", about: "show a site's database, and how programs open it",
	synopsis: "Shows host, port, user and password of a site's own database, a mysql:// address that database programs take, and its " +
		"tables.\n-find tells in which columns a text stands. -replace puts another in its place, wherever it stands in the database's texts: " +
		"also in serialised\nPHP, whose lengths are mended, and in JSON. All of it is done, or nothing; -dry-run tells first what would be.\n" +
		"-add adds the records of a CSV file (RFC 4180), whose first line names columns, to the table of -table; \\N stands for NULL.",
	example: "vessik database orchard-days\nvessik database orchard-days -find 'Fern Hollow'\n" +
		"vessik database orchard-days -replace 'Fern Hollow' -with 'Moss Hollow' -dry-run\n" +
		"vessik database orchard-days -add beds.csv -table beds", run: runDatabase}

func runDatabase(ctx context.Context, c *call) error {
	text := c.flags.String("find", "", "tell in which columns of which tables this text stands")
	asked := wire.AskReplace{}
	c.flags.StringVar(&asked.Text, "replace", "", "the text that -with takes the place of; upper and lower case are told apart")
	c.flags.StringVar(&asked.With, "with", "", "with -replace: what takes its place")
	c.flags.BoolVar(&asked.Preview, "dry-run", false, "with -replace: tell what would be changed, and change nothing")
	file := c.flags.String("add", "", "CSV file whose records are added; - for standard input")
	table := c.flags.String("table", "", "with -add: the table that they are added to")
	c.mayBeEmpty = []string{"with"}
	service, err := c.connect(func() error {
		switch {
		case asked.Text == "" && (c.given()["with"] || asked.Preview):
			return usageError{"-with and -dry-run belong to -replace"}
		case asked.Text != "" && !c.given()["with"]:
			return usageError{"-replace needs -with; -with '' takes the text away"}
		case asked.Text != "" && *text != "", *file != "" && asked.Text+*text != "":
			return usageError{"-find, -replace and -add exclude each other"}
		case (*file == "") != (*table == ""):
			return usageError{"-add needs -table, and -table -add"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if *file != "" {
		return c.addCSV(ctx, service, *file, *table)
	}
	if asked.Text != "" {
		return c.replaceText(ctx, service, asked)
	}
	if *text != "" {
		return c.findText(ctx, service, c.names[0], *text)
	}
	return c.showDatabase(ctx, service)
}

func (c *call) showDatabase(ctx context.Context, service *client.Client) error {
	d, err := service.Database(ctx, c.names[0])
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(d)
	}
	if err := printFacts(c.out, [][2]string{{"server", d.Engine}, {"host", d.Host}, {"port", fmt.Sprint(d.Port)}, {"database", d.Name},
		{"user", d.User}, {"password", d.Password}, {"address", d.URL}}); err != nil {
		return err
	}
	fmt.Fprintln(c.out)
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "TABLE")+"\tROWS, ABOUT\tSIZE\tENGINE\tCOLLATION")
	for _, t := range d.Tables {
		if t.View {
			fmt.Fprintf(table, "%s\t-\t-\tview\t-\n", t.Name)
			continue
		}
		fmt.Fprintf(table, "%s\t%d\t%s\t%s\t%s\n", t.Name, t.Rows, sizeOf(t.Bytes), t.Engine, t.Collation)
	}
	return table.Flush()
}

// addCSV has a file's records added, and tells a terminal how far it is.
func (c *call) addCSV(ctx context.Context, service *client.Client, file, table string) error {
	var from io.Reader = os.Stdin
	if file != "-" {
		opened, err := os.Open(file)
		if err != nil {
			return err
		}
		defer opened.Close()
		info, err := opened.Stat()
		if err != nil {
			return err
		}
		read := &readSoFar{Reader: opened}
		if term.IsTerminal(int(os.Stderr.Fd())) {
			defer read.tell(info.Size())()
		}
		from = read
	}
	added, err := service.AddCSV(ctx, c.names[0], table, from)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(added)
	}
	fmt.Fprintf(c.out, "%s added to %s\n", rowsOf(added.Rows), table)
	return nil
}

// readSoFar counts what is read of a file.
type readSoFar struct {
	io.Reader
	bytes atomic.Int64
}

func (r *readSoFar) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.bytes.Add(int64(n))
	return n, err
}

// tell writes every second how much of a size is read, until it is ended.
func (r *readSoFar) tell(size int64) (end func()) {
	return everySecond(func() string { return fmt.Sprintf("%s of %s", sizeOf(r.bytes.Load()), sizeOf(size)) })
}

// everySecond writes a line again and again in its place, until it is ended.
func everySecond(line func() string) (end func()) {
	ended := make(chan struct{})
	told := sync.WaitGroup{}
	told.Go(func() {
		for {
			select {
			case <-ended:
				fmt.Fprint(os.Stderr, "\r\033[K")
				return
			case <-time.After(time.Second):
				fmt.Fprint(os.Stderr, "\r\033[K"+line())
			}
		}
	})
	return func() { close(ended); told.Wait() }
}

func (c *call) findText(ctx context.Context, service *client.Client, name, text string) error {
	found, err := service.FindText(ctx, name, text)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(found)
	}
	if len(found) == 0 {
		fmt.Fprintln(c.out, "It stands nowhere.")
		return nil
	}
	table := tabwriter.NewWriter(c.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(table, bold(c.out, "TABLE")+"\tCOLUMN\tROWS")
	for _, f := range found {
		fmt.Fprintf(table, "%s\t%s\t%d\n", f.Table, f.Column, f.Rows)
	}
	return table.Flush()
}

func (c *call) replaceText(ctx context.Context, service *client.Client, asked wire.AskReplace) error {
	replaced, err := service.Replace(ctx, c.names[0], asked)
	if err != nil {
		return err
	}
	if *c.json {
		return c.printJSON(replaced)
	}
	rows, places := int64(0), int64(0)
	for _, column := range replaced.Columns {
		rows, places = rows+column.Rows, places+column.Places
		fmt.Fprintf(c.out, "%s  %s, %s\n", bold(c.out, column.Table+"."+column.Column), rowsOf(column.Rows),
			rewrite.Many(int(column.Places), "place", "places"))
		for _, example := range column.Examples {
			fmt.Fprintf(c.out, "    %s\n  → %s\n", short(example.Before, 2*shownOf), short(example.After, 2*shownOf))
		}
	}
	for _, left := range replaced.Left {
		fmt.Fprintf(c.out, "left alone in %s: %s: %s\n", left.Table, left.Why, short(left.Excerpt, shownOf))
	}
	if more := replaced.LeftCount - len(replaced.Left); more > 0 {
		fmt.Fprintf(c.out, "%d more are left alone\n", more)
	}
	done := map[bool]string{true: "would be replaced", false: "replaced"}[asked.Preview]
	fmt.Fprintf(c.out, "%s %s, in %s\n", rewrite.Many(int(places), "place", "places"), done, rowsOf(rows))
	return nil
}
