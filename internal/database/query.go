package database

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"vessik/internal/core/grid"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// Query asks a site's database one or more statements, and tells what comes as it comes. It ends with ctx, and so does what the server
// does for it. What is wrong with a statement is told as a line, and ends the query.
func (f *Feature) Query(ctx context.Context, name string, asked wire.AskQuery, told func(wire.QueryLine) error) error {
	_, pool, release, err := f.open(ctx, name)
	if err != nil {
		return err
	}
	defer release()
	connection, err := pool.Conn(ctx)
	if err != nil {
		return refused(err)
	}
	defer connection.Close()
	var thread int64
	if err := connection.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&thread); err != nil {
		return refused(err)
	}
	ended := make(chan struct{})
	stop := func() { // where the driver only leaves, or reads over all that comes, the server would go on
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		pool.ExecContext(within, fmt.Sprintf("KILL QUERY %d", thread))
	}
	forget := context.AfterFunc(ctx, func() { stop(); close(ended) })
	defer func() {
		if !forget() {
			<-ended // the pool is closed next
		}
	}()
	q := query{connection: connection, limit: asked.Limit, told: told, stop: stop}
	if asked.Preview {
		if err := begin(ctx, connection); err != nil {
			return err
		}
		defer connection.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	}
	statements := rewrite.NewScanner(strings.NewReader(asked.SQL))
	for {
		statement, err := statements.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil && asked.Preview && !takesBack(string(statement)) {
			err = errors.New("only INSERT, UPDATE, DELETE, REPLACE and SELECT can be tried out without effect")
		}
		if err == nil {
			err = q.ask(ctx, string(statement))
		}
		if err != nil {
			return errors.Join(told(wire.QueryLine{Error: err.Error()}), ctx.Err())
		}
	}
}

// begin begins what is taken back, where that can be: all tables must be of an engine with transactions.
func begin(ctx context.Context, connection *sql.Conn) error {
	var without int
	err := connection.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND "+
		"TABLE_TYPE <> 'VIEW' AND ENGINE <> 'InnoDB'").Scan(&without)
	if err != nil {
		return refused(err)
	}
	if without > 0 {
		return site.Problems{{Field: "preview", Message: fmt.Sprintf("%d tables of the database take nothing back", without),
			Remedy: "ask without a preview, and take a restore point first"}}
	}
	_, err = connection.ExecContext(ctx, "START TRANSACTION")
	return err
}

// takesBack tells whether a statement is one whose effect a transaction takes back.
func takesBack(statement string) bool {
	parts, err := rewrite.Statements(statement) // another delimiter may have had several taken for one
	return err == nil && len(parts) == 1 && slices.Contains([]string{"insert", "update", "delete", "replace", "select"}, verb(statement))
}

// verb is a statement's first word in lower case.
func verb(statement string) string {
	for {
		statement = strings.TrimLeft(statement, " \t\r\n(")
		switch {
		case strings.HasPrefix(statement, "--"), strings.HasPrefix(statement, "#"):
			_, statement, _ = strings.Cut(statement, "\n")
		case strings.HasPrefix(statement, "/*") && !strings.HasPrefix(statement, "/*!") && !strings.HasPrefix(statement, "/*M!"):
			_, statement, _ = strings.Cut(statement[2:], "*/")
		default:
			end := strings.IndexFunc(statement, func(r rune) bool { return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') })
			if end < 0 {
				end = len(statement)
			}
			return strings.ToLower(statement[:end])
		}
	}
}

// query is one connection on which statements are asked.
type query struct {
	connection *sql.Conn
	limit      int64
	told       func(wire.QueryLine) error
	stop       func()
}

// ask asks one statement.
func (q query) ask(ctx context.Context, statement string) error {
	began := time.Now()
	rows, err := q.connection.QueryContext(ctx, statement)
	if err != nil {
		return err
	}
	defer rows.Close()
	kinds, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	end := wire.QueryEnd{}
	if len(kinds) > 0 {
		err = q.read(rows, kinds, &end)
	}
	if err = errors.Join(err, rows.Close()); err != nil && !end.Cut {
		return err
	}
	if len(kinds) == 0 {
		if err := q.connection.QueryRowContext(ctx, "SELECT ROW_COUNT()").Scan(&end.Affected); err != nil {
			return err
		}
		end.Affected = max(0, end.Affected)
	}
	end.Milliseconds = time.Since(began).Milliseconds()
	return q.told(wire.QueryLine{End: &end})
}

// read tells a result.
func (q query) read(rows *sql.Rows, kinds []*sql.ColumnType, end *wire.QueryEnd) error {
	columns := []wire.QueryColumn{}
	for _, kind := range kinds {
		binary := grid.Column{Type: strings.ToLower(kind.DatabaseTypeName())}.IsBinary()
		columns = append(columns, wire.QueryColumn{Name: kind.Name(), Type: kind.DatabaseTypeName(), Binary: binary})
	}
	if err := q.told(wire.QueryLine{Columns: columns}); err != nil {
		return err
	}
	for rows.Next() {
		if q.limit > 0 && end.Rows == q.limit {
			end.Cut = true
			q.stop()
			return nil
		}
		read, err := scanned(rows)
		if err != nil {
			return err
		}
		row := texts(read)
		for i := range row {
			if columns[i].Binary && row[i] != nil {
				*row[i] = base64.StdEncoding.EncodeToString(read[i])
			}
		}
		if err := q.told(wire.QueryLine{Row: row}); err != nil {
			return err
		}
		end.Rows++
	}
	return rows.Err()
}

// mostFound is for how long a text is looked for.
const mostFound = 5 * time.Minute

// Find tells in which columns of which tables a text stands, and in how many rows of each.
func (f *Feature) Find(ctx context.Context, name, text string) ([]wire.FoundText, error) {
	ctx, cancel := context.WithTimeout(ctx, mostFound)
	defer cancel()
	found := []wire.FoundText{}
	if text == "" {
		return nil, site.Problems{{Field: "text", Message: "there is no text", Remedy: "name what is to be found"}}
	}
	_, pool, release, err := f.open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer release()
	tables, err := tablesOf(ctx, pool)
	if err != nil {
		return nil, err
	}
	for _, table := range tables {
		if table.View {
			continue
		}
		t, _, err := structureOf(ctx, pool, table.Name)
		if err != nil {
			return nil, err
		}
		some, err := findIn(ctx, pool, t, text)
		if err != nil {
			return nil, refused(err)
		}
		found = append(found, some...)
	}
	return found, nil
}

// findIn looks through all texts of a table at once.
func findIn(ctx context.Context, pool *sql.DB, t grid.Table, text string) (found []wire.FoundText, err error) {
	pattern := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
	counts, columns, values := []string{}, []string{}, []any{}
	for _, c := range t.Columns {
		if c.IsText() || c.Type == "enum" || c.Type == "set" {
			counts = append(counts, "COALESCE(SUM("+grid.Name(c.Name)+" LIKE ?), 0)")
			columns, values = append(columns, c.Name), append(values, pattern)
		}
	}
	if len(columns) == 0 {
		return nil, nil
	}
	counted, into := make([]int64, len(columns)), make([]any, len(columns))
	for i := range counted {
		into[i] = &counted[i]
	}
	query := "SELECT " + strings.Join(counts, ", ") + " FROM " + grid.Name(t.Name)
	if err := pool.QueryRowContext(ctx, query, values...).Scan(into...); err != nil {
		return nil, err
	}
	for i, count := range counted {
		if count > 0 {
			found = append(found, wire.FoundText{Table: t.Name, Column: columns[i], Rows: count})
		}
	}
	return found, nil
}
