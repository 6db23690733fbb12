package database

import (
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"vessik/internal/core/grid"
	"vessik/internal/core/site"
	"vessik/internal/core/wire"
)

// nullInCSV is how NULL stands in a CSV file, as the databases' own tools write it; RFC 4180 knows none.
const nullInCSV = `\N`

// How much one INSERT brings.
const (
	rowsTogether  = 200
	bytesTogether = 1 << 20
)

// WriteCSV writes a table as CSV (RFC 4180), as it is at one moment; its first record are the columns' names. Bytes stand in hexadecimal
// digits, as SQL writes them.
func (f *Feature) WriteCSV(ctx context.Context, name, table string, w io.Writer) error {
	return f.inTable(ctx, name, table, func(pool *sql.DB, t grid.Table) error {
		names, record := []string{}, make([]string, len(t.Columns))
		for i, c := range t.Columns {
			names, record[i] = append(names, grid.Name(c.Name)), c.Name
		}
		rows, err := pool.QueryContext(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+grid.Name(t.Name))
		if err != nil {
			return refused(err)
		}
		defer rows.Close()
		out := csv.NewWriter(w)
		if err := out.Write(record); err != nil {
			return err
		}
		for rows.Next() {
			read, err := scanned(rows)
			if err != nil {
				return err
			}
			for i, raw := range read {
				switch {
				case raw == nil:
					record[i] = nullInCSV
				case t.Columns[i].IsBinary():
					record[i] = "0x" + hex.EncodeToString(raw)
				default:
					record[i] = string(raw)
				}
			}
			if err := out.Write(record); err != nil {
				return err
			}
		}
		out.Flush()
		return errors.Join(rows.Err(), out.Error())
	})
}

// ReadCSV adds the records of a CSV file to a table, whose columns its first record names: all of them or none, where the table takes back.
func (f *Feature) ReadCSV(ctx context.Context, name, table string, from io.Reader) (added wire.Affected, err error) {
	return added, f.inTable(ctx, name, table, func(pool *sql.DB, t grid.Table) error {
		connection, ended, err := begun(ctx, pool, "START TRANSACTION")
		if err != nil {
			return refused(err)
		}
		defer ended()
		bounded := &bounded{Reader: from, left: longestRecord}
		records := csv.NewReader(bounded)
		records.ReuseRecord = true
		head, err := records.Read()
		if err != nil {
			return refusedFile(1, errors.New("it has no first line that names columns"))
		}
		b := &bringing{table: t}
		if err := b.begin(head); err != nil {
			return refusedFile(1, err)
		}
		for {
			record, err := records.Read()
			if err != nil && !errors.Is(err, io.EOF) {
				return refusedFile(b.last+1, err)
			}
			if err != nil || len(b.values)/len(b.columns) >= rowsTogether || b.bytes >= bytesTogether {
				if fault := b.insert(ctx, connection); fault != nil {
					return fault
				}
			}
			if err != nil {
				break
			}
			line, _ := records.FieldPos(0)
			if err := b.add(record, line); err != nil {
				return refusedFile(line, err)
			}
			bounded.left = longestRecord
		}
		if _, err := connection.ExecContext(ctx, "COMMIT"); err != nil {
			return refused(err)
		}
		added.Rows = b.rows
		return nil
	})
}

func refusedFile(line int, err error) error {
	return site.Problems{{Field: "add", Message: fmt.Sprintf("line %d: %v", line, err),
		Remedy: "give CSV (RFC 4180) in UTF-8 whose first line names columns of the table; \\N stands for NULL"}}
}

// longestRecord is how long one record may be, in bytes: of a file that lacks a quote, all that follows would be one.
const longestRecord = 64 << 20

// bounded gives out no more than is left.
type bounded struct {
	io.Reader
	left int
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("the record is longer than %d MB; is a quote missing?", longestRecord>>20)
	}
	n, err := b.Reader.Read(p[:min(len(p), b.left)])
	b.left -= n
	return n, err
}

// bringing is a file on its way into a table.
type bringing struct {
	table       grid.Table
	columns     []grid.Column
	values      []any // of the records that wait
	first, last int   // lines
	bytes       int
	rows        int64 // that are in the table
}

// begin judges the names of columns; a mark of the byte order before them is no part of the first.
func (b *bringing) begin(head []string) error {
	for i, name := range head {
		if i == 0 {
			name = strings.TrimPrefix(name, "\ufeff")
		}
		c, known := b.table.Column(name)
		switch {
		case !known:
			return fmt.Errorf("%s has no column %q", b.table.Name, name)
		case c.Generated:
			return fmt.Errorf("%s makes %s by itself; leave it out", b.table.Name, name)
		}
		b.columns = append(b.columns, c)
	}
	return nil
}

func (b *bringing) add(record []string, line int) error {
	for i, text := range record {
		b.bytes += len(text)
		switch digits, isHex := strings.CutPrefix(text, "0x"); {
		case text == nullInCSV:
			b.values = append(b.values, nil)
		case b.columns[i].IsBinary() && isHex:
			raw, err := hex.DecodeString(digits)
			if err != nil {
				return fmt.Errorf("%s is to be bytes in hexadecimal digits: %w", b.columns[i].Name, err)
			}
			b.values = append(b.values, raw)
		default:
			b.values = append(b.values, strings.Clone(text))
		}
	}
	if b.last = line; b.first == 0 {
		b.first = line
	}
	return nil
}

// insert brings what waits.
func (b *bringing) insert(ctx context.Context, connection *sql.Conn) error {
	rows := len(b.values) / len(b.columns)
	if rows == 0 {
		return nil
	}
	names := []string{}
	for _, c := range b.columns {
		names = append(names, grid.Name(c.Name))
	}
	one := "(" + strings.TrimSuffix(strings.Repeat("?,", len(names)), ",") + ")"
	statement := "INSERT INTO " + grid.Name(b.table.Name) + " (" + strings.Join(names, ", ") + ") VALUES " +
		strings.TrimSuffix(strings.Repeat(one+",", rows), ",")
	if _, err := connection.ExecContext(ctx, statement, b.values...); err != nil {
		return refusedFile(b.first, fmt.Errorf("up to line %d: %w", b.last, err))
	}
	b.rows, b.values, b.first, b.bytes = b.rows+int64(rows), b.values[:0], 0, 0
	return nil
}
