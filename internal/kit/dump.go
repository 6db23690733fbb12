package kit

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
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
	return out.Flush()
}

func dumpRows(ctx context.Context, connection *sql.Conn, name string, out *bufio.Writer) error {
	rows, err := connection.QueryContext(ctx, "SELECT * FROM "+engine.Identifier(name))
	if err != nil {
		return err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values := make([]sql.NullString, len(columns))
	targets := make([]any, len(columns))
	for i := range values {
		targets[i] = &values[i]
	}
	count := 0
	for ; rows.Next(); count++ {
		if err := rows.Scan(targets...); err != nil {
			return err
		}
		switch {
		case count%rowsPerInsert == 0 && count > 0:
			fmt.Fprint(out, ";\n")
			fallthrough
		case count == 0:
			fmt.Fprintf(out, "INSERT INTO %s VALUES\n(", engine.Identifier(name))
		default:
			fmt.Fprint(out, ",\n(")
		}
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
	}
	if count > 0 {
		fmt.Fprint(out, ";\n")
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
