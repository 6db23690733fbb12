package engine

import (
	"bytes"
	"context"
	"crypto/x509"
	"database/sql"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"vessik/internal/authority"
	"vessik/internal/cell"
	"vessik/internal/core/render"
	"vessik/internal/core/rewrite"
	"vessik/internal/core/site"
	"vessik/internal/proc"
)

// DatabaseServer is one running MariaDB. Its administrator is reachable through the unix socket only.
type DatabaseServer struct {
	Engine  *Engine
	Port    int // 0: socket only
	process *proc.Process
	held    *os.File // its listening socket; nil without a port
	admin   *sql.DB
	config  *mysql.Config
	stopped atomic.Bool
}

// restartWithin is for how long a connection waits for a server that was killed and comes back.
const restartWithin = 10 * time.Second

type atOnce struct{} // marks the context of whoever would not wait

// dial connects, and waits for a server that was killed: it is back within moments, and nothing has been asked of it yet.
func (d *DatabaseServer) dial(ctx context.Context, network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, restartWithin)
	defer cancel()
	var dialer net.Dialer
	for {
		connection, err := dialer.DialContext(ctx, network, address)
		down := errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, fs.ErrNotExist)
		if !down || d.stopped.Load() || ctx.Value(atOnce{}) != nil {
			return connection, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// DatabasePlace says where a server keeps its data and where it listens.
type DatabasePlace struct {
	Data     string // made when missing
	Run      string // socket, pid and temporary files
	Log      string
	Port     int
	Password string // the administrator's
	BufferMB int
	// Variables are server variables that the user set.
	Variables map[string]string
}

// StartDatabase prepares the data folder on first use and starts the server. The default root without a password and the anonymous
// users never exist on a server that listens: they go while it is prepared.
func StartDatabase(ctx context.Context, supervisor *proc.Supervisor, e *Engine, place DatabasePlace) (*DatabaseServer, error) {
	if err := os.MkdirAll(filepath.Join(place.Run, "nothing"), 0o700); err != nil { // all that a statement could read or write files in
		return nil, err
	}
	configuration := place.configuration(e)
	if site.CompareVersions(e.Version, "11.4") >= 0 { // since which servers make themselves an RSA key at each start, for up to a second
		configuration.Certificate = filepath.Join(place.Run, "certificate.pem")
		if err := writeCertificate(configuration.Certificate); err != nil {
			return nil, err
		}
	}
	if length := len(configuration.Socket); length > 100 {
		return nil, fmt.Errorf("the socket path %s is %d bytes long, and 100 is the most: choose a shorter home folder", configuration.Socket,
			length)
	}
	file := filepath.Join(place.Run, "mariadb.cnf")
	if err := os.WriteFile(file, []byte(configuration.String()), 0o600); err != nil {
		return nil, err
	}
	if _, err := os.Stat(place.Data); errors.Is(err, os.ErrNotExist) {
		if err := prepareData(ctx, supervisor, e, place, configuration); err != nil {
			return nil, fmt.Errorf("prepare the data folder of %s: %w", e.ID, err)
		}
	}
	d := &DatabaseServer{Engine: e, Port: place.Port, config: mysql.NewConfig()}
	d.config.User, d.config.Passwd, d.config.Net, d.config.Addr = "root", place.Password, "unix", configuration.Socket
	if err := d.config.Apply(mysql.Charset("utf8mb4", "utf8mb4_unicode_ci")); err != nil {
		return nil, err
	}
	d.config.DialFunc = d.dial
	d.config.MultiStatements, d.config.InterpolateParams = true, true
	d.admin = d.open("", false)
	c := place.cell(e)
	c.WriteFolders, c.Orderly = append(c.WriteFolders, place.Data), true
	var err error
	if place.Port != 0 {
		if d.held, err = holdPort(ctx, place.Port); err != nil {
			return nil, err
		}
		c.Listen = map[uint16]*os.File{uint16(place.Port): d.held}
	}
	d.process, err = supervisor.Start(ctx, proc.Spec{Name: e.ID, Program: e.Program("mariadbd"),
		Arguments: []string{"--defaults-file=" + file}, Env: []string{"PATH=/usr/bin:/bin", "TZ=UTC"},
		Dir: place.Run, Log: place.Log, Cell: c, StartWithin: 60 * time.Second, Grace: 60 * time.Second,
		Ready: func(ctx context.Context) error { return d.admin.PingContext(context.WithValue(ctx, atOnce{}, true)) }})
	if err != nil {
		d.close()
		return nil, err
	}
	return d, nil
}

// writeCertificate writes a certificate for this machine that nobody vouches for, and its key behind it: clients of such servers know by
// the password whose it is.
func writeCertificate(path string) error {
	made, err := authority.ForAddress(net.IPv4(127, 0, 0, 1), time.Now().AddDate(10, 0, 0))
	if err != nil {
		return err
	}
	key, err := x509.MarshalPKCS8PrivateKey(made.PrivateKey)
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(authority.PEM(made.Leaf), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...), 0o600)
}

// holdPort opens a listening socket that is handed to whoever serves it.
func holdPort(ctx context.Context, port int) (*os.File, error) {
	listener, err := listenOn(ctx, port)
	if err != nil {
		return nil, fmt.Errorf("port %d is held by %s: %w", port, Listener(port), ErrPortTaken)
	}
	defer listener.Close()
	return listener.File()
}

// cell is what a server has: its engine, and a folder for its socket and temporary files.
func (place DatabasePlace) cell(e *Engine) cell.Cell {
	return cell.Cell{Name: "database", ReadFolders: []string{e.Root()}, WriteFolders: []string{place.Run}, UnixSockets: true}
}

func (d *DatabaseServer) close() {
	d.admin.Close()
	if d.held != nil {
		d.held.Close()
	}
}

func (place DatabasePlace) configuration(e *Engine) render.MariaDB {
	return render.MariaDB{Base: firstFolder(e.Root(), "usr", "."),
		Share:   firstFolder(e.Root(), "usr/share/mysql", "usr/share/mariadb", "share/mysql", "share/mariadb", "share"),
		Plugins: firstFolder(e.Root(), "usr/lib/mysql/plugin", "usr/lib/*/libmariadb3/plugin", "lib/plugin", "lib/mysql/plugin"),
		Data:    place.Data, Dir: place.Run, Socket: filepath.Join(place.Run, "db.sock"), Port: place.Port, BufferMB: place.BufferMB,
		Variables: place.Variables}
}

// firstFolder is the first of an engine's folders that is there and holds something; folders differ from release to release.
func firstFolder(root string, patterns ...string) string {
	for _, pattern := range patterns {
		found, _ := filepath.Glob(filepath.Join(root, pattern))
		for _, path := range found {
			if entries, err := os.ReadDir(path); err == nil && len(entries) > 0 {
				return path
			}
		}
	}
	return filepath.Join(root, patterns[0])
}

// CheckVariables has the server itself read a configuration with the variables, and returns its own words where it refuses. Nothing
// is started.
func CheckVariables(ctx context.Context, supervisor *proc.Supervisor, e *Engine, place DatabasePlace) error {
	place.Run = filepath.Join(place.Run, "check")
	place.Data = filepath.Join(place.Run, "data")
	if err := errors.Join(os.MkdirAll(place.Data, 0o700), os.MkdirAll(filepath.Join(place.Run, "nothing"), 0o700)); err != nil {
		return err
	}
	defer os.RemoveAll(place.Run)
	file := filepath.Join(place.Run, "mariadb.cnf")
	if err := os.WriteFile(file, []byte(place.configuration(e).String()), 0o600); err != nil {
		return err
	}
	command, err := supervisor.Command(place.cell(e), e.Program("mariadbd"), "--defaults-file="+file, "--verbose", "--help")
	if err != nil {
		return err
	}
	command.Dir = place.Run
	out, err := command.Run(ctx)
	for line := range strings.Lines(string(out)) {
		if strings.Contains(line, "[ERROR]") || strings.Contains(line, "[Warning]") &&
			(strings.Contains(line, "option '") || strings.Contains(line, "adjusted to")) {
			_, words, _ := strings.Cut(line, "] ")
			return fmt.Errorf("%s refuses it: %s", e.ID, strings.TrimSpace(words))
		}
	}
	if err != nil {
		return fmt.Errorf("%s refuses it: %w", e.ID, err)
	}
	return nil
}

// prepareData makes the system tables in a folder of another name and renames it: a folder that is there is whole.
func prepareData(ctx context.Context, supervisor *proc.Supervisor, e *Engine, place DatabasePlace, configuration render.MariaDB) error {
	partial := place.Data + ".partial"
	if err := os.RemoveAll(partial); err != nil {
		return err
	}
	if err := os.MkdirAll(partial, 0o700); err != nil {
		return err
	}
	configuration.Data, configuration.Port = partial, 0
	file := filepath.Join(place.Run, "prepare.cnf")
	if err := os.WriteFile(file, []byte(configuration.String()), 0o600); err != nil {
		return err
	}
	defer os.Remove(file)
	script := "CREATE DATABASE mysql;\nUSE mysql;\nSET @auth_root_socket=NULL;\n"
	for _, name := range []string{"_system_tables.sql", "_performance_tables.sql", "_system_tables_data.sql", "maria_add_gis_sp_bootstrap.sql",
		"_sys_schema.sql"} {
		found, _ := filepath.Glob(filepath.Join(configuration.Share, "*"+name))
		if len(found) == 0 && name == "_sys_schema.sql" { // since MariaDB 10.6
			continue
		}
		if len(found) == 0 {
			return fmt.Errorf("%s does not bring *%s", e.ID, name)
		}
		text, err := os.ReadFile(found[0])
		if err != nil {
			return err
		}
		script += string(text) + "\n"
	}
	script += "USE mysql;\nDELETE FROM global_priv WHERE NOT (User='root' AND Host='localhost') AND User<>'mariadb.sys';\n" +
		"UPDATE global_priv SET Priv=json_set(Priv, '$.plugin', 'mysql_native_password', '$.authentication_string', PASSWORD(" +
		rewrite.Quote(place.Password) + ")) WHERE User='root';\n" +
		"DELETE FROM proxies_priv;\nDELETE FROM db;\n"
	c := place.cell(e)
	c.WriteFolders = append(c.WriteFolders, partial)
	command, err := supervisor.Command(c, e.Program("mariadbd"), "--defaults-file="+file, "--bootstrap", "--log-warnings=0")
	if err != nil {
		return err
	}
	command.Dir, command.Stdin = place.Run, strings.NewReader(script)
	if out, err := command.Run(ctx); err != nil {
		return fmt.Errorf("%w: %s", err, bytes.TrimSpace(out))
	}
	return os.Rename(partial, place.Data)
}

// OpenWithTimes returns a pool of administrator's connections that use one of the service's own databases, with dates as time.Time.
func (d *DatabaseServer) OpenWithTimes(database string) *sql.DB { return d.open(database, true) }

func (d *DatabaseServer) open(database string, parseTime bool) *sql.DB {
	config := d.config.Clone()
	config.DBName, config.ParseTime = database, parseTime
	connector, err := mysql.NewConnector(config)
	if err != nil {
		panic(err) // the configuration is ours
	}
	pool := sql.OpenDB(connector)
	pool.SetMaxIdleConns(8)
	return pool
}

// OpenAs is a pool of connections of a database's own user: everything that touches a site's data goes through it.
func (d *DatabaseServer) OpenAs(database site.Database) *sql.DB {
	config := d.config.Clone()
	config.Net, config.Addr, config.User, config.Passwd = "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(d.Port)), database.User,
		database.Password
	config.DBName = database.Name
	connector, err := mysql.NewConnector(config)
	if err != nil {
		panic(err) // the configuration is ours
	}
	return sql.OpenDB(connector)
}

// VariableNames are the names of all its server variables, in lower case.
func (d *DatabaseServer) VariableNames(ctx context.Context) (names []string, err error) {
	rows, err := d.admin.QueryContext(ctx, "SELECT LOWER(VARIABLE_NAME) FROM information_schema.SYSTEM_VARIABLES")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, rows.Err()
}

// Admin is the pool of administrator's connections without a database.
func (d *DatabaseServer) Admin() *sql.DB { return d.admin }

// RunningSince is when the server last became ready; zero while it is down.
func (d *DatabaseServer) RunningSince() time.Time { return d.process.RunningSince() }

// PID is the server's process id.
func (d *DatabaseServer) PID() int { return d.process.PID() }

// Stop ends the server in order.
func (d *DatabaseServer) Stop() {
	d.stopped.Store(true)
	d.admin.Close()
	d.process.Stop()
	d.close()
}

// Identifier quotes a name for SQL; Pattern does so for a grant, where _ and % would stand for other characters.
func Identifier(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func pattern(name string) string {
	return Identifier(strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`).Replace(name))
}

// CreateDatabase makes a database and its one user, who may use that database and nothing else, from 127.0.0.1 only.
func (d *DatabaseServer) CreateDatabase(ctx context.Context, name, user, password string) error {
	account := rewrite.Quote(user) + "@'127.0.0.1'"
	for _, statement := range []string{
		"CREATE DATABASE " + Identifier(name) + " CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci",
		"CREATE USER " + account + " IDENTIFIED BY " + rewrite.Quote(password) + " WITH MAX_USER_CONNECTIONS " + strconv.Itoa(mostConnections),
		"GRANT ALL PRIVILEGES ON " + pattern(name) + ".* TO " + account,
	} {
		if _, err := d.admin.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// mostConnections is how many connections one site may have at a time: its PHP has at most a dozen workers.
const mostConnections = 60

// Limit gives a user of an earlier version the limits that new ones are made with.
func (d *DatabaseServer) Limit(ctx context.Context, user string) error {
	_, err := d.admin.ExecContext(ctx, "ALTER USER IF EXISTS "+rewrite.Quote(user)+"@'127.0.0.1' WITH MAX_USER_CONNECTIONS "+
		strconv.Itoa(mostConnections))
	return err
}

// EmptyDatabase makes a database anew; its user keeps the right to it.
func (d *DatabaseServer) EmptyDatabase(ctx context.Context, name string) error {
	_, err := d.admin.ExecContext(ctx, "DROP DATABASE IF EXISTS "+Identifier(name)+"; CREATE DATABASE "+Identifier(name)+
		" CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
	return err
}

// DropDatabase takes both away; it bears their absence.
func (d *DatabaseServer) DropDatabase(ctx context.Context, name, user string) error {
	_, err := d.admin.ExecContext(ctx, "DROP USER IF EXISTS "+rewrite.Quote(user)+"@'127.0.0.1'; KILL CONNECTION USER "+rewrite.Quote(user)+
		"; DROP DATABASE IF EXISTS "+Identifier(name)) // which would wait for what the user's queries hold
	return err
}

// Missing lists which of the collations a server does not know.
func (d *DatabaseServer) Missing(ctx context.Context, collations []string) ([]string, error) {
	missing := []string{}
	for _, name := range collations {
		var count int
		if err := d.admin.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY WHERE ? IN "+
			"(COLLATION_NAME"+d.fullNames()+")", name).Scan(&count); err != nil {
			return nil, err
		}
		if count == 0 {
			missing = append(missing, name)
		}
	}
	return missing, nil
}

// fullNames is the column that has a collation's name with its character set, where the server has it (since 10.10).
func (d *DatabaseServer) fullNames() string {
	if d.Engine.atLeast("10.10") {
		return ", FULL_COLLATION_NAME"
	}
	return ""
}

// HasDatabase tells whether a database or a user of these names exists.
func (d *DatabaseServer) HasDatabase(ctx context.Context, name, user string) (bool, error) {
	var count int
	err := d.admin.QueryRowContext(ctx, "SELECT (SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME=?) + (SELECT COUNT(*) "+
		"FROM mysql.global_priv WHERE User=?)", name, user).Scan(&count)
	return count > 0, err
}
