package kit

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"vessik/internal/core/rewrite"
	"vessik/internal/engine"
)

// rowsPerInsert bounds the length of one statement of a dump.
const rowsPerInsert = 200

// Dump writes a database's tables as SQL that Load, or any MariaDB or MySQL client, can read. It reads one snapshot.
func Dump(ctx context.Context, pool *sql.DB, w io.Writer) error {
	connection, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer connection.Close()
	if _, err := connection.ExecContext(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ; START TRANSACTION WITH CONSISTENT SNAPSHOT"); err != nil {
		return err
	}
	defer connection.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	names, err := column(ctx, connection, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_TYPE='BASE TABLE' ORDER BY 1")
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	fmt.Fprintln(out, "SET NAMES utf8mb4;\nSET FOREIGN_KEY_CHECKS=0;\nSET SQL_MODE='NO_AUTO_VALUE_ON_ZERO';")
	for _, name := range names {
		var table, create string
		if err := connection.QueryRowContext(ctx, "SHOW CREATE TABLE "+engine.Identifier(name)).Scan(&table, &create); err != nil {
			return err
		}
		fmt.Fprintf(out, "%s;\n", create)
		if err := dumpRows(ctx, connection, name, out); err != nil {
			return fmt.Errorf("dump %s: %w", name, err)
		}
	}
	if err := dumpPrograms(ctx, connection, out); err != nil {
		return err
	}
	return out.Flush()
}

// programDelimiter ends statements that have semicolons inside, as the clients of MariaDB understand it.
const programDelimiter = "//END//"

var definer = regexp.MustCompile("DEFINER=`[^`]*`@`[^`]*` ")

// dumpPrograms writes views, triggers, procedures and functions. They are made again by whoever loads them.
func dumpPrograms(ctx context.Context, connection *sql.Conn, out *bufio.Writer) error {
	for _, kind := range []struct{ list, show string }{
		{"SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='FUNCTION' ORDER BY 1", "FUNCTION"},
		{"SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='PROCEDURE' ORDER BY 1", "PROCEDURE"},
		{"SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA=DATABASE() ORDER BY 1", "VIEW"},
		{"SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY ACTION_ORDER, 1", "TRIGGER"},
	} {
		names, err := column(ctx, connection, kind.list)
		if err != nil {
			return err
		}
		for _, name := range names {
			text, err := showCreate(ctx, connection, "SHOW CREATE "+kind.show+" "+engine.Identifier(name))
			if err != nil {
				return fmt.Errorf("dump %s: %w", name, err)
			}
			fmt.Fprintf(out, "DELIMITER %s\n%s\n%s\nDELIMITER ;\n", programDelimiter, definer.ReplaceAllString(text, ""), programDelimiter)
		}
	}
	return nil
}

// showCreate returns the column of a SHOW CREATE that holds the statement.
func showCreate(ctx context.Context, connection *sql.Conn, query string) (string, error) {
	rows, err := connection.QueryContext(ctx, query)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return "", err
	}
	values, targets := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range values {
		targets[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(targets...); err != nil {
			return "", err
		}
	}
	for i, name := range columns {
		if strings.HasPrefix(name, "Create ") || strings.HasSuffix(name, "Original Statement") {
			return values[i].String, rows.Err()
		}
	}
	return "", fmt.Errorf("%s tells no statement", query)
}

// Load carries out a dump, a statement at a time. rename changes each statement first; nil leaves them as they are, and an empty one
// is left out.
func Load(ctx context.Context, pool *sql.DB, dump io.Reader, rename func(string) (string, error)) error {
	connection, err := pool.Conn(ctx) // the dump sets variables of its connection
	if err != nil {
		return err
	}
	defer connection.Close()
	for scanner := rewrite.NewScanner(dump); ; {
		text, err := scanner.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		statement := string(text)
		if rename != nil {
			if statement, err = rename(statement); err != nil {
				return err
			}
		}
		if statement == "" {
			continue
		}
		if _, err := connection.ExecContext(ctx, statement); err != nil {
			return fmt.Errorf("%w (in: %s)", err, strings.ToValidUTF8(statement[:min(len(statement), 80)], ""))
		}
	}
}

var collation = regexp.MustCompile("(?:COLLATE[ =]|COLLATION[ =])`?([a-z0-9_]+)`?")

// Fitting returns a change for Load that puts a collation which the server does not know in place of each one that it lacks: an older
// server knows fewer. told is called once for each.
func Fitting(ctx context.Context, server *engine.DatabaseServer, told func(from, to string)) func(string) (string, error) {
	const fallback = "utf8mb4_unicode_520_ci"
	known := map[string]bool{fallback: true}
	return func(statement string) (string, error) {
		if !strings.HasPrefix(statement, "CREATE ") {
			return statement, nil
		}
		for _, match := range collation.FindAllStringSubmatch(statement, -1) {
			name := match[1]
			if fits, asked := known[name]; asked && fits {
				continue
			} else if !asked {
				missing, err := server.Missing(ctx, []string{name})
				if err != nil {
					return "", err
				}
				if known[name] = len(missing) == 0; known[name] {
					continue
				}
				told(name, fallback)
			}
			statement = strings.ReplaceAll(statement, name, fallback)
		}
		return statement, nil
	}
}

// TableSum is what two copies of a table must agree on.
type TableSum struct {
	Rows int64
	Sum  uint64 // of the rows' hashes, so that their order does not count
}

// Sums reads every table of a database.
func Sums(ctx context.Context, pool *sql.DB) (map[string]TableSum, error) {
	connection, err := pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer connection.Close()
	names, err := column(ctx, connection, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_TYPE='BASE TABLE' ORDER BY 1")
	if err != nil {
		return nil, err
	}
	sums := map[string]TableSum{}
	for _, name := range names {
		var sum TableSum
		err := eachRow(ctx, connection, name, func(values []sql.NullString) {
			hash := fnv.New64a()
			for _, value := range values {
				fmt.Fprintf(hash, "%t %d ", value.Valid, len(value.String))
				io.WriteString(hash, value.String)
			}
			sum.Rows++
			sum.Sum += hash.Sum64()
		})
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		sums[name] = sum
	}
	return sums, nil
}

// Compare says how two databases differ, table by table; empty when they do not.
func Compare(before, after map[string]TableSum) []string {
	differences := []string{}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		a, b := before[name], after[name]
		if _, ok := after[name]; !ok {
			differences = append(differences, name+" is missing")
		} else if a.Rows != b.Rows {
			differences = append(differences, fmt.Sprintf("%s has %d rows of %d", name, b.Rows, a.Rows))
		} else if a.Sum != b.Sum {
			differences = append(differences, name+" differs in content")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if _, ok := before[name]; !ok {
			differences = append(differences, name+" is new")
		}
	}
	return differences
}

func dumpRows(ctx context.Context, connection *sql.Conn, name string, out *bufio.Writer) error {
	count := 0
	err := eachRow(ctx, connection, name, func(values []sql.NullString) {
		switch {
		case count%rowsPerInsert == 0 && count > 0:
			fmt.Fprint(out, ";\n")
			fallthrough
		case count == 0:
			fmt.Fprintf(out, "INSERT INTO %s VALUES\n(", engine.Identifier(name))
		default:
			fmt.Fprint(out, ",\n(")
		}
		count++
		for i, value := range values {
			if i > 0 {
				out.WriteByte(',')
			}
			switch {
			case !value.Valid:
				out.WriteString("NULL")
			case !utf8.ValidString(value.String):
				fmt.Fprintf(out, "X'%x'", value.String)
			default:
				out.WriteString(rewrite.Quote(value.String))
			}
		}
		out.WriteByte(')')
	})
	if count > 0 {
		fmt.Fprint(out, ";\n")
	}
	return err
}

// eachRow reads a table as text.
func eachRow(ctx context.Context, connection *sql.Conn, name string, row func([]sql.NullString)) error {
	rows, err := connection.QueryContext(ctx, "SELECT * FROM "+engine.Identifier(name))
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values, targets := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range values {
		targets[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(targets...); err != nil {
			return err
		}
		row(values)
	}
	return rows.Err()
}

func column(ctx context.Context, connection *sql.Conn, query string) ([]string, error) {
	rows, err := connection.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := []string{}
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		found = append(found, text)
	}
	return found, rows.Err()
}
