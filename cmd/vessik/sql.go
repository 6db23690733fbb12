package main

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"golang.org/x/term"

	"vessik/client"
)

var sqlCommand = command{name: "sql", names: "NAME", about: "ask a site's database, as the site's own user",
	synopsis: "Asks a site's database the statements of -e, or those that are written to standard input, with the privileges of the site's " +
		"own user. A site that is\nstopped has its database server started for the time. -preview tells how many rows INSERT, UPDATE, DELETE " +
		"and REPLACE would change, and changes none.",
	example: "vessik sql orchard-days -e 'SELECT option_name, option_value FROM wp_options LIMIT 5'\n" +
		"vessik sql orchard-days -csv < report.sql > report.csv\nvessik sql orchard-days -e 'DELETE FROM wp_comments' -preview", run: runSQL}

func runSQL(ctx context.Context, c *call) error {
	asked := client.AskQuery{}
	c.flags.StringVar(&asked.SQL, "e", "", "statements; else they are read from standard input")
	asCSV := c.flags.Bool("csv", false, "print CSV (RFC 4180)")
	c.flags.Int64Var(&asked.Limit, "limit", 0, "rows of each result; all where it is 0")
	c.flags.BoolVar(&asked.Preview, "preview", false, "change nothing, and tell what would be changed")
	service, err := c.connect(func() error {
		switch {
		case *asCSV && *c.json:
			return usageError{"-csv and -json are two forms; choose one"}
		case asked.Limit < 0:
			return usageError{"-limit counts rows"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	print := &results{c: c, csv: *asCSV, preview: asked.Preview}
	if asked.SQL == "" && term.IsTerminal(int(os.Stdin.Fd())) {
		return print.converse(ctx, service, c.names[0], asked)
	}
	if asked.SQL == "" {
		text, err := io.ReadAll(os.Stdin)
		if err != nil {
			return err
		}
		asked.SQL = string(text)
	}
	if err := service.Query(ctx, c.names[0], asked, print.line); err != nil {
		return err
	}
	return print.end()
}

// results prints what a database answers.
type results struct {
	c            *call
	csv, preview bool
	columns      []client.QueryColumn
	table        *tabwriter.Writer
	rows         *csv.Writer
	all          []map[string]any // for JSON: the rows of the last result
	affected     *int64
}

// line prints one line of an answer.
func (r *results) line(line client.QueryLine) error {
	switch {
	case line.Columns != nil:
		r.columns = line.Columns
		return r.head()
	case line.Row != nil:
		return r.row(line.Row)
	case line.End != nil && r.columns == nil && *r.c.json:
		r.affected = &line.End.Affected
	case line.End != nil && r.columns == nil && !r.csv:
		fmt.Fprintf(r.c.out, "%s %s\n", rowsOf(line.End.Affected), map[bool]string{true: "would be changed", false: "changed"}[r.preview])
	case line.End != nil && r.table != nil:
		if err := r.table.Flush(); err != nil {
			return err
		}
		more := map[bool]string{true: ", and more"}[line.End.Cut]
		fmt.Fprintf(r.c.out, "%s%s in %d ms\n", rowsOf(line.End.Rows), more, line.End.Milliseconds)
	}
	if line.End != nil {
		if r.rows != nil {
			r.rows.Flush()
		}
		r.columns, r.table = nil, nil
	}
	return nil
}

func rowsOf(count int64) string {
	if count == 1 {
		return "1 row"
	}
	return fmt.Sprint(count, " rows")
}

func (r *results) head() error {
	names := []string{}
	for _, column := range r.columns {
		names = append(names, column.Name)
	}
	switch {
	case *r.c.json:
		r.all = []map[string]any{}
	case r.csv:
		r.rows = csv.NewWriter(r.c.out)
		return r.rows.Write(names)
	default:
		r.table = tabwriter.NewWriter(r.c.out, 0, 0, 2, ' ', 0)
		names[0] = bold(r.c.out, names[0])
		fmt.Fprintln(r.table, strings.Join(names, "\t"))
	}
	return nil
}

// shownOf is how much of a value a table shows.
const shownOf = 60

func (r *results) row(values []*string) error {
	switch {
	case *r.c.json:
		row := map[string]any{}
		for i, value := range values {
			row[r.columns[i].Name] = jsonValue(r.columns[i], value)
		}
		r.all = append(r.all, row)
		return nil
	case r.csv:
		cells := []string{}
		for i, value := range values {
			cells = append(cells, plainValue(r.columns[i], value, ""))
		}
		return r.rows.Write(cells)
	}
	cells := []string{}
	for i, value := range values {
		cells = append(cells, short(plainValue(r.columns[i], value, "NULL"), shownOf))
	}
	fmt.Fprintln(r.table, strings.Join(cells, "\t"))
	return nil
}

// plainValue is a value as it stands in the database; binary ones are in hexadecimal digits, as SQL writes them.
func plainValue(column client.QueryColumn, value *string, null string) string {
	switch {
	case value == nil:
		return null
	case column.Binary:
		raw, err := base64.StdEncoding.DecodeString(*value)
		if err == nil {
			return fmt.Sprintf("0x%X", raw)
		}
	}
	return *value
}

// numbers are types whose values JSON writes as numbers.
var numbers = []string{"TINYINT", "SMALLINT", "MEDIUMINT", "INT", "BIGINT", "FLOAT", "DOUBLE", "DECIMAL", "YEAR"}

func jsonValue(column client.QueryColumn, value *string) any {
	switch {
	case value == nil:
		return nil
	case slices.Contains(numbers, strings.TrimPrefix(column.Type, "UNSIGNED ")) && json.Valid([]byte(*value)):
		return json.Number(*value)
	}
	return *value
}

// end prints the rows of the last result as JSON, or how many rows were changed.
func (r *results) end() error {
	switch {
	case !*r.c.json:
		return nil
	case r.all == nil && r.affected != nil:
		return r.c.printJSON(map[string]int64{"affected": *r.affected})
	}
	return r.c.printJSON(r.all)
}

// converse asks what is typed, up to a line that ends in a semicolon; what is wrong with it is told, and the next is waited for.
func (r *results) converse(ctx context.Context, service *client.Client, name string, asked client.AskQuery) error {
	typed := bufio.NewReader(os.Stdin)
	fmt.Fprintln(os.Stderr, "Statements end with a semicolon; Ctrl-D ends.")
	for statement := ""; ; {
		fmt.Fprint(os.Stderr, map[bool]string{true: name + "> ", false: "... "}[statement == ""])
		text, err := typed.ReadString('\n')
		statement += text
		if err == nil && !strings.HasSuffix(strings.TrimSpace(statement), ";") {
			if strings.TrimSpace(statement) == "" {
				statement = ""
			}
			continue
		}
		if asked.SQL = statement; strings.TrimSpace(statement) != "" {
			r.all, r.columns, r.table = nil, nil, nil
			if fault := service.Query(ctx, name, asked, r.line); fault != nil {
				fmt.Fprintln(os.Stderr, fault)
			} else if fault := r.end(); fault != nil {
				return fault
			}
		}
		if statement = ""; errors.Is(err, io.EOF) {
			fmt.Fprintln(os.Stderr)
			return nil
		} else if err != nil {
			return err
		}
	}
}
