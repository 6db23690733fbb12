package cms

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/engine"
)

// OwnDefiners has everything in a site's database run in the name of the site's own user: earlier versions loaded dumps as the
// administrator, in whose name their routines then ran. Routines and events get another name beside them; views and triggers are made
// once more, by that user, as all that comes from a site. It returns what could not be made so, which is dropped, with what it was.
func OwnDefiners(ctx context.Context, d *engine.DatabaseServer, of site.Database) (dropped []string, err error) {
	own := of.User + "@127.0.0.1"
	for _, table := range []string{"proc", "event"} {
		statement := "UPDATE mysql." + table + " SET definer = ? WHERE db = ? AND definer <> ?"
		if _, err := d.Admin().ExecContext(ctx, statement, own, of.Name, own); err != nil {
			return nil, fmt.Errorf("give the routines of %s to its own user: %w", of.Name, err)
		}
	}
	pool := d.OpenAs(of)
	defer pool.Close()
	connection, err := pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer connection.Close()
	for kind, question := range map[string]string{
		"VIEW":    "SELECT TABLE_NAME, @@sql_mode FROM information_schema.VIEWS WHERE TABLE_SCHEMA = ? AND DEFINER <> ?",
		"TRIGGER": "SELECT TRIGGER_NAME, SQL_MODE FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? AND DEFINER <> ?"} {
		found, err := pairsOf(ctx, connection, question, of.Name, own)
		if err != nil {
			return nil, err
		}
		for _, one := range found {
			name := engine.Identifier(one[0])
			was, fault := madeAnew(ctx, connection, kind, name, one[1])
			if fault == nil {
				continue
			}
			if _, err := connection.ExecContext(ctx, "DROP "+kind+" IF EXISTS "+name); err != nil {
				return dropped, err
			}
			dropped = append(dropped, fmt.Sprintf("the %s %s (%v), which was: %s", strings.ToLower(kind), one[0], fault, was))
		}
	}
	return dropped, nil
}

// madeAnew makes a view or trigger once more as whoever is connected, in one step.
func madeAnew(ctx context.Context, connection *sql.Conn, kind, name, mode string) (was string, err error) {
	was, err = showCreate(ctx, connection, "SHOW CREATE "+kind+" "+name)
	if err != nil {
		return "", err
	}
	if _, err := connection.ExecContext(ctx, "SET SESSION sql_mode = "+rewrite.Quote(mode)); err != nil {
		return was, err
	}
	_, err = connection.ExecContext(ctx, "CREATE OR REPLACE "+withoutDefiner(strings.TrimPrefix(was, "CREATE ")))
	return was, err
}

// withoutDefiner leaves out the first clause that says in whose name something runs; what follows is the thing's own text.
func withoutDefiner(statement string) string {
	if at := definer.FindStringIndex(statement); at != nil {
		return statement[:at[0]] + statement[at[1]:]
	}
	return statement
}

func pairsOf(ctx context.Context, connection *sql.Conn, question string, arguments ...any) (pairs [][2]string, err error) {
	rows, err := connection.QueryContext(ctx, question, arguments...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var pair [2]string
		if err := rows.Scan(&pair[0], &pair[1]); err != nil {
			return nil, err
		}
		pairs = append(pairs, pair)
	}
	return pairs, rows.Err()
}
