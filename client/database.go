package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"

	"vessik/internal/core/grid"
	"vessik/internal/core/wire"
)

// What a site's database is and has.
type (
	DatabasePage   = wire.DatabasePage
	TableStructure = wire.TableStructure
	AskRows        = wire.AskRows
	TableRows      = wire.TableRows
	AskQuery       = wire.AskQuery
	QueryLine      = wire.QueryLine
	QueryColumn    = wire.QueryColumn
	RowValue       = grid.Value
	Filter         = grid.Filter
)

// Database is a site's database and its tables, and how other programs open it.
func (c *Client) Database(ctx context.Context, site string) (d DatabasePage, err error) {
	return d, c.call(ctx, "GET", sitePath(site, "/database?secrets=true"), nil, &d)
}

// Table is how a table of a site's database is made up.
func (c *Client) Table(ctx context.Context, site, table string) (t TableStructure, err error) {
	return t, c.call(ctx, "GET", sitePath(site, "/database/tables/"+url.PathEscape(table)), nil, &t)
}

// Rows is a page of a table.
func (c *Client) Rows(ctx context.Context, site, table string, asked AskRows) (r TableRows, err error) {
	return r, c.call(ctx, "POST", sitePath(site, "/database/tables/"+url.PathEscape(table)+"/rows/page"), asked, &r)
}

// ChangeRow changes one row, if it is what it is expected to be.
func (c *Client) ChangeRow(ctx context.Context, site, table string, asked wire.ChangeRow) error {
	return c.call(ctx, "PATCH", sitePath(site, "/database/tables/"+url.PathEscape(table)+"/rows"), asked, nil)
}

// AddRow adds a row to a table.
func (c *Client) AddRow(ctx context.Context, site, table string, set []RowValue) error {
	return c.call(ctx, "POST", sitePath(site, "/database/tables/"+url.PathEscape(table)+"/rows"), wire.NewRow{Set: set}, nil)
}

// DropRow removes one row.
func (c *Client) DropRow(ctx context.Context, site, table string, key []RowValue) error {
	return c.call(ctx, "POST", sitePath(site, "/database/tables/"+url.PathEscape(table)+"/rows/drop"), wire.TableRow{Key: key}, nil)
}

// FindText tells in which columns of a site's database a text stands.
func (c *Client) FindText(ctx context.Context, site, text string) (f []wire.FoundText, err error) {
	return f, c.call(ctx, "GET", sitePath(site, "/database/find?"+url.Values{"text": {text}}.Encode()), nil, &f)
}

// Replace puts one text in the place of another, everywhere in a site's database, or tells what it would change.
func (c *Client) Replace(ctx context.Context, site string, asked wire.AskReplace) (r wire.Replaced, err error) {
	return r, c.call(ctx, "POST", sitePath(site, "/database/replace"), asked, &r)
}

// TableCSV writes a table of a site's database as CSV.
func (c *Client) TableCSV(ctx context.Context, site, table string, to io.Writer) error {
	response, err := c.send(ctx, "GET", sitePath(site, "/database/tables/"+url.PathEscape(table)+"/csv"), nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err = io.Copy(to, response.Body); err != nil {
		return fmt.Errorf("the table broke off, and is not whole: %w", err)
	}
	return nil
}

// AddCSV adds the records of a CSV file to a table, and returns how many.
func (c *Client) AddCSV(ctx context.Context, site, table string, from io.Reader) (added wire.Affected, err error) {
	response, err := c.send(ctx, "POST", sitePath(site, "/database/tables/"+url.PathEscape(table)+"/csv"), from)
	if err != nil {
		return added, err
	}
	defer response.Body.Close()
	return added, json.NewDecoder(response.Body).Decode(&added)
}

// Query asks a site's database, and tells what comes as it comes; what is wrong with a statement is the error.
func (c *Client) Query(ctx context.Context, site string, asked AskQuery, told func(QueryLine) error) error {
	response, err := c.send(ctx, "POST", sitePath(site, "/database/query"), asked)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	return lines(response.Body, func(line QueryLine) error {
		if line.Error != "" {
			return errors.New(line.Error)
		}
		return told(line)
	})
}

// lines tells the lines of JSON of an answer as they come.
func lines[T any](from io.Reader, told func(T) error) error {
	for decoder := json.NewDecoder(from); ; {
		var line T
		if err := decoder.Decode(&line); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return fmt.Errorf("the answer broke off: %w", err)
		}
		if err := told(line); err != nil {
			return err
		}
	}
}
