package database

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"time"

	"vessik/internal/core/grid"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// usualRows is how many rows a page has, longestPage for how long one may be looked for.
const (
	usualRows   = 100
	longestPage = time.Minute
)

// Rows is one page of a table.
func (f *Feature) Rows(ctx context.Context, name, table string, asked wire.AskRows) (wire.TableRows, error) {
	ctx, cancel := context.WithTimeout(ctx, longestPage)
	defer cancel()
	page := wire.TableRows{Rows: [][]wire.DatabaseValue{}}
	_, pool, release, err := f.open(ctx, name)
	if err != nil {
		return page, err
	}
	defer release()
	began := time.Now()
	t, _, err := structureOf(ctx, pool, table)
	if err != nil {
		return page, err
	}
	ask := grid.Ask{Sort: asked.Sort, Descending: asked.Descending, Filters: asked.Filters, Limit: asked.Limit}
	if ask.Limit == 0 {
		ask.Limit = usualRows
	}
	if ask.From, err = grid.CursorOf(asked.From); err != nil {
		return page, site.Problems{{Field: "from", Message: err.Error(), Remedy: "begin at the first page"}}
	}
	if asked.At > 0 {
		if ask.From, err = jump(ctx, pool, t, ask, asked.At); err != nil {
			return page, refused(err)
		}
	}
	query, values, err := t.Select(ask)
	if err != nil {
		return page, refused(err)
	}
	rows, err := pool.QueryContext(ctx, query, values...)
	if err != nil {
		return page, refused(err)
	}
	defer rows.Close()
	var last []*string
	for rows.Next() {
		if len(page.Rows) == ask.Limit {
			page.Next = t.Next(ask, last, len(page.Rows)).Text()
			break
		}
		read, err := scanned(rows)
		if err != nil {
			return page, err
		}
		page.Rows, last = append(page.Rows, shown(t, read)), texts(read)
	}
	page.Milliseconds = time.Since(began).Milliseconds()
	return page, rows.Err()
}

// scanned is one row, as bytes; nil for NULL.
func scanned(rows *sql.Rows) ([]sql.RawBytes, error) {
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	read, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
	for i := range read {
		into[i] = &read[i]
	}
	return read, rows.Scan(into...)
}

func texts(read []sql.RawBytes) []*string {
	all := make([]*string, len(read))
	for i, raw := range read {
		if raw != nil {
			text := string(raw)
			all[i] = &text
		}
	}
	return all
}

// shown are the values of a page's row: of what Select reads.
func shown(t grid.Table, read []sql.RawBytes) []wire.DatabaseValue {
	values := make([]wire.DatabaseValue, 0, len(t.Columns))
	for _, c := range t.Columns {
		v := valueOf(c, read[0])
		if read = read[1:]; c.IsLong() {
			if length, err := strconv.ParseInt(string(read[0]), 10, 64); err == nil && length > grid.Shown {
				v.Length = length
			}
			read = read[1:]
		}
		values = append(values, v)
	}
	return values
}

func valueOf(c grid.Column, raw sql.RawBytes) wire.DatabaseValue {
	switch {
	case raw == nil:
		return wire.DatabaseValue{Null: true}
	case c.IsBinary():
		return wire.DatabaseValue{Text: base64.StdEncoding.EncodeToString(raw)}
	}
	return wire.DatabaseValue{Text: string(raw)}
}

// jump is the cursor at a part of the way through a table: by its key where that is a number, else by counting.
func jump(ctx context.Context, pool *sql.DB, t grid.Table, ask grid.Ask, at float64) (grid.Cursor, error) {
	if t.Jumps() && len(ask.Filters) == 0 && (ask.Sort == "" || ask.Sort == t.Key[0]) {
		var first, last sql.NullFloat64
		key := grid.Name(t.Key[0])
		query := fmt.Sprintf("SELECT MIN(%[1]s), MAX(%[1]s) FROM %[2]s", key, grid.Name(t.Name))
		if err := pool.QueryRowContext(ctx, query).Scan(&first, &last); err != nil || !first.Valid {
			return grid.Cursor{}, err
		}
		step := -1.0 // the row there comes itself
		if ask.Descending {
			first, last, step = last, first, 1
		}
		before := strconv.FormatFloat(first.Float64+at*(last.Float64-first.Float64)+step, 'f', 0, 64)
		return grid.Cursor{After: []*string{&before}}, nil
	}
	var rows int64
	err := pool.QueryRowContext(ctx, "SELECT COALESCE(TABLE_ROWS, 0) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND "+
		"TABLE_NAME = ?", t.Name).Scan(&rows)
	return grid.Cursor{Rows: int64(at * float64(max(0, rows-int64(ask.Limit))))}, err
}

// Row is one row, whole.
func (f *Feature) Row(ctx context.Context, name, table string, key []grid.Value) ([]wire.DatabaseValue, error) {
	var values []wire.DatabaseValue
	err := f.inTable(ctx, name, table, func(pool *sql.DB, t grid.Table) error {
		query, given, err := t.Read(key)
		if err != nil {
			return refused(err)
		}
		rows, err := pool.QueryContext(ctx, query, given...)
		if err != nil {
			return refused(err)
		}
		defer rows.Close()
		if !rows.Next() {
			return errors.Join(rows.Err(), errGone)
		}
		read, err := scanned(rows)
		for i, raw := range read {
			values = append(values, valueOf(t.Columns[i], raw))
		}
		return err
	})
	return values, err
}

// errGone is of a row that is not what somebody saw.
var errGone error = &gone{site.Problems{{Field: "key", Message: "the row is not there, or not as it was: somebody has changed it",
	Remedy: "load it again"}}}

type gone struct{ site.Problems }

func (g *gone) Unwrap() error { return g.Problems }

// inTable does something with a table of a site's.
func (f *Feature) inTable(ctx context.Context, name, table string, do func(pool *sql.DB, t grid.Table) error) error {
	_, pool, release, err := f.open(ctx, name)
	if err != nil {
		return err
	}
	defer release()
	t, _, err := structureOf(ctx, pool, table)
	if err != nil {
		return err
	}
	return do(pool, t)
}

// change carries out a statement of grid's, which is to change so many rows.
func (f *Feature) change(ctx context.Context, name, table string, statement func(t grid.Table) (string, []any, error)) error {
	return f.inTable(ctx, name, table, func(pool *sql.DB, t grid.Table) error {
		query, values, err := statement(t)
		if err != nil {
			return refused(err)
		}
		done, err := pool.ExecContext(ctx, query, values...)
		if err != nil {
			return refused(err)
		}
		if changed, err := done.RowsAffected(); err != nil || changed == 0 {
			return errors.Join(err, errGone)
		}
		return nil
	})
}

// ChangeRow changes one row, if it is what it is expected to be.
func (f *Feature) ChangeRow(ctx context.Context, name, table string, asked wire.ChangeRow) error {
	err := f.change(ctx, name, table, func(t grid.Table) (string, []any, error) { return t.Update(asked.Key, asked.Was, asked.Set) })
	if !errors.Is(err, errGone) {
		return err
	}
	return f.inTable(ctx, name, table, func(pool *sql.DB, t grid.Table) error { // or it is so already
		query, values, err := t.Is(asked.Key, asked.Was, asked.Set)
		if err != nil {
			return refused(err)
		}
		there := false
		if err := pool.QueryRowContext(ctx, query, values...).Scan(&there); err != nil || there {
			return err
		}
		return errGone
	})
}

// AddRow adds a row.
func (f *Feature) AddRow(ctx context.Context, name, table string, asked wire.NewRow) error {
	return f.change(ctx, name, table, func(t grid.Table) (string, []any, error) { return t.Insert(asked.Set) })
}

// DropRow removes one row.
func (f *Feature) DropRow(ctx context.Context, name, table string, key []grid.Value) error {
	return f.change(ctx, name, table, func(t grid.Table) (string, []any, error) { return t.Delete(key) })
}
