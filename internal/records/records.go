// Package records keeps sites, reservations, operations, steps and reports in MariaDB.
package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
	"vessik/internal/seal"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Records is the database of one home.
type Records struct {
	db     *sql.DB
	key    seal.Key
	sealed sync.Map // secrets by site, as they are known to be recorded
}

// ErrNotFound says that there is no such site, operation or report.
var ErrNotFound = errors.New("not found")

// Database is the name of the records' database.
const Database = "vessik"

// Dial reaches the records on a server of the user's by a data source name, as go-sql-driver/mysql writes it. What goes over a
// network is encrypted, unless it may be plain. The database is made where the user may make it. One service at a time may use it: a
// named lock is held until release.
func Dial(ctx context.Context, dsn string, plain bool) (pool *sql.DB, release func(), err error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, nil, err
	}
	if err := encrypt(config, plain); err != nil {
		return nil, nil, err
	}
	config.ParseTime, config.MultiStatements, config.Loc = true, true, time.UTC
	if config.DBName == "" {
		config.DBName = Database
	}
	open := func(name string) (*sql.DB, error) {
		one := config.Clone()
		one.DBName = name
		connector, err := mysql.NewConnector(one)
		if err != nil {
			return nil, err
		}
		return sql.OpenDB(connector), nil
	}
	admin, err := open("")
	if err != nil {
		return nil, nil, err
	}
	defer admin.Close()
	if err := admin.PingContext(ctx); err != nil {
		return nil, nil, err
	}
	if _, err := admin.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(config.DBName, "`",
		"``")+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"); err != nil {
		return nil, nil, fmt.Errorf("make the database %s: %w", config.DBName, err)
	}
	pool, err = open(config.DBName)
	if err != nil {
		return nil, nil, err
	}
	holder, err := pool.Conn(ctx)
	var got sql.NullInt64
	if err == nil {
		err = holder.QueryRowContext(ctx, "SELECT GET_LOCK(?, 0)", "vessik records "+config.DBName).Scan(&got)
	}
	if err == nil && got.Int64 != 1 {
		err = fmt.Errorf("another service keeps its records in %s", config.DBName)
	}
	if err != nil {
		pool.Close()
		return nil, nil, err
	}
	ended, end := context.WithCancel(context.Background())
	go func() { // a server closes connections that say nothing for long, and the lock goes with them
		for ended.Err() == nil {
			select {
			case <-ended.Done():
			case <-time.After(time.Minute):
				holder.PingContext(ended)
			}
		}
		holder.Close()
		pool.Close()
	}()
	return pool, end, nil
}

// encrypt has a connection that leaves this machine be encrypted, to a server that proves its name.
func encrypt(config *mysql.Config, plain bool) error {
	host, _, err := net.SplitHostPort(config.Addr)
	address, failed := netip.ParseAddr(host)
	if plain || config.Net != "tcp" || err == nil && (host == "localhost" || failed == nil && address.IsLoopback()) {
		return nil
	}
	switch config.TLSConfig {
	case "":
		config.TLSConfig = "true"
	case "false", "preferred":
		return fmt.Errorf("tls=%s would let the records go over the network as they are; leave it out, or say -records-plain", config.TLSConfig)
	}
	return nil
}

// Open brings the records' tables up to date. admin reaches the server without a database, and is nil where that is there; pool is the
// records' own. key seals what is secret.
func Open(ctx context.Context, admin, pool *sql.DB, key seal.Key) (*Records, error) {
	if admin != nil {
		if _, err := admin.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS "+Database+" CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"); err != nil {
			return nil, fmt.Errorf("create the records: %w", err)
		}
	}
	folder, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	provider, err := goose.NewProvider(goose.DialectMySQL, pool, folder)
	if err != nil {
		return nil, fmt.Errorf("migrate the records: %w", err)
	}
	if _, err := provider.Up(ctx); err != nil {
		return nil, fmt.Errorf("migrate the records: %w", err)
	}
	return &Records{db: pool, key: key}, nil
}

// The records speak of operations as the package plan does.
type (
	Operation      = plan.Operation
	OperationSite  = plan.OperationSite
	OperationState = plan.OperationState
)

const (
	OperationRunning   = plan.OperationRunning
	OperationDone      = plan.OperationDone
	OperationFailed    = plan.OperationFailed
	OperationCancelled = plan.OperationCancelled
)

// ErrTaken says which reservation somebody else has.
type ErrTaken struct{ Site, Kind, Value string }

func (e *ErrTaken) Error() string {
	return fmt.Sprintf("%s: the %s %s was taken meanwhile", e.Site, e.Kind, e.Value)
}

// Begin writes an operation with its plan, and for new sites their reservations, in one transaction: all of it or nothing.
func (r *Records) Begin(ctx context.Context, operation Operation, reserve []site.Site, names []string,
	plans map[string][]plan.Step) (*Operation, error) {
	err := r.inOne(ctx, func(tx *sql.Tx) error {
		for _, s := range reserve {
			if err := r.insertSite(ctx, tx, s); err != nil {
				return err
			}
		}
		return wrap(insertOperation(ctx, tx, &operation, names, plans), "record the operation")
	})
	if err != nil {
		return nil, err
	}
	return &operation, nil
}

// insertOperation writes an operation with its plan, and tells it its number.
func insertOperation(ctx context.Context, tx *sql.Tx, operation *Operation, names []string, plans map[string][]plan.Step) error {
	now := time.Now().UTC().Truncate(time.Millisecond)
	result, err := tx.ExecContext(ctx, "INSERT INTO operations (kind, state, document, created_at) VALUES (?,?,?,?)",
		operation.Kind, OperationRunning, payloadOf(*operation), now)
	if err != nil {
		return err
	}
	id, _ := result.LastInsertId()
	operation.ID, operation.State, operation.CreatedAt, operation.Sites = strconv.FormatInt(id, 10), OperationRunning, now, nil
	for position, name := range names {
		if _, err := tx.ExecContext(ctx, "INSERT INTO operation_sites (operation, site, position, state, problem) VALUES (?,?,?,?,'')", id, name,
			position, OperationRunning); err != nil {
			return err
		}
		part := OperationSite{Site: name, State: OperationRunning}
		for i, step := range plans[name] {
			state := plan.Pending
			if step == plan.Reserve {
				state = plan.Done
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO steps (operation, site, position, step, state, note) VALUES (?,?,?,?,?,'')", id, name, i,
				step, state); err != nil {
				return err
			}
			part.Steps = append(part.Steps, plan.Entry{Step: step, State: state})
		}
		operation.Sites = append(operation.Sites, part)
	}
	return nil
}

// payloadOf is NULL for an operation that carries nothing.
func payloadOf(o Operation) any {
	if len(o.Payload) == 0 {
		return nil
	}
	return []byte(o.Payload)
}

// SavePayload writes what an operation carries by now.
func (r *Records) SavePayload(ctx context.Context, o Operation) error {
	err := r.set(ctx, "UPDATE operations SET document=? WHERE id=?", payloadOf(o), o.ID)
	return wrap(err, "record operation "+o.ID)
}

func (r *Records) insertSite(ctx context.Context, tx *sql.Tx, s site.Site) error {
	bare, taken := apart(s)
	document, err := json.Marshal(bare)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO sites (name, state, document, created_at) VALUES (?,?,?,?)", s.Name, s.State, document,
		s.CreatedAt); err != nil {
		return isTaken(err, s.Name, "name", s.Name)
	}
	if err := r.saveSecrets(ctx, tx, s.Name, taken); err != nil {
		return err
	}
	return reserve(ctx, tx, s)
}

func reserve(ctx context.Context, tx *sql.Tx, s site.Site) error {
	reservations := [][2]string{{"port", strconv.Itoa(s.Port)}, {"folder", s.Folder},
		{"database", s.Stack.Database + "/" + strings.ToLower(s.Database.Name)}, {"database user", s.Stack.Database + "/" + s.Database.User}}
	for _, domain := range s.Hosts() {
		reservations = append(reservations, [2]string{"domain", domain})
	}
	for _, forward := range s.Forwards {
		reservations = append(reservations, [2]string{"domain", forward.Domain})
	}
	for _, reservation := range reservations {
		if _, err := tx.ExecContext(ctx, "INSERT INTO reservations (kind, value, site) VALUES (?,?,?)", reservation[0], reservation[1],
			s.Name); err != nil {
			return isTaken(err, s.Name, reservation[0], reservation[1])
		}
	}
	return nil
}

func isTaken(err error, name, kind, value string) error {
	const duplicate = 1062
	var fault *mysql.MySQLError
	if errors.As(err, &fault) && fault.Number == duplicate {
		return &ErrTaken{name, kind, value}
	}
	return fmt.Errorf("reserve the %s of %s: %w", kind, name, err)
}

// set carries out a statement that comes to the same when it is carried out twice.
func (r *Records) set(ctx context.Context, statement string, values ...any) error {
	return repeated(func() error {
		_, err := r.db.ExecContext(ctx, statement, values...)
		return err
	})
}

// repeated does something again where the server undid it: once where it was killed under it, some times where it had it give way to
// somebody else's transaction (MariaDB's error 1213).
func repeated(do func() error) error {
	const deadlock, tries = 1213, 8
	killed := false
	for try := 1; ; try++ {
		err := do()
		var fault *mysql.MySQLError
		switch {
		case errors.Is(err, mysql.ErrInvalidConn) && !killed:
			killed = true
		case errors.As(err, &fault) && fault.Number == deadlock && try < tries:
		default:
			return err
		}
	}
}

// SaveSite writes a site's state and document.
func (r *Records) SaveSite(ctx context.Context, s site.Site) error {
	bare, taken := apart(s)
	document, err := json.Marshal(bare)
	if err != nil {
		return err
	}
	if r.areSealed(s.Name, taken) {
		err = r.set(ctx, "UPDATE sites SET state=?, document=? WHERE name=?", s.State, document, s.Name)
		return wrap(err, "record the site "+s.Name)
	}
	return r.write(ctx, s, func(*sql.Tx) error { return nil })
}

// Relocate writes a site's document and what it has reserved now, in one transaction.
func (r *Records) Relocate(ctx context.Context, s site.Site) error {
	return r.write(ctx, s, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM reservations WHERE site=?", s.Name); err != nil {
			return err
		}
		return reserve(ctx, tx, s)
	})
}

// write writes a site's document and its secrets in one transaction, after something else.
func (r *Records) write(ctx context.Context, s site.Site, before func(*sql.Tx) error) error {
	bare, taken := apart(s)
	document, err := json.Marshal(bare)
	if err != nil {
		return err
	}
	err = r.inOne(ctx, func(tx *sql.Tx) error {
		if err := before(tx); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE sites SET state=?, document=? WHERE name=?", s.State, document, s.Name); err != nil {
			return err
		}
		return r.saveSecrets(ctx, tx, s.Name, taken)
	})
	if err == nil {
		r.sealed.Store(s.Name, taken)
	}
	return wrap(err, "record the site "+s.Name)
}

// inOne does something in one transaction: all of it or nothing. What the server undid before the end is done again.
func (r *Records) inOne(ctx context.Context, do func(*sql.Tx) error) error {
	var tx *sql.Tx
	err := repeated(func() (err error) {
		tx, err = r.begin(ctx, do)
		return err
	})
	if err != nil {
		return err
	}
	return tx.Commit()
}

// begin does something in a transaction that is left open, unless it failed.
func (r *Records) begin(ctx context.Context, do func(*sql.Tx) error) (*sql.Tx, error) {
	tx, err := r.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	if err := do(tx); err != nil {
		return nil, errors.Join(err, rolledBack(tx))
	}
	return tx, nil
}

// rolledBack ends a transaction; one whose connection is gone has ended already.
func rolledBack(tx *sql.Tx) error {
	err := tx.Rollback()
	if errors.Is(err, sql.ErrTxDone) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, driver.ErrBadConn) {
		return nil
	}
	return err
}

// Rename gives a site another name, with everything that is recorded of it, in one transaction; the operation that does so keeps the
// name that it began with.
func (r *Records) Rename(ctx context.Context, operation, old string, s site.Site) error {
	err := r.write(ctx, s, func(tx *sql.Tx) error {
		for _, each := range []struct {
			statement string
			arguments []any
		}{
			{"DELETE FROM reservations WHERE site=?", []any{old}},
			{"UPDATE sites SET name=? WHERE name=?", []any{s.Name, old}},
			{"UPDATE reports SET part=? WHERE part=? AND operation<>?", []any{s.Name, old, operation}},
			{"UPDATE reports SET site=?, document=JSON_SET(document, '$.site', ?) WHERE site=?", []any{s.Name, s.Name, old}},
			{"UPDATE settings_history SET site=? WHERE site=?", []any{s.Name, old}},
			{"UPDATE operation_sites SET site=? WHERE site=? AND operation<>?", []any{s.Name, old, operation}},
			{"UPDATE steps SET site=? WHERE site=? AND operation<>?", []any{s.Name, old, operation}},
		} {
			if _, err := tx.ExecContext(ctx, each.statement, each.arguments...); err != nil {
				return isTaken(err, s.Name, "name", s.Name)
			}
		}
		return reserve(ctx, tx, s)
	})
	if err == nil {
		r.sealed.Delete(old)
	}
	return wrap(err, "rename the site "+old)
}

// SaveSettings adds an entry to a site's history.
func (r *Records) SaveSettings(ctx context.Context, e plan.SettingsEntry) error {
	document, err := json.Marshal(e.Settings)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, "INSERT INTO settings_history (site, who, document, created_at) VALUES (?,?,?,?)", e.Site, e.Who, document,
		time.Now().UTC())
	return wrap(err, "record the settings of "+e.Site)
}

// SettingsHistory returns a site's settings over time, the newest first.
func (r *Records) SettingsHistory(ctx context.Context, name string) ([]plan.SettingsEntry, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, site, who, created_at, document FROM settings_history WHERE site=? ORDER BY id DESC "+
		"LIMIT 200", name)
	return collect(rows, err, "read the settings of "+name, func(scan func(...any) error) (e plan.SettingsEntry, err error) {
		var text []byte
		if err = scan(&e.ID, &e.Site, &e.Who, &e.At, &text); err == nil {
			err = json.Unmarshal(text, &e.Settings)
		}
		return e, err
	})
}

// SaveVariables adds an entry to the history of a database engine's server variables.
func (r *Records) SaveVariables(ctx context.Context, e plan.VariablesEntry) error {
	document, err := json.Marshal(e.Variables)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, "INSERT INTO variables_history (engine, who, document, created_at) VALUES (?,?,?,?)", e.Engine, e.Who,
		document, time.Now().UTC())
	return wrap(err, "record the variables of "+e.Engine)
}

// VariablesHistory returns an engine's server variables over time, the newest first.
func (r *Records) VariablesHistory(ctx context.Context, engine string) ([]plan.VariablesEntry, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, engine, who, created_at, document FROM variables_history WHERE engine=? ORDER BY id "+
		"DESC LIMIT 200", engine)
	return collect(rows, err, "read the variables of "+engine, func(scan func(...any) error) (e plan.VariablesEntry, err error) {
		var text []byte
		if err = scan(&e.ID, &e.Engine, &e.Who, &e.At, &text); err == nil {
			err = json.Unmarshal(text, &e.Variables)
		}
		return e, err
	})
}

// Drop removes a site, its reservations, its secrets and its reports.
func (r *Records) Drop(ctx context.Context, name string) error {
	err := r.inOne(ctx, func(tx *sql.Tx) error {
		for _, statement := range []string{"DELETE FROM reports WHERE site=?", "DELETE FROM settings_history WHERE site=?",
			"DELETE FROM sites WHERE name=?"} {
			if _, err := tx.ExecContext(ctx, statement, name); err != nil {
				return err
			}
		}
		return nil
	})
	r.sealed.Delete(name)
	return wrap(err, "forget the site "+name)
}

// Sites returns all sites by name.
func (r *Records) Sites(ctx context.Context) ([]site.Site, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT document FROM sites ORDER BY name")
	sites, err := collect(rows, err, "read the sites", func(scan func(...any) error) (s site.Site, err error) {
		err = document(scan, &s)
		return s, err
	})
	if err != nil {
		return nil, err
	}
	return sites, r.withSecrets(ctx, sites)
}

func document(scan func(...any) error, into any) error {
	var text []byte
	if err := scan(&text); err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// reportsKept is how many reports of one site are kept.
const reportsKept = 50

// SaveReport adds a report of one site; the oldest goes where there are too many.
func (r *Records) SaveReport(ctx context.Context, operation string, report check.SiteReport) error {
	text, err := json.Marshal(report)
	if err != nil {
		return err
	}
	err = r.inOne(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO reports (operation, part, site, document, created_at) VALUES (?,?,?,?,?)",
			operation, report.Site, report.Site, text, time.Now().UTC())
		return err
	})
	if err != nil {
		return wrap(err, "record the report of "+report.Site)
	}
	// Apart from it: together, the reports of two sites would wait for each other.
	var newestOld int64
	err = r.db.QueryRowContext(ctx, "SELECT id FROM reports WHERE site=? ORDER BY id DESC LIMIT 1 OFFSET ?", report.Site, reportsKept).
		Scan(&newestOld)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		err = r.set(ctx, "DELETE FROM reports WHERE site=? AND id<=?", report.Site, newestOld)
	}
	return wrap(err, "forget old reports of "+report.Site)
}

// Prune forgets operations that ended before a time, and the oldest where there are more than so many; those that go on stay.
func (r *Records) Prune(ctx context.Context, before time.Time, most int) (pruned int64, err error) {
	result, err := r.db.ExecContext(ctx, "DELETE FROM operations WHERE state<>? AND (finished_at<? OR id <= "+
		"(SELECT id FROM (SELECT id FROM operations ORDER BY id DESC LIMIT 1 OFFSET ?) AS old))", OperationRunning, before, most)
	if err != nil {
		return 0, fmt.Errorf("prune the operations: %w", err)
	}
	return result.RowsAffected()
}

// LatestReports returns each site's newest report.
func (r *Records) LatestReports(ctx context.Context) (map[string]check.SiteReport, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT document FROM reports WHERE id IN (SELECT MAX(id) FROM reports GROUP BY site)")
	reports, err := collect(rows, err, "read the reports", func(scan func(...any) error) (report check.SiteReport, err error) {
		err = document(scan, &report)
		return report, err
	})
	bySite := map[string]check.SiteReport{}
	for _, report := range reports {
		bySite[report.Site] = report
	}
	return bySite, err
}

// collect reads all rows of a query.
func collect[T any](rows *sql.Rows, err error, doing string, read func(scan func(...any) error) (T, error)) ([]T, error) {
	if err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	defer rows.Close()
	found := []T{}
	for rows.Next() {
		item, err := read(rows.Scan)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", doing, err)
		}
		found = append(found, item)
	}
	return found, wrap(rows.Err(), doing)
}

func wrap(err error, doing string) error {
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	return nil
}
