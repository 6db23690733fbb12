package database

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/grid"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

const (
	mostReplacing = 30 * time.Minute // for one replacing, which holds what it has changed until its end
	mostHeld      = 64 << 20         // bytes of a table without transactions, whose rows are read before one is changed
	examples      = 3                // of a column are shown
)

// replacing is one text on its way into the place of another, in all tables, by two connections: one reads what was there when it began,
// the other changes.
type replacing struct {
	reader, writer *sql.Conn
	rewriter       *rewrite.Rewriter
	asked          wire.AskReplace
	done           wire.Replaced
}

// Replace puts one text in the place of another, wherever it stands in texts of the site's database; all of it or nothing, where the tables
// take back. A preview tells what it would do.
func (f *Feature) Replace(ctx context.Context, name string, asked wire.AskReplace) (wire.Replaced, error) {
	ctx, cancel := context.WithTimeout(ctx, mostReplacing)
	defer cancel()
	if asked.Text == "" || asked.Text == asked.With {
		return wire.Replaced{}, site.Problems{{Field: "text", Message: "there is nothing to replace",
			Remedy: "name a text, and another for its place"}}
	}
	_, pool, release, err := f.open(ctx, name)
	if err != nil {
		return wire.Replaced{}, err
	}
	defer release()
	r := &replacing{rewriter: rewrite.NewText(asked.Text, asked.With), asked: asked, done: wire.Replaced{Columns: []wire.ReplacedColumn{}}}
	var ended func()
	if r.reader, ended, err = begun(ctx, pool, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"); err != nil {
		return wire.Replaced{}, refused(err)
	}
	defer ended()
	if r.writer, ended, err = begun(ctx, pool, "START TRANSACTION"); err != nil {
		return wire.Replaced{}, refused(err)
	}
	defer ended()
	if err := r.tables(ctx, pool); err != nil {
		return wire.Replaced{}, err
	}
	if !asked.Preview {
		if _, err := r.writer.ExecContext(ctx, "COMMIT"); err != nil {
			return wire.Replaced{}, refused(err)
		}
	}
	tally := r.rewriter.Tally()
	r.done.Left, r.done.LeftCount = tally.Left, tally.LeftCount
	return r.done, nil
}

// begun is a connection on which a transaction has begun, to which a text that has no room is no silent loss; what is not committed when it
// ends is taken back.
func begun(ctx context.Context, pool *sql.DB, statement string) (*sql.Conn, func(), error) {
	connection, err := pool.Conn(ctx)
	if err != nil {
		return nil, nil, err
	}
	if _, err = connection.ExecContext(ctx, "SET SESSION sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')"); err == nil {
		_, err = connection.ExecContext(ctx, statement)
	}
	if err != nil {
		connection.Close()
		return nil, nil, err
	}
	return connection, func() {
		connection.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		connection.Close()
	}, nil
}

func (r *replacing) tables(ctx context.Context, pool *sql.DB) error {
	tables, err := tablesOf(ctx, pool)
	if err != nil {
		return err
	}
	for _, table := range tables {
		if table.View {
			continue
		}
		t, _, err := structureOf(ctx, pool, table.Name)
		if err != nil {
			return err
		}
		if err := r.table(ctx, t, table.Engine == "InnoDB"); err != nil {
			return err
		}
	}
	return nil
}

// change is a row whose texts are to be others.
type change struct{ key, was, set []grid.Value }

// table goes through the rows of a table in which the text may stand. One without transactions cannot be read while it is changed.
func (r *replacing) table(ctx context.Context, t grid.Table, transactions bool) error {
	columns := []grid.Column{}
	for _, c := range t.Columns {
		if c.IsText() && !c.Generated {
			columns = append(columns, c)
		}
	}
	if len(columns) == 0 {
		return nil
	}
	query, values := selectHolding(t, columns, r.asked.Text)
	rows, err := r.reader.QueryContext(ctx, query, values...)
	if err != nil {
		return refused(err)
	}
	defer rows.Close()
	waiting, held := []change{}, 0
	for rows.Next() {
		read, err := scanned(rows)
		if err != nil {
			return err
		}
		next := r.row(t, columns, texts(read))
		switch {
		case next.set == nil || r.asked.Preview:
		case transactions:
			err = r.write(ctx, t, next)
		default:
			for _, v := range next.set {
				held += len(*v.Value)
			}
			waiting = append(waiting, next)
		}
		if held > mostHeld {
			err = site.Problems{{Field: "text", Message: "it stands in too much of a table that takes nothing back",
				Remedy: "have the table be InnoDB first: ALTER TABLE " + grid.Name(t.Name) + " ENGINE=InnoDB"}}
		}
		if err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return refused(err)
	}
	rows.Close()
	for i, next := range waiting {
		if err := r.write(ctx, t, next); err != nil {
			return fmt.Errorf("%s takes nothing back, and %d of %d rows were changed: %s", t.Name, i, len(waiting), err.Error())
		}
	}
	return nil
}

// selectHolding asks for key and texts of the rows in which a text may stand, also as JSON writes it.
func selectHolding(t grid.Table, columns []grid.Column, text string) (query string, values []any) {
	names, holding := []string{}, []string{}
	for _, key := range t.Key {
		names = append(names, grid.Name(key))
	}
	for _, c := range columns {
		names = append(names, grid.Name(c.Name))
		for _, form := range rewrite.Forms(text) {
			holding = append(holding, "LOCATE(BINARY ?, BINARY CONVERT("+grid.Name(c.Name)+" USING utf8mb4)) > 0")
			values = append(values, form)
		}
	}
	return "SELECT " + strings.Join(names, ", ") + " FROM " + grid.Name(t.Name) + " WHERE " + strings.Join(holding, " OR "), values
}

// row is what is to be changed in one row: its key's values come first, then those of the columns.
func (r *replacing) row(t grid.Table, columns []grid.Column, read []*string) (next change) {
	for i, key := range t.Key {
		next.key = append(next.key, grid.Value{Column: key, Value: read[i]})
	}
	for i, c := range columns {
		old := read[len(t.Key)+i]
		if old == nil {
			continue
		}
		r.rewriter.In(t.Name + "." + c.Name)
		if len(t.Key) == 0 {
			r.rewriter.Leave("the table has no key", *old)
			continue
		}
		before := r.rewriter.Tally().Tables[t.Name+"."+c.Name]
		text := r.rewriter.Value(*old)
		if text == *old {
			continue
		}
		next.was = append(next.was, grid.Value{Column: c.Name, Value: old})
		next.set = append(next.set, grid.Value{Column: c.Name, Value: &text})
		r.note(t.Name, c.Name, r.rewriter.Tally().Tables[t.Name+"."+c.Name].Addresses-before.Addresses, *old, text)
	}
	return next
}

// note counts one value that is another then, and shows the first ones.
func (r *replacing) note(table, column string, places int, old, text string) {
	all := &r.done.Columns
	i := slices.IndexFunc(*all, func(c wire.ReplacedColumn) bool { return c.Table == table && c.Column == column })
	if i < 0 {
		i, *all = len(*all), append(*all, wire.ReplacedColumn{Table: table, Column: column, Examples: []wire.ReplacedExample{}})
	}
	c := &(*all)[i]
	c.Rows, c.Places = c.Rows+1, c.Places+int64(places)
	if len(c.Examples) < examples {
		c.Examples = append(c.Examples, wire.ReplacedExample{Before: around(old, text), After: around(text, old)})
	}
}

// around is the part of a text in which it begins to be another than the other.
func around(text, other string) string {
	const before, after = 30, 70 // bytes
	at := 0
	for at < len(text) && at < len(other) && text[at] == other[at] {
		at++
	}
	from, to := max(0, at-before), min(len(text), at+after)
	excerpt := strings.ToValidUTF8(text[from:to], "")
	if from > 0 {
		excerpt = "…" + excerpt
	}
	if to < len(text) {
		excerpt += "…"
	}
	return excerpt
}

// write changes one row, if nobody else has meanwhile.
func (r *replacing) write(ctx context.Context, t grid.Table, next change) error {
	statement, values, err := t.Update(next.key, next.was, next.set)
	if err != nil {
		return refused(err)
	}
	done, err := r.writer.ExecContext(ctx, statement, values...)
	if err != nil {
		return refused(fmt.Errorf("%s: %w", t.Name, err))
	}
	if changed, err := done.RowsAffected(); err != nil || changed == 0 {
		return site.Problems{{Field: "text", Message: "somebody changed a row meanwhile", Remedy: "replace it again"}}
	}
	return nil
}
