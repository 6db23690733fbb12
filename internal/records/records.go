// Package records keeps sites, reservations, operations, steps and reports in MariaDB.
package records

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"

	"vessik/internal/core/check"
	"vessik/internal/core/plan"
	"vessik/internal/core/site"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Records is the database of one home.
type Records struct{ db *sql.DB }

// ErrNotFound says that there is no such site, operation or report.
var ErrNotFound = errors.New("not found")

// Database is the name of the records' database.
const Database = "vessik"

// Dial reaches the records on a server of the user's by a data source name, as go-sql-driver/mysql writes it. The database is made
// where the user may make it. One service at a time may use it: a named lock is held until release.
func Dial(ctx context.Context, dsn string) (pool *sql.DB, release func(), err error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
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
	if _, err := admin.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(config.DBName, "`", "``")+"` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"); err != nil {
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

// Open brings the records' tables up to date. admin reaches the server without a database, and is nil where that is there; pool is the
// records' own.
func Open(ctx context.Context, admin, pool *sql.DB) (*Records, error) {
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
	return &Records{db: pool}, nil
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
func (r *Records) Begin(ctx context.Context, operation Operation, reserve []site.Site, names []string, plans map[string][]plan.Step) (*Operation, error) {
	document, err := json.Marshal(details{operation.Change, operation.Trial, operation.Stencil})
	if err != nil {
		return nil, err
	}
	tx, err := r.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, fmt.Errorf("record the operation: %w", err)
	}
	defer tx.Rollback()
	now := time.Now().UTC().Truncate(time.Millisecond)
	for _, s := range reserve {
		if err := insertSite(ctx, tx, s); err != nil {
			return nil, err
		}
	}
	result, err := tx.ExecContext(ctx, "INSERT INTO operations (kind, state, keep_files, document, created_at) VALUES (?,?,?,?,?)", operation.Kind, OperationRunning, operation.KeepFiles, document, now)
	if err != nil {
		return nil, fmt.Errorf("record the operation: %w", err)
	}
	id, _ := result.LastInsertId()
	operation.ID, operation.State, operation.CreatedAt = strconv.FormatInt(id, 10), OperationRunning, now
	for position, name := range names {
		if _, err := tx.ExecContext(ctx, "INSERT INTO operation_sites (operation, site, position, state, problem) VALUES (?,?,?,?,'')", id, name, position, OperationRunning); err != nil {
			return nil, fmt.Errorf("record the operation: %w", err)
		}
		part := OperationSite{Site: name, State: OperationRunning}
		for i, step := range plans[name] {
			state := plan.Pending
			if step == plan.Reserve {
				state = plan.Done
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO steps (operation, site, position, step, state, note) VALUES (?,?,?,?,?,'')", id, name, i, step, state); err != nil {
				return nil, fmt.Errorf("record the plan: %w", err)
			}
			part.Steps = append(part.Steps, plan.Entry{Step: step, State: state})
		}
		operation.Sites = append(operation.Sites, part)
	}
	if err := tx.Commit(); err != nil {
		return nil, fmt.Errorf("record the operation: %w", err)
	}
	return &operation, nil
}

// details are what some kinds of operations carry.
type details struct {
	Change  *plan.Change `json:"change,omitempty"`
	Trial   *plan.Trial  `json:"trial,omitempty"`
	Stencil *plan.Saving `json:"stencil,omitempty"`
}

// SaveDetails writes what an operation has learned.
func (r *Records) SaveDetails(ctx context.Context, o Operation) error {
	document, err := json.Marshal(details{o.Change, o.Trial, o.Stencil})
	if err != nil {
		return err
	}
	err = r.set(ctx, "UPDATE operations SET document=? WHERE id=?", document, o.ID)
	return wrap(err, "record operation "+o.ID)
}

func insertSite(ctx context.Context, tx *sql.Tx, s site.Site) error {
	document, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO sites (name, state, document, created_at) VALUES (?,?,?,?)", s.Name, s.State, document, s.CreatedAt); err != nil {
		return taken(err, s.Name, "name", s.Name)
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
		if _, err := tx.ExecContext(ctx, "INSERT INTO reservations (kind, value, site) VALUES (?,?,?)", reservation[0], reservation[1], s.Name); err != nil {
			return taken(err, s.Name, reservation[0], reservation[1])
		}
	}
	return nil
}

func taken(err error, name, kind, value string) error {
	const duplicate, deadlock = 1062, 1213
	var fault *mysql.MySQLError
	if errors.As(err, &fault) && (fault.Number == duplicate || fault.Number == deadlock) {
		return &ErrTaken{name, kind, value}
	}
	return fmt.Errorf("reserve the %s of %s: %w", kind, name, err)
}

// set carries out a statement that comes to the same when it is carried out twice: so it is where the server was killed under it.
func (r *Records) set(ctx context.Context, statement string, values ...any) error {
	_, err := r.db.ExecContext(ctx, statement, values...)
	if errors.Is(err, mysql.ErrInvalidConn) {
		_, err = r.db.ExecContext(ctx, statement, values...)
	}
	return err
}

// SaveSite writes a site's state and document.
func (r *Records) SaveSite(ctx context.Context, s site.Site) error {
	document, err := json.Marshal(s)
	if err != nil {
		return err
	}
	err = r.set(ctx, "UPDATE sites SET state=?, document=? WHERE name=?", s.State, document, s.Name)
	return wrap(err, "record the site "+s.Name)
}

// Relocate writes a site's document and what it has reserved now, in one transaction.
func (r *Records) Relocate(ctx context.Context, s site.Site) error {
	document, err := json.Marshal(s)
	if err != nil {
		return err
	}
	tx, err := r.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("record the site %s: %w", s.Name, err)
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "DELETE FROM reservations WHERE site=?", s.Name); err != nil {
		return fmt.Errorf("record the site %s: %w", s.Name, err)
	}
	if err := reserve(ctx, tx, s); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "UPDATE sites SET state=?, document=? WHERE name=?", s.State, document, s.Name); err != nil {
		return fmt.Errorf("record the site %s: %w", s.Name, err)
	}
	return wrap(tx.Commit(), "record the site "+s.Name)
}

// Rename gives a site another name, with everything that is recorded of it, in one transaction; the operation that does so keeps the
// name that it began with.
func (r *Records) Rename(ctx context.Context, operation, old string, s site.Site) error {
	document, err := json.Marshal(s)
	if err != nil {
		return err
	}
	tx, err := r.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("rename the site %s: %w", old, err)
	}
	defer tx.Rollback()
	for _, each := range []struct {
		statement string
		arguments []any
	}{
		{"DELETE FROM reservations WHERE site=?", []any{old}},
		{"UPDATE sites SET name=?, document=? WHERE name=?", []any{s.Name, document, old}},
		{"UPDATE reports SET site=?, document=JSON_SET(document, '$.site', ?) WHERE site=?", []any{s.Name, s.Name, old}},
		{"UPDATE settings_history SET site=? WHERE site=?", []any{s.Name, old}},
		{"UPDATE operation_sites SET site=? WHERE site=? AND operation<>?", []any{s.Name, old, operation}},
		{"UPDATE steps SET site=? WHERE site=? AND operation<>?", []any{s.Name, old, operation}},
	} {
		if _, err := tx.ExecContext(ctx, each.statement, each.arguments...); err != nil {
			return taken(err, s.Name, "name", s.Name)
		}
	}
	if err := reserve(ctx, tx, s); err != nil {
		return err
	}
	return wrap(tx.Commit(), "rename the site "+old)
}

// SaveSettings adds an entry to a site's history.
func (r *Records) SaveSettings(ctx context.Context, e plan.SettingsEntry) error {
	document, err := json.Marshal(e.Settings)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, "INSERT INTO settings_history (site, who, document, created_at) VALUES (?,?,?,?)", e.Site, e.Who, document, time.Now().UTC())
	return wrap(err, "record the settings of "+e.Site)
}

// SettingsHistory returns a site's settings over time, the newest first.
func (r *Records) SettingsHistory(ctx context.Context, name string) ([]plan.SettingsEntry, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, site, who, created_at, document FROM settings_history WHERE site=? ORDER BY id DESC LIMIT 200", name)
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
	_, err = r.db.ExecContext(ctx, "INSERT INTO variables_history (engine, who, document, created_at) VALUES (?,?,?,?)", e.Engine, e.Who, document, time.Now().UTC())
	return wrap(err, "record the variables of "+e.Engine)
}

// VariablesHistory returns an engine's server variables over time, the newest first.
func (r *Records) VariablesHistory(ctx context.Context, engine string) ([]plan.VariablesEntry, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, engine, who, created_at, document FROM variables_history WHERE engine=? ORDER BY id DESC LIMIT 200", engine)
	return collect(rows, err, "read the variables of "+engine, func(scan func(...any) error) (e plan.VariablesEntry, err error) {
		var text []byte
		if err = scan(&e.ID, &e.Engine, &e.Who, &e.At, &text); err == nil {
			err = json.Unmarshal(text, &e.Variables)
		}
		return e, err
	})
}

// Forget removes a site, its reservations and its reports.
func (r *Records) Forget(ctx context.Context, name string) error {
	if err := r.set(ctx, "DELETE FROM reports WHERE site=?", name); err != nil {
		return fmt.Errorf("forget the reports of %s: %w", name, err)
	}
	if err := r.set(ctx, "DELETE FROM settings_history WHERE site=?", name); err != nil {
		return fmt.Errorf("forget the settings of %s: %w", name, err)
	}
	err := r.set(ctx, "DELETE FROM sites WHERE name=?", name)
	return wrap(err, "forget the site "+name)
}

// Sites returns all sites by name.
func (r *Records) Sites(ctx context.Context) ([]site.Site, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT document FROM sites ORDER BY name")
	return collect(rows, err, "read the sites", func(scan func(...any) error) (s site.Site, err error) {
		err = document(scan, &s)
		return s, err
	})
}

func document(scan func(...any) error, into any) error {
	var text []byte
	if err := scan(&text); err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// SaveStep writes how far a step is.
func (r *Records) SaveStep(ctx context.Context, operation, name string, position int, e plan.Entry) error {
	err := r.set(ctx, "UPDATE steps SET state=?, note=?, milliseconds=? WHERE operation=? AND site=? AND position=?", e.State, e.Note, e.Milliseconds, operation, name, position)
	return wrap(err, "record a step of "+name)
}

// SavePart writes how an operation ended for one site.
func (r *Records) SavePart(ctx context.Context, operation string, part OperationSite) error {
	err := r.set(ctx, "UPDATE operation_sites SET state=?, problem=? WHERE operation=? AND site=?", part.State, part.Problem, operation, part.Site)
	return wrap(err, "record the operation for "+part.Site)
}

// Finish writes that an operation is over.
func (r *Records) Finish(ctx context.Context, o Operation) error {
	err := r.set(ctx, "UPDATE operations SET state=?, finished_at=? WHERE id=?", o.State, o.FinishedAt, o.ID)
	return wrap(err, "record the end of operation "+o.ID)
}

// reportsKept is how many reports of one site are kept.
const reportsKept = 50

// SaveReport adds a report of one site.
func (r *Records) SaveReport(ctx context.Context, operation string, report check.SiteReport) error {
	text, err := json.Marshal(report)
	if err != nil {
		return err
	}
	result, err := r.db.ExecContext(ctx, "INSERT INTO reports (operation, site, document, created_at) VALUES (?,?,?,?)", operation, report.Site, text, time.Now().UTC())
	if err != nil {
		return fmt.Errorf("record the report of %s: %w", report.Site, err)
	}
	if id, _ := result.LastInsertId(); id%reportsKept == 0 {
		err = r.set(ctx, "DELETE FROM reports WHERE site=? AND id <= (SELECT id FROM (SELECT id FROM reports WHERE site=? ORDER BY id DESC LIMIT 1 OFFSET ?) AS old)", report.Site, report.Site, reportsKept)
	}
	return wrap(err, "clear old reports of "+report.Site)
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

// Operations returns the newest operations first; limit 0 returns all.
func (r *Records) Operations(ctx context.Context, limit int) ([]Operation, error) {
	if limit == 0 {
		limit = 1 << 30
	}
	return r.operations(ctx, "1=1 ORDER BY id DESC LIMIT ?", limit)
}

// Unfinished returns the operations that were being carried out, oldest first.
func (r *Records) Unfinished(ctx context.Context) ([]Operation, error) {
	return r.operations(ctx, "state=? ORDER BY id", OperationRunning)
}

// Operation returns one, with its steps and reports.
func (r *Records) Operation(ctx context.Context, id string) (Operation, error) {
	found, err := r.operations(ctx, "id=?", id)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("operation %s: %w", id, ErrNotFound)
	}
	if err != nil {
		return Operation{}, err
	}
	return found[0], nil
}

func (r *Records) operations(ctx context.Context, condition string, argument any) ([]Operation, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT id, kind, state, keep_files, created_at, finished_at, document FROM operations WHERE "+condition, argument)
	found, err := collect(rows, err, "read the operations", func(scan func(...any) error) (o Operation, err error) {
		var text []byte
		err = scan(&o.ID, &o.Kind, &o.State, &o.KeepFiles, &o.CreatedAt, &o.FinishedAt, &text)
		if err == nil && text != nil {
			var d details
			err = json.Unmarshal(text, &d)
			o.Change, o.Trial, o.Stencil = d.Change, d.Trial, d.Stencil
		}
		return o, err
	})
	if err != nil || len(found) == 0 {
		return found, err
	}
	index := map[string]*Operation{}
	ids := []any{}
	for i := range found {
		index[found[i].ID], ids = &found[i], append(ids, found[i].ID)
	}
	marks := strings.TrimSuffix(strings.Repeat("?,", len(ids)), ",")
	type row struct {
		operation string
		part      OperationSite
		entry     plan.Entry
		report    []byte
	}
	rows, err = r.db.QueryContext(ctx, "SELECT p.operation, p.site, p.state, p.problem FROM operation_sites p WHERE p.operation IN ("+marks+") ORDER BY p.operation, p.position", ids...)
	parts, err := collect(rows, err, "read the operations", func(scan func(...any) error) (p row, err error) {
		err = scan(&p.operation, &p.part.Site, &p.part.State, &p.part.Problem)
		return p, err
	})
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		index[p.operation].Sites = append(index[p.operation].Sites, p.part)
	}
	rows, err = r.db.QueryContext(ctx, "SELECT operation, site, document FROM reports WHERE operation IN ("+marks+") ORDER BY id", ids...)
	reports, err := collect(rows, err, "read the reports", func(scan func(...any) error) (p row, err error) {
		err = scan(&p.operation, &p.part.Site, &p.report)
		return p, err
	})
	if err != nil {
		return nil, err
	}
	for _, p := range reports {
		var report check.SiteReport
		if err := json.Unmarshal(p.report, &report); err != nil {
			return nil, err
		}
		sites := index[p.operation].Sites
		for i := range sites {
			renamed := index[p.operation].Change != nil && index[p.operation].Change.Rename == p.part.Site
			if sites[i].Site == p.part.Site || renamed {
				sites[i].Add(report)
			}
		}
	}
	rows, err = r.db.QueryContext(ctx, "SELECT operation, site, step, state, note, milliseconds FROM steps WHERE operation IN ("+marks+") ORDER BY operation, site, position", ids...)
	steps, err := collect(rows, err, "read the steps", func(scan func(...any) error) (p row, err error) {
		err = scan(&p.operation, &p.part.Site, &p.entry.Step, &p.entry.State, &p.entry.Note, &p.entry.Milliseconds)
		return p, err
	})
	for _, p := range steps {
		sites := index[p.operation].Sites
		for i := range sites {
			if sites[i].Site == p.part.Site {
				sites[i].Steps = append(sites[i].Steps, p.entry)
			}
		}
	}
	return found, err
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
