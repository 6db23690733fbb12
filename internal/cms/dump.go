package cms

import (
	"bufio"
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
	"unsafe"

	"vessik/internal/core/dump"
	"vessik/internal/core/rewrite"
	"vessik/internal/engine"
)

// rowsPerInsert and bytesPerInsert bound the length of one statement of a dump: servers take 16 MB where nobody has said otherwise.
const (
	rowsPerInsert  = 200
	bytesPerInsert = 1 << 20
)

// ErrNoTable says that a table is not there.
var ErrNoTable = errors.New("there is no table of that name")

// Dump writes a database's tables as SQL that Load, or any MariaDB or MySQL client, can read: all of it, or some tables only, for which it
// is ErrNoTable that one is not there. It reads one snapshot.
func Dump(ctx context.Context, pool *sql.DB, w io.Writer, only ...string) error {
	connection, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer connection.Close()
	if _, err := connection.ExecContext(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ; START TRANSACTION WITH CONSISTENT "+
		"SNAPSHOT"); err != nil {
		return err
	}
	defer connection.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	names, err := column(ctx, connection, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND "+
		"TABLE_TYPE='BASE TABLE' ORDER BY 1")
	if err != nil {
		return err
	}
	for _, name := range only {
		if !slices.Contains(names, name) {
			return fmt.Errorf("%q: %w", name, ErrNoTable)
		}
	}
	if len(only) > 0 {
		names = only
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
	if len(only) == 0 {
		if err := dumpPrograms(ctx, connection, out); err != nil {
			return err
		}
	}
	return out.Flush()
}

// programDelimiter ends statements that have semicolons inside, as the clients of MariaDB understand it.
const programDelimiter = "//END//"

var definer = regexp.MustCompile("DEFINER=`(?:[^`]|``)*`@`(?:[^`]|``)*` ")

// dumpPrograms writes views, triggers, procedures and functions. They are made again by whoever loads them.
func dumpPrograms(ctx context.Context, connection *sql.Conn, out *bufio.Writer) error {
	for _, kind := range []struct{ list, show string }{
		{"SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='FUNCTION' ORDER BY 1",
			"FUNCTION"},
		{"SELECT ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA=DATABASE() AND ROUTINE_TYPE='PROCEDURE' ORDER BY 1",
			"PROCEDURE"},
		{"SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA=DATABASE() ORDER BY 1", "VIEW"},
		{"SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY ACTION_ORDER, 1", "TRIGGER"},
		{"SELECT EVENT_NAME FROM information_schema.EVENTS WHERE EVENT_SCHEMA=DATABASE() ORDER BY 1", "EVENT"},
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
			if text == "" { // it was made by another user, who alone may read it
				continue
			}
			fmt.Fprintf(out, "DELIMITER %s\n%s\n%s\nDELIMITER ;\n", programDelimiter, withoutDefiner(text), programDelimiter)
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
	values := make([]sql.NullString, len(columns))
	if err := scanEach(rows, func(row []sql.NullString) { copy(values, row) }); err != nil {
		return "", err
	}
	for i, name := range columns {
		if strings.HasPrefix(name, "Create ") || strings.HasSuffix(name, "Original Statement") {
			return values[i].String, nil
		}
	}
	return "", fmt.Errorf("%s tells no statement", query)
}

// Change changes a statement of a dump before it is carried out.
type Change func(statement string, kind dump.Kind) (string, error)

// Load carries out a dump, a statement at a time, as whoever pool connects as: a site's own user. What the judge leaves out is left out;
// changes are made in their order. A view that needs another one waits for it.
func Load(ctx context.Context, pool *sql.DB, from io.Reader, judge *dump.Judge, changes ...Change) error {
	connection, err := pool.Conn(ctx) // the dump sets variables of its connection
	if err != nil {
		return err
	}
	defer connection.Close()
	defer connection.Raw(func(any) error { return driver.ErrBadConn }) // nobody gets it with what the dump has set
	// As the tools have it for their own dumps: tables come in any order, and rows that an older server took are taken.
	if _, err := connection.ExecContext(ctx, "SET SESSION sql_mode='NO_AUTO_VALUE_ON_ZERO', "+
		"foreign_key_checks=0, unique_checks=0"); err != nil {
		return err
	}
	l := loading{connection: connection, judge: judge, changes: changes}
	for scanner := rewrite.NewScanner(from); ; {
		text, err := scanner.Next()
		if errors.Is(err, io.EOF) {
			return l.makeLate(ctx)
		}
		if err != nil {
			return err
		}
		statement := unsafe.String(unsafe.SliceData(text), len(text)) // it is done with before the next is read
		if err := l.do(ctx, statement, false); err != nil {
			return err
		}
	}
}

// loading is one dump on its way into a database.
type loading struct {
	connection *sql.Conn
	judge      *dump.Judge
	changes    []Change
	late       []string // statements that wait for the dump's end, and the settings between them
	lateBytes  int
	waiting    []string // views that need others
}

// mostLate is how much of a dump may wait for its end, in bytes: definitions are short.
const mostLate = 64 << 20

// do carries out one statement, or keeps it for later.
func (l *loading) do(ctx context.Context, text string, late bool) error {
	statement, kind, err := l.judge.Statement(text)
	if err != nil || statement == "" {
		return err
	}
	if !late && (kind.Late() || kind == dump.Setting) {
		l.late, l.lateBytes = append(l.late, strings.Clone(text)), l.lateBytes+len(text)
		if l.lateBytes > mostLate {
			return fmt.Errorf("its views, routines and settings take more than %d MB; export the tables alone", mostLate>>20)
		}
		if kind.Late() {
			return nil
		}
	}
	for _, change := range l.changes {
		if change != nil && statement != "" {
			if statement, err = change(statement, kind); err != nil {
				return err
			}
		}
	}
	if statement == "" {
		return nil
	}
	_, err = l.connection.ExecContext(ctx, statement)
	if err != nil && kind == dump.View {
		l.waiting = append(l.waiting, strings.Clone(statement))
		return nil
	}
	if err != nil {
		return failedStatement(err, statement)
	}
	return nil
}

// makeLate carries out what waited, under the settings that stood before each.
func (l *loading) makeLate(ctx context.Context) error {
	l.judge.Again = true
	for _, text := range l.late {
		if err := l.do(ctx, text, true); err != nil {
			return err
		}
	}
	return makeViews(ctx, l.connection, l.waiting)
}

func failedStatement(err error, statement string) error {
	return fmt.Errorf("%w (in: %s)", err, strings.ToValidUTF8(statement[:min(len(statement), 80)], ""))
}

// makeViews makes views that need one another, as long as one more of them can be made.
func makeViews(ctx context.Context, connection *sql.Conn, views []string) error {
	for len(views) > 0 {
		left := []string{}
		var fault error
		for _, statement := range views {
			if _, err := connection.ExecContext(ctx, statement); err != nil {
				left, fault = append(left, statement), failedStatement(err, statement)
			}
		}
		if len(left) == len(views) {
			return fault
		}
		slices.Reverse(left) // or a long chain would be made one at a time
		views = left
	}
	return nil
}

var collation = regexp.MustCompile("(?i)(?:COLLATE|COLLATION)(?:_CONNECTION|_DATABASE)?(?: *= *| +)[`']?([a-z0-9]+_[a-z0-9_]+)")

// Fitting returns a change for Load that puts a collation which the server does not know in place of each one that it lacks: an older
// server knows fewer. told is called once for each.
func Fitting(ctx context.Context, server *engine.DatabaseServer, told func(from, to string)) Change {
	const fallback = "utf8mb4_unicode_520_ci"
	known := map[string]bool{fallback: true}
	return func(statement string, kind dump.Kind) (string, error) {
		if kind == dump.Rows {
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
	names, err := column(ctx, connection, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND "+
		"TABLE_TYPE='BASE TABLE' ORDER BY 1")
	if err != nil {
		return nil, err
	}
	sums := map[string]TableSum{}
	for _, name := range names {
		var sum TableSum
		err := eachRow(ctx, connection, name, "*", func(values []sql.NullString) {
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
	count, bytes := 0, 0 // of the statement
	columns, some, err := storedColumns(ctx, connection, name)
	if err != nil {
		return err
	}
	into := engine.Identifier(name)
	if some {
		into += " (" + columns + ")"
	}
	err = eachRow(ctx, connection, name, columns, func(values []sql.NullString) {
		switch {
		case count == rowsPerInsert || bytes > bytesPerInsert:
			fmt.Fprint(out, ";\n")
			count, bytes = 0, 0
			fallthrough
		case count == 0:
			fmt.Fprintf(out, "INSERT INTO %s VALUES\n(", into)
		default:
			fmt.Fprint(out, ",\n(")
		}
		count++
		for i, value := range values {
			bytes += len(value.String)
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

// storedColumns lists the columns of a table whose values are stored, and tells whether those are not all: what the server computes is
// not to be loaded, and what is invisible has to be named.
func storedColumns(ctx context.Context, connection *sql.Conn, table string) (columns string, some bool, err error) {
	rows, err := connection.QueryContext(ctx, "SELECT COLUMN_NAME, EXTRA FROM information_schema.COLUMNS WHERE TABLE_SCHEMA=DATABASE() AND "+
		"TABLE_NAME="+rewrite.Quote(table)+" ORDER BY ORDINAL_POSITION")
	if err != nil {
		return "", false, err
	}
	defer rows.Close()
	names := []string{}
	for rows.Next() {
		var name, extra string
		if err := rows.Scan(&name, &extra); err != nil {
			return "", false, err
		}
		some = some || strings.Contains(extra, "GENERATED") || strings.Contains(extra, "INVISIBLE")
		if !strings.Contains(extra, "GENERATED") {
			names = append(names, engine.Identifier(name))
		}
	}
	return strings.Join(names, ","), some, rows.Err()
}

// eachRow reads columns of a table as text.
func eachRow(ctx context.Context, connection *sql.Conn, name, columnList string, row func([]sql.NullString)) error {
	rows, err := connection.QueryContext(ctx, "SELECT "+columnList+" FROM "+engine.Identifier(name))
	if err != nil {
		return err
	}
	defer rows.Close()
	return scanEach(rows, row)
}

// scanEach reads rows one after the other, as texts.
func scanEach(rows *sql.Rows, row func([]sql.NullString)) error {
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
